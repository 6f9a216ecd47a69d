package store

import "time"

// Preset is a preset of people's own, for all assets.
type Preset struct {
	Name string `gorm:"primaryKey"`
	Text string // its file
	Made time.Time
}

// Presets lists people's own presets by name.
func (s *Store) Presets() (out []Preset, err error) {
	defer s.fault(&err)
	err = s.read.Order("name").Find(&out).Error
	return out, err
}

// PutPreset stores a preset in place of one with the same name.
func (s *Store) PutPreset(name, text string) (err error) {
	defer s.fault(&err)
	return s.db.Save(&Preset{Name: name, Text: text, Made: time.Now()}).Error
}

// DropPreset deletes a preset.
func (s *Store) DropPreset(name string) (err error) {
	defer s.fault(&err)
	gone := s.db.Where("name = ?", name).Delete(&Preset{})
	if gone.Error == nil && gone.RowsAffected == 0 {
		return ErrNone
	}
	return gone.Error
}
