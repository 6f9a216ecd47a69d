package store

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"crust/internal/core/plain"
)

// A backup is a zip: the data file as it was at one moment, the zips of deliveries, and a list of them with their hashes
// (docs/archive.md).

// backupKind is what a backup says it is.
const backupKind = "backup 1"

// backupHead is the name of the list in a backup.
const backupHead = "backup.json"

type backup struct {
	Crust   string       `json:"crust"`
	Made    time.Time    `json:"made"`
	Version int          `json:"version"` // of the data file
	Files   []backupFile `json:"files"`
}

type backupFile struct {
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// backupNames are the files that a backup may hold.
var backupNames = regexp.MustCompile(`^(crust\.db|deliveries/[0-9]{1,18}/[0-9]{1,18}\.zip)$`)

// Backup writes the data folder, as it is at one moment, while others work in it. beside is a folder with room for a copy of the data
// file.
func (s *Store) Backup(w io.Writer, beside string) (err error) {
	dir, err := os.MkdirTemp(beside, ".crust-backup-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	copied := filepath.Join(dir, dataFile)
	if err := s.read.Exec("VACUUM INTO ?", copied).Error; err != nil {
		return fmt.Errorf("the data file cannot be copied to %s (%v); make room there", beside, err)
	}
	head := backup{Crust: backupKind, Made: time.Now()}
	if head.Version, err = versionOf(s.read); err != nil {
		return err
	}
	z := zip.NewWriter(w)
	add := func(name, from string) error {
		f, err := os.Open(from)
		if err != nil {
			return err
		}
		defer f.Close()
		to, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store, Modified: head.Made}) // it is compressed already
		if err != nil {
			return err
		}
		sum := sha256.New()
		n, err := io.Copy(io.MultiWriter(to, sum), f)
		head.Files = append(head.Files, backupFile{name, n, hex.EncodeToString(sum.Sum(nil))})
		return err
	}
	if err := add(dataFile, copied); err != nil {
		return err
	}
	zips, err := filepath.Glob(filepath.Join(s.Dir, "deliveries", "*", "*.zip"))
	if err != nil {
		return err
	}
	for _, from := range zips {
		name, err := filepath.Rel(s.Dir, from)
		if name = filepath.ToSlash(name); err != nil || !backupNames.MatchString(name) {
			continue
		}
		if err := add(name, from); err != nil && !errors.Is(err, os.ErrNotExist) { // it was dropped meanwhile
			return err
		}
	}
	text, err := json.MarshalIndent(head, "", "  ")
	if err != nil {
		return err
	}
	to, err := z.Create(backupHead)
	if err != nil {
		return err
	}
	if _, err := to.Write(append(text, '\n')); err != nil {
		return err
	}
	return z.Close()
}

// RestoreFolder makes a data folder, which must be missing or empty, of a backup: whole or not at all.
func RestoreFolder(r io.ReaderAt, size int64, dir string) (err error) {
	defer plain.Speak(&err)
	if in, err := os.ReadDir(dir); err == nil && len(in) > 0 {
		return fmt.Errorf("%s is not empty; name a new folder with --data", dir)
	}
	z, err := zip.NewReader(r, size)
	if err != nil {
		return errors.New("the file is no sound zip; take another backup")
	}
	var head backup
	f, err := z.Open(backupHead)
	if err != nil {
		return fmt.Errorf("the file is no backup: it has no %s", backupHead)
	}
	err = json.NewDecoder(io.LimitReader(f, 64<<20)).Decode(&head)
	f.Close()
	if err != nil || head.Crust != backupKind {
		return fmt.Errorf("the file says that it is “%.40s”; a backup says “%s”", head.Crust, backupKind)
	}
	dir = filepath.Clean(dir)
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	// It is made beside, so that the folder is there whole or not at all.
	aside, err := os.MkdirTemp(filepath.Dir(dir), ".crust-restore-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(aside)
	if err := os.Chmod(aside, 0o755); err != nil {
		return err
	}
	for _, b := range head.Files {
		if !backupNames.MatchString(b.Name) {
			return fmt.Errorf("the backup names a file “%.80s”, which a data folder does not have", b.Name)
		}
		if err := unpackFile(z, b, filepath.Join(aside, filepath.FromSlash(b.Name))); err != nil {
			return err
		}
	}
	s, err := Open(aside)
	if err != nil {
		return fmt.Errorf("the data file in the backup: %w", err)
	}
	err = s.Sound()
	s.Close()
	if err != nil {
		return err
	}
	_ = os.Remove(dir) // an empty one; Rename wants it away on some systems
	return os.Rename(aside, dir)
}

// unpackFile writes a file of a backup, which has to be what its list says.
func unpackFile(z *zip.Reader, b backupFile, to string) error {
	damaged := fmt.Errorf("“%.80s” in the backup is damaged; take another backup", b.Name)
	from, err := z.Open(b.Name)
	if err != nil {
		return damaged
	}
	defer from.Close()
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	f, err := os.Create(to)
	if err != nil {
		return err
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, sum), io.LimitReader(from, b.Bytes+1))
	switch e := f.Close(); {
	case errors.Is(err, zip.ErrChecksum), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, zip.ErrFormat):
		return damaged
	case err != nil:
		return err
	case e != nil:
		return e
	case n != b.Bytes || !strings.EqualFold(hex.EncodeToString(sum.Sum(nil)), b.SHA256):
		return damaged
	}
	return nil
}
