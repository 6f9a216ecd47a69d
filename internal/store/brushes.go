package store

import (
	"fmt"
	"time"

	"gorm.io/gorm/clause"

	"crust/internal/core/brush"
)

// Brush is a brush of people's own, for all assets.
type Brush struct {
	Name string `gorm:"primaryKey"`
	Text string // as JSON
	Made time.Time
}

// Alpha is the picture of a brush; strokes keep it after the brush has gone.
type Alpha struct {
	Hash   string `gorm:"primaryKey"`
	Side   int
	Grey   []byte
	Colour []byte // empty for those without
	Normal bool   // colour holds a normal map
}

// Picture is an alpha as brushes have it.
func (a *Alpha) Picture() *brush.Alpha {
	out := &brush.Alpha{Side: a.Side, Grey: a.Grey}
	if len(a.Colour) > 0 {
		out.Colour, out.Normal = a.Colour, a.Normal
	}
	return out
}

// Brushes lists people's own brushes, the newest first.
func (s *Store) Brushes() (out []Brush, err error) {
	defer s.fault(&err)
	err = s.read.Order("made desc, name").Find(&out).Error
	return out, err
}

// PutBrush stores a brush in place of one with the same name.
func (s *Store) PutBrush(name, text string) (err error) {
	defer s.fault(&err)
	return s.db.Save(&Brush{Name: name, Text: text, Made: time.Now()}).Error
}

// DropBrush deletes a brush.
func (s *Store) DropBrush(name string) (err error) {
	defer s.fault(&err)
	return s.db.Delete(&Brush{Name: name}).Error
}

// PutAlpha stores a picture of brushes; one that is there already stays.
func (s *Store) PutAlpha(a *Alpha) (err error) {
	defer s.fault(&err)
	return s.db.Clauses(clause.OnConflict{DoNothing: true}).Create(a).Error
}

// Alpha finds a picture of brushes by its hash.
func (s *Store) Alpha(hash string) (*Alpha, error) {
	a := new(Alpha)
	if err := s.read.Where("hash = ?", hash).First(a).Error; err != nil {
		return nil, fmt.Errorf("the picture of a brush, %s: %w", hash, ErrNone)
	}
	return a, nil
}
