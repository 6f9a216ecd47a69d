package deliver

import (
	"archive/zip"
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"

	"crust/internal/core/plain"
)

// Written is one file of a delivery, as delivery.json tells of it.
type Written struct {
	File     string            `json:"file"`
	Label    string            `json:"what,omitempty"`
	Set      string            `json:"set,omitempty"`
	Tile     int               `json:"tile,omitempty"` // UDIM number
	Channels map[string]string `json:"channels,omitempty"`
	Format   string            `json:"format,omitempty"`
	Bits     int               `json:"bits,omitempty"`
	Space    string            `json:"colour_space,omitempty"`
	Green    string            `json:"normal_green,omitempty"` // of a normal map: up or down
	Range    []float64         `json:"height_range,omitempty"` // metres that 0 and 1 stand for
	Height   string            `json:"height,omitempty"`       // “metres” where heights stand as they are
	Size     int               `json:"size,omitempty"`
	Bytes    int               `json:"bytes"`
	SHA256   string            `json:"sha256"`
	aside    string            // where it was made
}

// make writes the file aside; write may go back in it.
func (w *Written) make(dir string, write func(io.WriteSeeker) error) error {
	f, err := os.CreateTemp(dir, "file-*")
	if err != nil {
		return Told(err)
	}
	defer f.Close()
	if err := write(f); err != nil {
		return Told(err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	sum := sha256.New()
	n, err := io.Copy(sum, f)
	w.aside, w.Bytes, w.SHA256 = f.Name(), int(n), hex.EncodeToString(sum.Sum(nil))
	return err
}

// stream is a file that is written on.
type stream = bufio.Writer

// stream is make for what is written from beginning to end.
func (w *Written) stream(dir string, write func(*stream) error) error {
	return w.make(dir, func(f io.WriteSeeker) error {
		b := bufio.NewWriterSize(f, 1<<20)
		if err := write(b); err != nil {
			return err
		}
		return b.Flush()
	})
}

// Data reads the file's content from where it was made.
func (w *Written) Data() ([]byte, error) { return os.ReadFile(w.aside) }

func (w *Written) copyTo(to io.Writer) error {
	f, err := os.Open(w.aside)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.Copy(to, f)
	return err
}

// Delivery is one run of a preset; its JSON is delivery.json. Its files lie in a folder of their own until Close.
type Delivery struct {
	Owner
	Title    string    `json:"title"`
	Size     int       `json:"size"`
	Green    string    `json:"normal_green"` // "up" or "down"
	Pad      string    `json:"padding"`
	Document string    `json:"document_sha256"` // of the strata with their strokes
	Notes    []string  `json:"notes"`
	Skipped  []string  `json:"skipped,omitempty"` // what has no file, and why
	Joins    []Join    `json:"joins,omitempty"`   // sheets on which several sets became one
	Files    []Written `json:"files"`
	wheres   []Written
	aside    string
	// Evaluating and Encoding are how many seconds they took; the rest went into padding and into what goes beside the files.
	Evaluating float64 `json:"-"`
	Encoding   float64 `json:"-"`
}

// Close removes the files from where they were made.
func (d *Delivery) Close() error { return os.RemoveAll(d.aside) }

// Note is the name of the file that tells what the others hold.
const Note = "delivery.json"

// JSON is the content of delivery.json.
func (d *Delivery) JSON() []byte {
	b, err := json.MarshalIndent(d, "", "  ")
	if err != nil {
		panic(err) // plain strings and numbers always encode
	}
	return append(b, '\n')
}

// ParseNote reads a delivery.json.
func ParseNote(data []byte) (*Delivery, error) {
	d := new(Delivery)
	if err := json.Unmarshal(data, d); err != nil {
		return nil, fmt.Errorf("%s: %w", Note, plain.JSON(err))
	}
	return d, nil
}

// Zip writes all files with delivery.json as one archive.
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
			return Told(err)
		}
	}
	if err := put(Note, d.note); err != nil {
		return Told(err)
	}
	return z.Close()
}

func (d *Delivery) note(w io.Writer) error {
	_, err := w.Write(d.JSON())
	return err
}

// Told is an error of the system in words that say what to do.
func Told(err error) error {
	switch {
	case errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT):
		return fmt.Errorf("the disk is full; make room and try again (%w)", err)
	case errors.Is(err, os.ErrPermission):
		return fmt.Errorf("the folder does not let Crust write there; allow it or choose another (%w)", err)
	case errors.Is(err, syscall.EROFS):
		return fmt.Errorf("the disk can only be read; choose another folder (%w)", err)
	}
	return err
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
		return fmt.Errorf("%s cannot be written: %w", name, Told(err))
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
		return fmt.Errorf("%s cannot be written: %w", name, Told(err))
	}
	return nil
}
