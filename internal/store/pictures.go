package store

import (
	"fmt"

	"gorm.io/gorm"
)

// Picture is a picture that an asset's layers may lay on it. Its file is a blob.
type Picture struct {
	ID       uint `gorm:"primaryKey"`
	AssetID  uint `gorm:"index"`
	Name     string
	Space    string // what its values mean: colour or data
	Channel  string // that its name says it is for, empty for none
	Inverted bool   // it holds 1 less the channel's values
	Width    int
	Height   int
	Channels int
	BlobID   uint
}

// AddPictures stores pictures with their files and gives them their numbers.
func (s *Store) AddPictures(rows []Picture, files []File) (err error) {
	defer s.fault(&err)
	return s.db.Transaction(func(tx *gorm.DB) error {
		for i := range rows {
			if err := there(tx, rows[i].AssetID); err != nil {
				return err
			}
			id, err := addBlob(tx, rows[i].AssetID, "picture", files[i].Name, files[i].Data)
			if err != nil {
				return err
			}
			rows[i].BlobID = id
			if err := tx.Create(&rows[i]).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Pictures lists an asset's pictures as they came.
func (s *Store) Pictures(asset uint) (out []Picture, err error) {
	defer s.fault(&err)
	err = s.read.Where("asset_id = ?", asset).Order("id").Find(&out).Error
	return out, err
}

// Picture finds a picture of any asset by its number.
func (s *Store) Picture(id uint) (*Picture, error) {
	p := new(Picture)
	if err := s.read.First(p, id).Error; err != nil {
		return nil, fmt.Errorf("picture %d: %w", id, ErrNone)
	}
	return p, nil
}

// PictureFile is the file of a picture.
func (s *Store) PictureFile(p *Picture) (f File, err error) {
	defer s.fault(&err)
	var b Blob
	if err := s.read.First(&b, p.BlobID).Error; err != nil {
		return f, fmt.Errorf("picture “%s”: %w", p.Name, err)
	}
	f.Name = b.Name
	f.Data, err = blob(s.read, b.ID, b.Bytes)
	return f, err
}

// SetSpace changes what a picture's values mean.
func (s *Store) SetSpace(p *Picture, space string) (err error) {
	defer s.fault(&err)
	return s.db.Model(&Picture{}).Where("id = ?", p.ID).Update("space", space).Error
}
