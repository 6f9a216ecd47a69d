package store

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"gorm.io/gorm"
)

// owned are the tables whose rows belong to an asset.
var owned = []string{"blobs", "bakeds", "ops", "snapshots", "deliveries", "pictures", "keepsakes", "strokes"}

// Strays lists what a data folder holds that belongs to nothing: rows without an owner, and files that nothing names. There are none
// once Sweep has run, whatever ended the server before.
func (s *Store) Strays() (out []string, err error) {
	defer s.fault(&err)
	count := func(what, query string) error {
		var n int64
		if err := s.read.Raw("SELECT COUNT(*) " + query).Scan(&n).Error; err != nil {
			return err
		}
		if n > 0 {
			out = append(out, fmt.Sprintf("%d %s", n, what))
		}
		return nil
	}
	for _, t := range owned {
		if err := count(t+" of no asset", "FROM "+t+" WHERE asset_id NOT IN (SELECT id FROM assets)"); err != nil {
			return nil, err
		}
	}
	for _, q := range [][2]string{
		{"chunks of no file", "FROM chunks WHERE blob_id NOT IN (SELECT id FROM blobs)"},
		{"maps that nothing describes", "FROM blobs WHERE kind = 'map' AND id NOT IN (SELECT blob_id FROM bakeds)"},
		{"pictures that nothing describes", "FROM blobs WHERE kind = 'picture' AND id NOT IN (SELECT blob_id FROM pictures)"},
		{"maps without texels", "FROM bakeds WHERE blob_id NOT IN (SELECT id FROM blobs)"},
		{"assets without strata", "FROM assets WHERE id NOT IN (SELECT asset_id FROM snapshots)"},
		{"deliveries under way", "FROM deliveries WHERE pending"},
	} {
		if err := count(q[0], q[1]); err != nil {
			return nil, err
		}
	}
	known := map[string]bool{}
	var rows []Delivery
	if err := s.read.Find(&rows).Error; err != nil {
		return nil, err
	}
	for i := range rows {
		known[s.ZipOf(&rows[i])] = true
	}
	files, err := filepath.Glob(filepath.Join(s.Dir, "deliveries", "*", "*"))
	if err != nil {
		return nil, err
	}
	hidden, err := filepath.Glob(filepath.Join(s.Dir, "deliveries", "*", ".*"))
	if err != nil {
		return nil, err
	}
	for _, f := range slices.Concat(files, hidden) {
		if !known[f] {
			out = append(out, "file "+f)
		}
	}
	in, err := os.ReadDir(s.Dir)
	if err != nil {
		return nil, err
	}
	for _, f := range in {
		if !slices.Contains([]string{dataFile, dataFile + "-wal", dataFile + "-shm", lockName, "deliveries", "users.json"}, f.Name()) {
			out = append(out, "file "+filepath.Join(s.Dir, f.Name()))
		}
	}
	return out, nil
}

// Shift moves all times that are stored by so much, as a clock does that was wrong.
func (s *Store) Shift(by time.Duration) (err error) {
	defer s.fault(&err)
	return s.db.Transaction(func(tx *gorm.DB) error {
		for _, c := range [][2]string{{"assets", "created"}, {"assets", "changed"}, {"bakeds", "made"}, {"ops", "made"}, {"deliveries", "made"}, {"keepsakes", "made"}} {
			// Text as the driver writes it begins with the date, which is all that has to move.
			if err := tx.Exec(fmt.Sprintf("UPDATE %[1]s SET %[2]s = strftime('%%Y-%%m-%%d %%H:%%M:%%f+00:00', julianday(%[2]s) + ?) WHERE julianday(%[2]s) IS NOT NULL", c[0], c[1]), by.Hours()/24).Error; err != nil {
				return err
			}
		}
		return nil
	})
}
