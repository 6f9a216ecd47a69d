package store

import (
	"fmt"
	"time"
)

// Keepsake is a stored state of an asset's strata.
type Keepsake struct {
	ID      uint `gorm:"primaryKey"`
	AssetID uint `gorm:"index"`
	Name    string
	Made    time.Time
	Text    string // the document
}

// AddKeepsake stores a keepsake and gives it its number.
func (s *Store) AddKeepsake(k *Keepsake) (err error) {
	defer s.fault(&err)
	if err := there(s.db, k.AssetID); err != nil {
		return err
	}
	k.Made = time.Now()
	return s.db.Create(k).Error
}

// Keepsakes lists an asset's keepsakes, the newest first, without their documents.
func (s *Store) Keepsakes(asset uint) (out []Keepsake, err error) {
	defer s.fault(&err)
	err = s.read.Omit("Text").Where("asset_id = ?", asset).Order("id desc").Find(&out).Error
	return out, err
}

// Keepsake finds a keepsake of an asset.
func (s *Store) Keepsake(asset, id uint) (k *Keepsake, err error) {
	defer s.fault(&err)
	k = new(Keepsake)
	if err := s.read.Where("asset_id = ?", asset).First(k, id).Error; err != nil {
		return nil, fmt.Errorf("keepsake %d: %w", id, err)
	}
	return k, nil
}

// DropKeepsake deletes a keepsake.
func (s *Store) DropKeepsake(asset, id uint) (err error) {
	defer s.fault(&err)
	return s.db.Where("asset_id = ?", asset).Delete(&Keepsake{}, id).Error
}
