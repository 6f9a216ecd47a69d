package store

import (
	"fmt"
)

// Stroke is a stroke that was painted on an asset, packed. It never changes: what changes one stores another. Those that no document
// mentions any more stay for undo.
type Stroke struct {
	ID      int32 `gorm:"primaryKey;autoIncrement:false"`
	AssetID uint  `gorm:"index"`
	Data    []byte
}

// LastStroke is the highest number of a stroke of any asset.
func (s *Store) LastStroke() (n int32, err error) {
	defer s.fault(&err)
	err = s.read.Model(&Stroke{}).Select("COALESCE(MAX(id), 0)").Scan(&n).Error
	return n, err
}

// Strokes lists all strokes of an asset.
func (s *Store) Strokes(asset uint) (out []Stroke, err error) {
	defer s.fault(&err)
	err = s.read.Where("asset_id = ?", asset).Order("id").Find(&out).Error
	return out, err
}

// Stroke finds a stroke of any asset by its number.
func (s *Store) Stroke(id int32) (*Stroke, error) {
	k := new(Stroke)
	if err := s.read.First(k, id).Error; err != nil {
		return nil, fmt.Errorf("stroke %d: %w", id, ErrNone)
	}
	return k, nil
}
