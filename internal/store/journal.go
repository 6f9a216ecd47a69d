package store

import (
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"crust/internal/core/strata"
)

// Op is one entry of an asset's journal: an edit, or the undo or redo of one.
type Op struct {
	AssetID uint   `gorm:"primaryKey;autoIncrement:false"`
	Seq     int64  `gorm:"primaryKey;autoIncrement:false"`
	Author  string // whose it is; empty when it was made before authors were kept
	Kind    string // edit, undo or redo
	Of      int64  // the edit that an undo takes back or a redo makes again
	Label   string
	Ops     string // []strata.Op as JSON
	Made    time.Time
}

// Kinds of entries.
const (
	KindEdit = "edit"
	KindUndo = "undo"
	KindRedo = "redo"
)

// Snapshot is an asset's whole document as it was after an entry of its journal.
type Snapshot struct {
	AssetID  uint `gorm:"primaryKey;autoIncrement:false"`
	Seq      int64
	Document string
}

// A whole document is stored anew after so many entries, and then entries older than KeepOps are dropped: opening reads
// less than SnapshotEvery of them over the snapshot, and so many edits can be undone.
const (
	SnapshotEvery = 200
	KeepOps       = 2000
)

// Append adds an entry to its asset's journal, and the strokes that it brings; it is on the disk when this returns. With a document,
// which is the one after the entry, the journal is folded.
func (s *Store) Append(op *Op, document string, strokes ...Stroke) (err error) {
	defer s.fault(&err)
	return s.db.Transaction(func(tx *gorm.DB) error {
		if err := appendOp(tx, op, document); err != nil || len(strokes) == 0 {
			return err
		}
		return tx.CreateInBatches(strokes, 500).Error
	})
}

func appendOp(tx *gorm.DB, op *Op, document string) error {
	if err := there(tx, op.AssetID); err != nil {
		return err
	}
	op.Made = time.Now()
	if err := tx.Create(op).Error; err != nil {
		return err
	}
	if document != "" {
		if err := tx.Save(&Snapshot{op.AssetID, op.Seq, document}).Error; err != nil {
			return err
		}
		if err := tx.Where("asset_id = ? AND seq <= ?", op.AssetID, op.Seq-KeepOps).Delete(&Op{}).Error; err != nil {
			return err
		}
	}
	return tx.Model(&Asset{}).Where("id = ?", op.AssetID).Update("changed", op.Made).Error
}

// History reads an asset's last snapshot and all entries of its journal that are kept, the oldest first.
func (s *Store) History(asset uint) (snap Snapshot, ops []Op, err error) {
	defer s.fault(&err)
	err = s.read.Transaction(func(tx *gorm.DB) error {
		if err := tx.Where("asset_id = ?", asset).First(&snap).Error; err != nil {
			return err
		}
		return tx.Where("asset_id = ?", asset).Order("seq").Find(&ops).Error
	})
	return snap, ops, err
}

// Replay makes the document of a history.
func Replay(snap Snapshot, ops []Op) (*strata.Document, error) {
	d, err := strata.Parse([]byte(snap.Document))
	if err != nil {
		return nil, err
	}
	for i := range ops {
		if ops[i].Seq <= snap.Seq {
			continue
		}
		var list []strata.Op
		if err := json.Unmarshal([]byte(ops[i].Ops), &list); err != nil {
			return nil, fmt.Errorf("entry %d of the journal: %w", ops[i].Seq, err)
		}
		if d, err = d.Patch(list); err != nil {
			return nil, fmt.Errorf("entry %d of the journal: %w", ops[i].Seq, err)
		}
	}
	return d, nil
}

// Document is an asset's document as it is now.
func (s *Store) Document(asset uint) (*strata.Document, error) {
	snap, ops, err := s.History(asset)
	if err != nil {
		return nil, err
	}
	return Replay(snap, ops)
}

// Version of the data file. Each migration takes a file from the version of its place to the next.
var migrations = []func(tx *gorm.DB) error{stepsToOps}

// versionOf is the version of a data file, which must not be a later one than is known here.
func versionOf(db *gorm.DB) (version int, err error) {
	if err := db.Raw("PRAGMA user_version").Scan(&version).Error; err != nil {
		return 0, err
	}
	if version > len(migrations) {
		return version, &Newer{version}
	}
	return version, nil
}

// migrate brings the data file to the present version.
func migrate(db *gorm.DB) error {
	version, err := versionOf(db)
	if err != nil {
		return err
	}
	for ; version < len(migrations); version++ {
		err := db.Transaction(func(tx *gorm.DB) error {
			if err := migrations[version](tx); err != nil {
				return err
			}
			return tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", version+1)).Error
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// stepsToOps turns the journal of whole documents, as it was first, into operations. The last steps can still be undone, and
// what could be redone still can.
func stepsToOps(tx *gorm.DB) error {
	if !tx.Migrator().HasTable("steps") {
		return nil
	}
	const kept = 100
	var assets []struct {
		ID     uint
		Cursor int64
	}
	if err := tx.Raw("SELECT id, cursor FROM assets").Scan(&assets).Error; err != nil {
		return err
	}
	for _, a := range assets {
		var steps []struct {
			Seq             int64
			Label, Document string
		}
		if err := tx.Raw("SELECT seq, label, document FROM steps WHERE asset_id = ? AND seq >= ? ORDER BY seq", a.ID, a.Cursor-kept).Scan(&steps).Error; err != nil {
			return err
		}
		if len(steps) == 0 {
			return fmt.Errorf("asset %d has no strata", a.ID)
		}
		docs := make([]*strata.Document, len(steps))
		for i := range steps {
			var err error
			if docs[i], err = strata.Parse([]byte(steps[i].Document)); err != nil {
				return fmt.Errorf("step %d of asset %d: %w", steps[i].Seq, a.ID, err)
			}
		}
		seq := int64(0)
		add := func(kind, label string, of int64, from, to *strata.Document) error {
			seq++
			text, err := json.Marshal(strata.Diff(from, to))
			if err != nil {
				return err
			}
			return tx.Create(&Op{AssetID: a.ID, Seq: seq, Kind: kind, Of: of, Label: label, Ops: string(text), Made: time.Now()}).Error
		}
		if err := tx.Create(&Snapshot{a.ID, 0, steps[0].Document}).Error; err != nil {
			return err
		}
		current := len(steps) - 1
		for i := 1; i < len(steps); i++ {
			if steps[i].Seq == a.Cursor {
				current = i
			}
			if err := add(KindEdit, steps[i].Label, 0, docs[i-1], docs[i]); err != nil {
				return err
			}
		}
		if steps[0].Seq == a.Cursor {
			current = 0
		}
		for i := len(steps) - 1; i > current; i-- {
			if err := add(KindUndo, steps[i].Label, int64(i), docs[i], docs[i-1]); err != nil {
				return err
			}
		}
	}
	return tx.Exec("DROP TABLE steps").Error
}
