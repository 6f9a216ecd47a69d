package store

import "time"

// Finish is a finish of people's own, for all assets.
type Finish struct {
	Name string `gorm:"primaryKey"`
	Text string // its file
	Made time.Time
}

// Finishes lists people's own finishes, the newest first.
func (s *Store) Finishes() (out []Finish, err error) {
	defer s.fault(&err)
	err = s.read.Order("made desc, name").Find(&out).Error
	return out, err
}

// PutFinish stores a finish in place of one with the same name.
func (s *Store) PutFinish(name, text string) (err error) {
	defer s.fault(&err)
	return s.db.Save(&Finish{Name: name, Text: text, Made: time.Now()}).Error
}

// DropFinish deletes a finish.
func (s *Store) DropFinish(name string) (err error) {
	defer s.fault(&err)
	return s.db.Delete(&Finish{Name: name}).Error
}
