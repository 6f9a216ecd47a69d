package deliver

import (
	"archive/zip"
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// Written is one file of a delivery.
type Written struct {
	File     string            `json:"file"`
	Set      string            `json:"set,omitempty"`
	Channels map[string]string `json:"channels,omitempty"`
	Bits     int               `json:"bits,omitempty"`
	Space    string            `json:"colour_space,omitempty"`
	Size     int               `json:"size,omitempty"`
	Bytes    int               `json:"bytes"`
	SHA256   string            `json:"sha256"`
	aside    string            // where it was made
}

// make writes the file aside, counting its bytes and their sum.
func (w *Written) make(dir string, write func(io.Writer) error) error {
	f, err := os.CreateTemp(dir, "file-*")
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	b := bufio.NewWriterSize(io.MultiWriter(f, sum), 1<<20)
	if err := write(b); err != nil {
		return err
	}
	if err := b.Flush(); err != nil {
		return err
	}
	n, err := f.Seek(0, io.SeekCurrent)
	w.aside, w.Bytes, w.SHA256 = f.Name(), int(n), hex.EncodeToString(sum.Sum(nil))
	return err
}

// Data reads the file's contents.
func (w *Written) Data() ([]byte, error) { return os.ReadFile(w.aside) }

// copyTo writes the file's contents.
func (w *Written) copyTo(to io.Writer) error {
	f, err := os.Open(w.aside)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.Copy(to, f)
	return err
}

// Delivery is one run of a preset. Its files lie aside until Close.
type Delivery struct {
	Preset string    `json:"preset"`
	Title  string    `json:"title"`
	Asset  string    `json:"asset"`
	Size   int       `json:"size"`
	Green  string    `json:"normal_green"` // "up" or "down"
	Pad    string    `json:"padding"`
	Notes  []string  `json:"notes"`
	Files  []Written `json:"files"`
	aside  string
}

// Close drops the files that were made aside.
func (d *Delivery) Close() error { return os.RemoveAll(d.aside) }

// Note is the name of the file that describes a delivery.
const Note = "delivery.json"

// JSON is the delivery's note.
func (d *Delivery) JSON() []byte {
	b, err := json.MarshalIndent(d, "", "  ")
	if err != nil {
		panic(err) // plain strings and numbers always encode
	}
	return append(b, '\n')
}

// Zip writes the files and the note as one zip, without compressing pictures again.
func (d *Delivery) Zip(w io.Writer) error {
	z := zip.NewWriter(w)
	put := func(name string, copyTo func(io.Writer) error) error {
		f, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store})
		if err != nil {
			return err
		}
		return copyTo(f)
	}
	for i := range d.Files {
		if err := put(d.Files[i].File, d.Files[i].copyTo); err != nil {
			return err
		}
	}
	if err := put(Note, d.note); err != nil {
		return err
	}
	return z.Close()
}

func (d *Delivery) note(w io.Writer) error {
	_, err := w.Write(d.JSON())
	return err
}

// WriteFolder writes the files and, last, the note. Each appears whole or not at all.
func (d *Delivery) WriteFolder(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("the folder cannot be made: %w", err)
	}
	for i := range d.Files {
		if err := WriteAside(filepath.Join(dir, d.Files[i].File), d.Files[i].copyTo); err != nil {
			return err
		}
	}
	return WriteAside(filepath.Join(dir, Note), d.note)
}

// WriteWhole writes a file beside its place and moves it there, so that no half-written one is left.
func WriteWhole(name string, data []byte) error {
	return WriteAside(name, func(w io.Writer) error {
		_, err := io.Copy(w, bytes.NewReader(data))
		return err
	})
}

// WriteAside is WriteWhole for what is written piece by piece.
func WriteAside(name string, write func(io.Writer) error) error {
	f, err := os.CreateTemp(filepath.Dir(name), ".writing-*")
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	defer os.Remove(f.Name())
	err = write(f)
	if e := f.Chmod(0o644); err == nil {
		err = e
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	return nil
}
