// Package store keeps assets in one SQLite file.
package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"gorm.io/gorm"

	"crust/internal/core/bake"
	"crust/internal/core/mesh"
)

// Asset is one thing being textured.
type Asset struct {
	ID        uint `gorm:"primaryKey"`
	Name      string
	Split     string
	Size      int    // working size of the sets in px
	Settings  string // bake settings as JSON
	Intake    string // intake settings as JSON, empty for the defaults
	ModelName string
	HighName  string // a line each
	Shipping  string // how it is delivered as JSON, empty for the defaults
	Picture   []byte // PNG for the card
	Created   time.Time
	Changed   time.Time
}

// Blob is a file of an asset, kept as compressed chunks.
type Blob struct {
	ID      uint `gorm:"primaryKey"`
	AssetID uint `gorm:"index"`
	Kind    string
	Name    string
	Bytes   int64
}

// Chunk is a piece of a blob, zstd-compressed.
type Chunk struct {
	BlobID uint `gorm:"primaryKey;autoIncrement:false"`
	N      int  `gorm:"primaryKey;autoIncrement:false"`
	Data   []byte
}

// Baked describes a baked map; its texels are a blob.
type Baked struct {
	AssetID  uint   `gorm:"primaryKey;autoIncrement:false"`
	Set      string `gorm:"primaryKey"`
	Kind     string `gorm:"primaryKey"`
	Size     int
	Channels int
	Stamp    string // hash of what it was baked from
	Brought  bool   // brought in from a file
	Rays     int64
	Missed   int64
	Seconds  float64
	Low      float64 // what 0 and 1 stand for in metres, for maps of lengths
	High     float64
	Legend   string // of an ID map, as JSON
	Box      string // of a position map, as JSON
	Made     time.Time
	BlobID   uint
}

// Delivery is one run of a preset: a folder of files, or a zip in the data folder.
type Delivery struct {
	ID       uint `gorm:"primaryKey"`
	AssetID  uint `gorm:"index"`
	Made     time.Time
	Preset   string
	Title    string
	Size     int
	Note     string // delivery.json
	Folder   string // where its files were written, with its full path; deliveries of before have a zip too
	Shipping string // what it was made with as JSON, empty for those of before
	Changed  int    // how many files were written anew
	Pending  bool   // it is being written
}

// Store is the open data folder.
type Store struct {
	db    *gorm.DB // writes, over one connection
	read  *gorm.DB
	lock  *lock  // nil where the folder is only looked at
	looks string // why nothing may be changed; empty where it may
	Dir   string
}

// ErrNone says that the thing asked for is not there.
var ErrNone = errors.New("it is not there any more")

// Fault is a failure of the data folder itself, not of what was asked.
type Fault struct{ Err error }

func (f *Fault) Error() string {
	return fmt.Sprintf("the data folder could not be read or written (%v); make room on its disk and check that it may be written, then try again", f.Err)
}

func (f *Fault) Unwrap() error { return f.Err }

// fault, deferred, tells what is not there from what failed.
func (s *Store) fault(err *error) {
	var f *Fault
	var w *Written
	var l *Looking
	switch {
	case *err == nil || errors.Is(*err, ErrNone) || errors.As(*err, &f) || errors.As(*err, &w) || errors.As(*err, &l):
	case errors.Is(*err, gorm.ErrRecordNotFound):
		*err = ErrNone
	case s.looks != "" && strings.Contains((*err).Error(), "readonly"):
		*err = &Looking{s.looks}
	default:
		*err = &Fault{*err}
	}
}

// Assets lists all assets, the one changed last first, without their pictures.
func (s *Store) Assets() (out []Asset, err error) {
	defer s.fault(&err)
	err = s.read.Omit("Picture").Order("changed desc, id desc").Find(&out).Error
	return out, err
}

// Asset finds one asset.
func (s *Store) Asset(id uint) (a *Asset, err error) {
	defer s.fault(&err)
	a = new(Asset)
	if err := s.read.First(a, id).Error; err != nil {
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return nil, fmt.Errorf("asset %d: %w", id, ErrNone)
		}
		return nil, err
	}
	return a, nil
}

// File is a named file that goes with an asset.
type File = mesh.File

// Create stores a new asset with its model, the files beside it and its first journal step.
func (s *Store) Create(a *Asset, model File, beside []File, document string, strokes ...Stroke) (err error) {
	defer s.fault(&err)
	a.Created, a.Changed = time.Now(), time.Now()
	return s.db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(a).Error; err != nil {
			return err
		}
		if err := putBlob(tx, a.ID, "model", model); err != nil {
			return err
		}
		for _, f := range beside {
			if err := putBlob(tx, a.ID, "beside", f); err != nil {
				return err
			}
		}
		for i := range strokes {
			strokes[i].AssetID = a.ID
		}
		if len(strokes) > 0 {
			if err := tx.CreateInBatches(strokes, 500).Error; err != nil {
				return err
			}
		}
		return tx.Create(&Snapshot{a.ID, 0, document}).Error
	})
}

// there fails when the asset is not there, so that nothing is left behind of one that was deleted.
func there(tx *gorm.DB, asset uint) error {
	var n int64
	if err := tx.Model(&Asset{}).Where("id = ?", asset).Count(&n).Error; err != nil {
		return err
	}
	if n == 0 {
		return fmt.Errorf("asset %d: %w", asset, ErrNone)
	}
	return nil
}

// Update changes columns of an asset and marks it changed.
func (s *Store) Update(id uint, columns map[string]any) (err error) {
	defer s.fault(&err)
	columns["changed"] = time.Now()
	return s.db.Model(&Asset{}).Where("id = ?", id).Updates(columns).Error
}

// Delete removes an asset and everything that belongs to it.
func (s *Store) Delete(id uint) (err error) {
	defer s.fault(&err)
	err = s.db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM chunks WHERE blob_id IN (SELECT id FROM blobs WHERE asset_id = ?)", id).Error; err != nil {
			return err
		}
		for _, t := range []any{&Blob{}, &Baked{}, &Op{}, &Snapshot{}, &Delivery{}, &Picture{}, &Keepsake{}, &Stroke{}} {
			if err := tx.Where("asset_id = ?", id).Delete(t).Error; err != nil {
				return err
			}
		}
		return tx.Delete(&Asset{}, id).Error
	})
	if err == nil {
		err = os.RemoveAll(s.deliveries(id))
	}
	return err
}

// chunkBytes is the size of a chunk before compression.
const chunkBytes = 4 << 20

func putBlob(tx *gorm.DB, asset uint, kind string, f File) error {
	_, err := addBlob(tx, asset, kind, f.Name, f.Data)
	return err
}

func addBlob(tx *gorm.DB, asset uint, kind, name string, data []byte) (uint, error) {
	pieces, err := squeeze(data)
	if err != nil {
		return 0, err
	}
	return addPieces(tx, &Blob{AssetID: asset, Kind: kind, Name: name, Bytes: int64(len(data))}, pieces)
}

// squeeze compresses data in chunks.
func squeeze(data []byte) (out [][]byte, err error) {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer enc.Close()
	for len(data) > 0 {
		k := min(len(data), chunkBytes)
		out = append(out, enc.EncodeAll(data[:k], nil))
		data = data[k:]
	}
	return out, nil
}

func addPieces(tx *gorm.DB, b *Blob, pieces [][]byte) (uint, error) {
	if err := tx.Create(b).Error; err != nil {
		return 0, err
	}
	for n, p := range pieces {
		if err := tx.Create(&Chunk{b.ID, n, p}).Error; err != nil {
			return 0, err
		}
	}
	return b.ID, nil
}

func dropBlobs(tx *gorm.DB, where string, args ...any) error {
	if err := tx.Exec("DELETE FROM chunks WHERE blob_id IN (SELECT id FROM blobs WHERE "+where+")", args...).Error; err != nil {
		return err
	}
	return tx.Where(where, args...).Delete(&Blob{}).Error
}

func blob(tx *gorm.DB, id uint, size int64) ([]byte, error) {
	dec, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(64<<20))
	if err != nil {
		return nil, err
	}
	defer dec.Close()
	out := make([]byte, 0, size)
	var piece []byte
	for n := 0; int64(len(out)) < size; n++ {
		c := new(Chunk)
		if err := tx.Where("blob_id = ? AND n = ?", id, n).First(c).Error; err != nil {
			return nil, fmt.Errorf("chunk %d of file %d: %w", n, id, err)
		}
		// Chunk by chunk: the decoder's limit counts what stands before, too.
		if piece, err = dec.DecodeAll(c.Data, piece[:0]); err != nil {
			return nil, fmt.Errorf("chunk %d of file %d is damaged: %w", n, id, err)
		}
		out = append(out, piece...)
	}
	return out, nil
}

// Files returns an asset's files of a kind: “model”, “high” or “beside”.
func (s *Store) Files(asset uint, kind string) (out []File, err error) {
	defer s.fault(&err)
	var blobs []Blob
	err = s.read.Transaction(func(tx *gorm.DB) error {
		if err := tx.Where("asset_id = ? AND kind = ?", asset, kind).Order("id").Find(&blobs).Error; err != nil {
			return err
		}
		for _, b := range blobs {
			data, err := blob(tx, b.ID, b.Bytes)
			if err != nil {
				return err
			}
			out = append(out, File{Name: b.Name, Data: data})
		}
		return nil
	})
	return out, err
}

// SetHigh stores the high-poly files in place of those before, and names them in the asset.
func (s *Store) SetHigh(asset uint, files, beside []File) (err error) {
	defer s.fault(&err)
	return s.db.Transaction(func(tx *gorm.DB) error {
		if err := there(tx, asset); err != nil {
			return err
		}
		if err := dropBlobs(tx, "asset_id = ? AND kind IN ('high', 'high-beside')", asset); err != nil {
			return err
		}
		var names []string
		for _, f := range files {
			if err := putBlob(tx, asset, "high", f); err != nil {
				return err
			}
			names = append(names, f.Name)
		}
		for _, b := range beside {
			if err := putBlob(tx, asset, "high-beside", b); err != nil {
				return err
			}
		}
		return tx.Model(&Asset{}).Where("id = ?", asset).Updates(map[string]any{"high_name": strings.Join(names, "\n"), "changed": time.Now()}).Error
	})
}

// AddLayout stores a UV channel made for the model, and changes the asset's columns with it.
func (s *Store) AddLayout(asset uint, name string, data []byte, columns map[string]any) (err error) {
	defer s.fault(&err)
	columns["changed"] = time.Now()
	return s.db.Transaction(func(tx *gorm.DB) error {
		if err := there(tx, asset); err != nil {
			return err
		}
		if err := putBlob(tx, asset, "layout", File{Name: name, Data: data}); err != nil {
			return err
		}
		return tx.Model(&Asset{}).Where("id = ?", asset).Updates(columns).Error
	})
}

// ReplaceModel stores a corrected model in place of the one before, and changes the asset's columns with
// it. Layouts that do not fit it go.
func (s *Store) ReplaceModel(asset uint, model File, beside []File, keepLayouts bool, columns map[string]any) (err error) {
	defer s.fault(&err)
	columns["changed"] = time.Now()
	return s.db.Transaction(func(tx *gorm.DB) error {
		if err := there(tx, asset); err != nil {
			return err
		}
		kinds := []string{"model", "beside"}
		if !keepLayouts {
			kinds = append(kinds, "layout")
		}
		if err := dropBlobs(tx, "asset_id = ? AND kind IN ?", asset, kinds); err != nil {
			return err
		}
		if err := putBlob(tx, asset, "model", model); err != nil {
			return err
		}
		for _, f := range beside {
			if err := putBlob(tx, asset, "beside", f); err != nil {
				return err
			}
		}
		return tx.Model(&Asset{}).Where("id = ?", asset).Updates(columns).Error
	})
}

// PutMap stores a baked map in place of the one before.
func (s *Store) PutMap(asset uint, m *bake.Map, stamp string, brought bool) (err error) {
	defer s.fault(&err)
	data := parted(m)
	pieces, err := squeeze(data)
	if err != nil {
		return err
	}
	return s.db.Transaction(func(tx *gorm.DB) error {
		if err := there(tx, asset); err != nil {
			return err
		}
		old := new(Baked)
		err := tx.Where("asset_id = ? AND `set` = ? AND kind = ?", asset, m.Set, m.Kind).First(old).Error
		if err == nil {
			if err := dropBlobs(tx, "id = ?", old.BlobID); err != nil {
				return err
			}
		} else if !errors.Is(err, gorm.ErrRecordNotFound) {
			return err
		}
		id, err := addPieces(tx, &Blob{AssetID: asset, Kind: "map", Name: m.Set + "_" + m.Kind, Bytes: int64(len(data))}, pieces)
		if err != nil {
			return err
		}
		legend, err := json.Marshal(m.Legend)
		if err != nil {
			return err
		}
		box := ""
		if m.Box != (bake.Corners{}) {
			b, err := json.Marshal(m.Box)
			if err != nil {
				return err
			}
			box = string(b)
		}
		return tx.Save(&Baked{Low: m.Low, High: m.High, Legend: string(legend), Box: box,
			AssetID: asset, Set: m.Set, Kind: m.Kind, Size: m.Size, Channels: m.Channels, Stamp: stamp, Brought: brought,
			Rays: m.Rays, Missed: m.Missed, Seconds: m.Seconds, Made: time.Now(), BlobID: id}).Error
	})
}

// Maps lists an asset's baked maps.
func (s *Store) Maps(asset uint) (out []Baked, err error) {
	defer s.fault(&err)
	err = s.read.Where("asset_id = ?", asset).Find(&out).Error
	return out, err
}

// Map reads a baked map's texels, and what is known of it, as they are now.
func (s *Store) Map(asset uint, set, kind string) (m *bake.Map, err error) {
	defer s.fault(&err)
	var b Baked
	var data []byte
	err = s.read.Transaction(func(tx *gorm.DB) error {
		if err := tx.Where("asset_id = ? AND `set` = ? AND kind = ?", asset, set, kind).First(&b).Error; err != nil {
			return err
		}
		var err error
		data, err = blob(tx, b.BlobID, int64(2*b.Size*b.Size*b.Channels))
		return err
	})
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = ErrNone
	}
	if err != nil {
		return nil, fmt.Errorf("map %s of set “%s”: %w", kind, set, err)
	}
	n := b.Size * b.Size * b.Channels
	m = &bake.Map{Set: b.Set, Kind: b.Kind, Size: b.Size, Channels: b.Channels, Pix: make([]uint16, n), Rays: b.Rays, Missed: b.Missed, Seconds: b.Seconds, Low: b.Low, High: b.High}
	if b.Legend != "" {
		if err := json.Unmarshal([]byte(b.Legend), &m.Legend); err != nil {
			return nil, fmt.Errorf("the legend of map %s of set “%s”: %w", b.Kind, b.Set, err)
		}
	}
	if b.Box != "" {
		if err := json.Unmarshal([]byte(b.Box), &m.Box); err != nil {
			return nil, fmt.Errorf("the box of map %s of set “%s”: %w", b.Kind, b.Set, err)
		}
	}
	for i := range m.Pix {
		m.Pix[i] = uint16(data[i]) | uint16(data[n+i])<<8
		if i >= b.Channels {
			m.Pix[i] += m.Pix[i-b.Channels]
		}
	}
	return m, nil
}

// DropMaps removes an asset's baked maps.
func (s *Store) DropMaps(asset uint) (err error) {
	defer s.fault(&err)
	return s.db.Transaction(func(tx *gorm.DB) error {
		if err := dropBlobs(tx, "asset_id = ? AND kind = 'map'", asset); err != nil {
			return err
		}
		return tx.Where("asset_id = ?", asset).Delete(&Baked{}).Error
	})
}

func (s *Store) deliveries(asset uint) string {
	return filepath.Join(s.Dir, "deliveries", fmt.Sprint(asset))
}

// making begins the names of what is in the making in the folder of deliveries.
const making = "making-"

// Aside is a folder of the data folder in which files of a delivery of an asset can be made.
func (s *Store) Aside(asset uint) (string, error) {
	dir := s.deliveries(asset)
	return dir, os.MkdirAll(dir, 0o755)
}

// Sweep drops what was in the making when a server was ended. Only the one server of a data folder calls it, at its start.
func (s *Store) Sweep() {
	if s.looks != "" {
		return
	}
	left, _ := filepath.Glob(filepath.Join(s.Dir, "deliveries", "*", making+"*"))
	more, _ := filepath.Glob(filepath.Join(s.Dir, "deliveries", "*", ".writing-*"))
	for _, name := range append(left, more...) {
		os.RemoveAll(name)
	}
	s.settle()
}

// settle looks at deliveries that were being written: those whose files are all there are done, the others never were. Zips that
// belong to none are deleted.
func (s *Store) settle() {
	var all []Delivery
	if s.read.Find(&all).Error != nil {
		return
	}
	known := map[string]bool{}
	for i := range all {
		d := &all[i]
		if d.Pending {
			there := false
			if d.Folder == "" {
				_, err := os.Stat(s.ZipOf(d))
				there = err == nil
			} else if note, err := os.ReadFile(filepath.Join(d.Folder, "delivery.json")); err == nil {
				there = string(note) == d.Note
			}
			if d.Pending = false; !there {
				s.db.Delete(d)
				continue
			}
			s.db.Save(d)
		}
		known[s.ZipOf(d)] = true
	}
	zips, _ := filepath.Glob(filepath.Join(s.Dir, "deliveries", "*", "*.zip"))
	for _, z := range zips {
		if !known[z] {
			os.Remove(z)
		}
	}
}

// Folders lists where deliveries were written or were to be.
func (s *Store) Folders() (out []string, err error) {
	defer s.fault(&err)
	err = s.read.Model(&Delivery{}).Where("folder <> ''").Distinct().Pluck("folder", &out).Error
	return out, err
}

// AddDelivery records a delivery. write puts its files in place, and is given the place of its zip; it may leave that out. A server
// that ends meanwhile leaves a delivery that is pending: see Sweep.
func (s *Store) AddDelivery(d *Delivery, write func(zip string) error) (err error) {
	defer s.fault(&err)
	d.Made, d.Pending = time.Now(), true
	if err := s.MayChange(); err != nil {
		return err
	}
	if _, err := s.Aside(d.AssetID); err != nil {
		return err
	}
	err = s.db.Transaction(func(tx *gorm.DB) error {
		if err := there(tx, d.AssetID); err != nil {
			return err
		}
		return tx.Create(d).Error
	})
	if err != nil {
		return err
	}
	if err := write(s.ZipOf(d)); err != nil {
		s.db.Delete(d)
		os.Remove(s.ZipOf(d))
		return &Written{err}
	}
	d.Pending = false
	return s.db.Save(d).Error
}

// Written is an error of the one that writes a delivery's files, not of the data folder.
type Written struct{ Err error }

func (w *Written) Error() string { return w.Err.Error() }
func (w *Written) Unwrap() error { return w.Err }

// DropDelivery forgets a delivery and deletes its zip; files in folders stay.
func (s *Store) DropDelivery(asset, id uint) (err error) {
	defer s.fault(&err)
	d := &Delivery{ID: id, AssetID: asset}
	gone := s.db.Where("asset_id = ?", asset).Delete(d)
	if gone.Error != nil {
		return gone.Error
	}
	if gone.RowsAffected == 0 {
		return ErrNone
	}
	if err := os.Remove(s.ZipOf(d)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// ZipOf is where a delivery's zip lies.
func (s *Store) ZipOf(d *Delivery) string {
	return filepath.Join(s.deliveries(d.AssetID), fmt.Sprintf("%d.zip", d.ID))
}

// Deliveries lists an asset's deliveries, the newest first.
func (s *Store) Deliveries(asset uint) (out []Delivery, err error) {
	defer s.fault(&err)
	err = s.read.Where("asset_id = ? AND NOT pending", asset).Order("id desc").Find(&out).Error
	return out, err
}

// Used is the asset's size on disk in bytes: its files, maps, journal and deliveries.
func (s *Store) Used(asset uint) (n int64, err error) {
	defer s.fault(&err)
	for _, q := range []string{
		"SELECT COALESCE(SUM(LENGTH(data)), 0) FROM chunks WHERE blob_id IN (SELECT id FROM blobs WHERE asset_id = ?)",
		"SELECT COALESCE(SUM(LENGTH(document)), 0) FROM snapshots WHERE asset_id = ?",
		"SELECT COALESCE(SUM(LENGTH(ops)), 0) FROM ops WHERE asset_id = ?",
	} {
		var k int64
		if err := s.read.Raw(q, asset).Scan(&k).Error; err != nil {
			return 0, err
		}
		n += k
	}
	zips, _ := filepath.Glob(filepath.Join(s.deliveries(asset), "*.zip"))
	for _, z := range zips {
		if info, err := os.Stat(z); err == nil {
			n += info.Size()
		}
	}
	return n, nil
}
