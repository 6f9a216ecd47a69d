package store

import (
	"time"

	"gorm.io/gorm"

	"crust/internal/core/bake"
)

// Whole is all that belongs to an asset, but for its undo history and its deliveries.
type Whole struct {
	Asset     Asset
	Files     map[string][]File // by kind
	Pictures  []Picture
	PicFiles  []File // of the pictures
	Maps      []Baked
	Document  string // of the strata
	Strokes   []Stroke
	Keepsakes []Keepsake
}

// FileKinds are the kinds of files that an asset has besides its maps and pictures.
var FileKinds = []string{"model", "beside", "layout", "high", "high-beside"}

// Restore stores a whole asset anew, at once or not at all. Its pictures get numbers of their own; finish is told of them before
// the documents are stored. mapOf reads the texels of a map.
func (s *Store) Restore(w *Whole, mapOf func(i int) (*bake.Map, error), finish func(w *Whole) error) (err error) {
	defer s.fault(&err)
	now := time.Now()
	w.Asset.ID, w.Asset.Created, w.Asset.Changed = 0, now, now
	return s.db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(&w.Asset).Error; err != nil {
			return err
		}
		id := w.Asset.ID
		for _, kind := range FileKinds {
			for _, f := range w.Files[kind] {
				if err := putBlob(tx, id, kind, f); err != nil {
					return err
				}
			}
		}
		for i := range w.Pictures {
			p := &w.Pictures[i]
			p.ID, p.AssetID = 0, id
			var err error
			if p.BlobID, err = addBlob(tx, id, "picture", w.PicFiles[i].Name, w.PicFiles[i].Data); err != nil {
				return err
			}
			if err := tx.Create(p).Error; err != nil {
				return err
			}
		}
		for i := range w.Maps {
			m, err := mapOf(i)
			if err != nil {
				return &Written{err}
			}
			if err := putMap(tx, id, m, &w.Maps[i]); err != nil {
				return err
			}
		}
		if err := finish(w); err != nil {
			return &Written{err}
		}
		for i := range w.Strokes {
			w.Strokes[i].AssetID = id
		}
		if len(w.Strokes) > 0 {
			if err := tx.CreateInBatches(w.Strokes, 500).Error; err != nil {
				return err
			}
		}
		for i := range w.Keepsakes {
			w.Keepsakes[i].ID, w.Keepsakes[i].AssetID = 0, id
			if err := tx.Create(&w.Keepsakes[i]).Error; err != nil {
				return err
			}
		}
		return tx.Create(&Snapshot{id, 0, w.Document}).Error
	})
}

// putMap stores a map's texels, and its row as it was.
func putMap(tx *gorm.DB, asset uint, m *bake.Map, row *Baked) error {
	data := parted(m)
	pieces, err := squeeze(data)
	if err != nil {
		return err
	}
	id, err := addPieces(tx, &Blob{AssetID: asset, Kind: "map", Name: m.Set + "_" + m.Kind, Bytes: int64(len(data))}, pieces)
	if err != nil {
		return err
	}
	row.AssetID, row.BlobID, row.Size, row.Channels = asset, id, m.Size, m.Channels
	return tx.Save(row).Error
}

// parted are a map's texels as they are stored: low and high bytes apart, differences from texel to texel, since smooth maps pack
// far smaller so.
func parted(m *bake.Map) []byte {
	data := make([]byte, 2*len(m.Pix))
	low, high := data[:len(m.Pix)], data[len(m.Pix):]
	for i, v := range m.Pix {
		if i >= m.Channels {
			v -= m.Pix[i-m.Channels]
		}
		low[i], high[i] = byte(v), byte(v>>8)
	}
	return data
}
