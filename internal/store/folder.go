package store

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/glebarez/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// dataFile is the name of the data file in its folder.
const dataFile = "crust.db"

// readers is how many readers may look at once while one writes.
const readers = 4

// Looking refuses a change of what may only be looked at.
type Looking struct{ Why string }

func (l *Looking) Error() string { return "nothing can be changed here: " + l.Why }

// Newer says that a data file was written by a later version, which this one would spoil.
type Newer struct{ Version int }

func (n *Newer) Error() string {
	return fmt.Sprintf("it was written by a newer Crust (version %d; this one knows %d); install that one to change it", n.Version, len(migrations))
}

// Owner is who has a data folder open.
type Owner struct {
	PID   int       `json:"pid"`
	Host  string    `json:"host"`
	At    string    `json:"at,omitempty"` // the address of its pages
	Since time.Time `json:"since"`
}

// InUse refuses a data folder that another process has open.
type InUse struct {
	Dir string
	By  Owner // as far as it is known
}

func (u *InUse) Error() string {
	by, since := "another Crust", ""
	if u.By.PID > 0 {
		by = fmt.Sprintf("process %d on %s", u.By.PID, u.By.Host)
		since = " since " + u.By.Since.Format("15:04 on 2 January 2006")
	}
	if u.By.At != "" {
		by = u.By.At + " (" + by + ")"
	}
	return fmt.Sprintf("this data folder is in use by %s%s: %s; work there, stop it first, or name another folder with --data", by, since, u.Dir)
}

// Open opens the data folder to work in it, making it when it is missing. One process at a time can: another gets *InUse, until this
// one closes the folder or ends in whatever way.
func Open(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("the data folder %s cannot be made: %w", dir, err)
	}
	l, err := lockFolder(dir)
	if err != nil {
		return nil, err
	}
	s, err := openOwned(dir)
	if err != nil {
		l.release()
		if (&Store{Dir: dir}).Full() { // which SQLite tells by a number
			return nil, fmt.Errorf("the disk of the data folder %s is full; make room and start again", dir)
		}
		return nil, err
	}
	s.lock = l
	return s, nil
}

func openOwned(dir string) (_ *Store, err error) {
	file := filepath.Join(dir, dataFile)
	s := &Store{Dir: dir}
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	// Writers begin by taking the lock, so that none fails half way; with a write-ahead log readers see the
	// state before.
	if s.db, err = connect(file, "&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=immediate", 1); err != nil {
		return nil, err
	}
	// A later version's file is not touched.
	if _, err := versionOf(s.db); err != nil {
		return nil, fmt.Errorf("the data file %s cannot be read: %w", file, err)
	}
	if err := s.db.AutoMigrate(&Asset{}, &Blob{}, &Chunk{}, &Baked{}, &Op{}, &Snapshot{}, &Delivery{}, &Finish{}, &Picture{}, &Keepsake{}, &Stroke{}, &Brush{}, &Alpha{}, &Preset{}); err != nil {
		return nil, fmt.Errorf("the data file %s cannot be read: %w", file, err)
	}
	if err := migrate(s.db); err != nil {
		return nil, fmt.Errorf("the data file %s cannot be taken over: %w", file, err)
	}
	s.read, err = connect(file, "&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=deferred", readers)
	return s, err
}

// connect opens the data file with some options of its driver.
func connect(file, options string, connections int) (*gorm.DB, error) {
	at := (&url.URL{Scheme: "file", OmitHost: true, Path: file}).String()
	db, err := gorm.Open(sqlite.Open(at+"?_pragma=foreign_keys(1)&_pragma=busy_timeout(10000)"+options), &gorm.Config{Logger: logger.Default.LogMode(logger.Silent)})
	if err != nil {
		return nil, fmt.Errorf("the data file %s cannot be opened: %w", file, err)
	}
	sql, err := db.DB()
	if err != nil {
		return nil, err
	}
	sql.SetMaxOpenConns(connections)
	return db, nil
}

// Look opens a data folder to look at what it holds, and changes nothing in it; why says what forbids that. Another process may have it
// open.
func Look(dir, why string) (*Store, error) {
	file := filepath.Join(dir, dataFile)
	if _, err := os.Stat(file); err != nil {
		return nil, fmt.Errorf("%s holds no data file: %w", dir, ErrNone)
	}
	options := []string{"&mode=ro"}
	if log, err := os.Stat(file + "-wal"); err != nil || log.Size() == 0 {
		// Where no log can be made the file is read as it stands; nothing lies beside it.
		options = append(options, "&mode=ro&immutable=1")
	}
	var first error
	for _, o := range options {
		db, err := connect(file, o, readers)
		if err == nil {
			s := &Store{db: db, read: db, looks: why, Dir: dir}
			if _, err = s.Assets(); err == nil {
				return s, nil
			}
			s.Close()
		}
		if first == nil {
			first = err
		}
	}
	return nil, fmt.Errorf("the data file %s cannot be looked at: %w", file, first)
}

// MayChange fails with *Looking where the folder is only looked at.
func (s *Store) MayChange() error {
	if s.looks != "" {
		return &Looking{s.looks}
	}
	return nil
}

// Full tells whether the folder's disk has no room for a change.
func (s *Store) Full() bool {
	f, err := os.CreateTemp(s.Dir, ".room-*")
	if err != nil {
		return true
	}
	defer os.Remove(f.Name())
	defer f.Close()
	_, err = f.Write(make([]byte, 1<<20))
	return err != nil
}

// ServedAt notes, for those who would open the folder too, the address of its pages.
func (s *Store) ServedAt(address string) {
	if s.lock != nil {
		s.lock.note(address)
	}
}

// Sound goes through the whole data file and tells what is broken in it.
func (s *Store) Sound() error {
	var said []string
	if err := s.read.Raw("PRAGMA integrity_check(5)").Scan(&said).Error; err != nil {
		return fmt.Errorf("the data file is damaged: %w", err)
	}
	if len(said) != 1 || said[0] != "ok" {
		return fmt.Errorf("the data file is damaged: %v", said)
	}
	return nil
}

// Close closes the data file and lets go of the folder.
func (s *Store) Close() error {
	var errs []error
	for _, db := range []*gorm.DB{s.read, s.db} {
		if db == nil {
			continue
		}
		sql, err := db.DB()
		if err == nil {
			err = sql.Close()
		}
		errs = append(errs, err)
	}
	if s.lock != nil {
		s.lock.release()
	}
	return errors.Join(errs...)
}
