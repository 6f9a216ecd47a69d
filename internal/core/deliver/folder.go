package deliver

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// A folder changes from one delivery to the next in one step: the new one is made beside it, files that stay the same and what
// others put there as links, and the two change places. Where the system cannot do that, or folders lie in it, files are moved one
// by one, and a list of them is kept until it is done, so that what was interrupted is finished the next time (see Finish).

// making is how the folders begin in which a delivery is made beside its place; the number of the process follows.
const making = ".crust-making-"

// ready is the list in such a folder once all is there, in the way that goes file by file.
const ready = ".ready"

// Taken is a file that stands in the way of a delivery.
type Taken struct {
	File string `json:"file"`
	Why  string `json:"why"`
}

// InTheWay is the error of a folder that holds files which a delivery would replace, though it did not write them.
type InTheWay struct {
	Dir   string
	Files []Taken
}

func (e *InTheWay) Error() string {
	some := ""
	for i, f := range e.Files {
		if i == 3 {
			some += fmt.Sprintf(" and %d more", len(e.Files)-i)
			break
		}
		if i > 0 {
			some += ", "
		}
		some += fmt.Sprintf("“%s” (%s)", f.File, f.Why)
	}
	return fmt.Sprintf("%s holds %s; choose another folder, or allow them to be replaced", e.Dir, some)
}

// Owner is whose a folder's delivery is.
type Owner struct {
	Asset  string `json:"asset"`
	Mark   string `json:"mark,omitempty"` // tells assets of one name apart
	Preset string `json:"preset"`
}

// may tells whether a delivery may take the place of another unasked: of the same asset by the same preset, or, from the command
// line, where assets have no mark and the folder is named each time, by any.
func (o Owner) may(replace Owner) bool {
	return o.Asset == replace.Asset && o.Mark == replace.Mark && (o.Preset == replace.Preset || o.Mark == "")
}

// Standing lists what stands in the way of files of these names in a folder, for a delivery of an owner. Files that the
// delivery.json there tells of, of the same owner, and that nobody has changed since, do not.
func Standing(dir string, owner Owner, names []string) ([]Taken, error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the folder cannot be read: %w", Told(err))
	}
	there := map[string]string{} // from the name in small letters to the name
	for _, e := range entries {
		there[strings.ToLower(e.Name())] = e.Name()
	}
	note := noteOf(dir)
	own := note != nil && owner.may(note.Owner)
	var out []Taken
	for _, n := range names {
		have, ok := there[strings.ToLower(n)]
		if !ok || own && n == Note {
			continue
		}
		switch w := note.find(have); {
		case note != nil && !own && (w != nil || n == Note):
			out = append(out, Taken{have, fmt.Sprintf("of the delivery “%s” of %s", note.Title, note.Asset)})
		case w == nil:
			out = append(out, Taken{have, "not from this delivery"})
		case sumOf(filepath.Join(dir, have)) != w.SHA256:
			out = append(out, Taken{have, "changed since it was delivered"})
		}
	}
	return out, nil
}

// noteOf is the delivery that a folder holds, nil for none.
func noteOf(dir string) *Delivery {
	data, err := os.ReadFile(filepath.Join(dir, Note))
	if err != nil {
		return nil
	}
	d, err := ParseNote(data)
	if err != nil {
		return nil
	}
	return d
}

// find is the file of a delivery of a name, nil for none.
func (d *Delivery) find(name string) *Written {
	if d == nil {
		return nil
	}
	if i := slices.IndexFunc(d.Files, func(w Written) bool { return w.File == name }); i >= 0 {
		return &d.Files[i]
	}
	return nil
}

// sumOf is a file's SHA-256, empty when it cannot be read.
func sumOf(name string) string {
	f, err := os.Open(name)
	if err != nil {
		return ""
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return ""
	}
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return ""
	}
	return hex.EncodeToString(h.Sum(nil))
}

// WriteFolder puts all files with delivery.json into a folder, in one step. Files of others are not replaced unless replace is set;
// what an earlier run of the same asset and preset left there and this one has no more is taken away. It returns how many files
// changed; the others are what they were and stay as they are.
func (d *Delivery) WriteFolder(dir string, replace bool) (changed int, err error) {
	dir = filepath.Clean(dir)
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return 0, fmt.Errorf("the folder cannot be made: %w", Told(err))
	}
	Finish(filepath.Dir(dir))
	Finish(dir)
	names := []string{Note}
	for _, w := range d.Files {
		names = append(names, w.File)
	}
	taken, err := Standing(dir, d.Owner, names)
	if err != nil {
		return 0, err
	}
	for _, t := range taken {
		if info, err := os.Lstat(filepath.Join(dir, t.File)); !replace || err == nil && !info.Mode().IsRegular() {
			return 0, &InTheWay{dir, taken}
		}
	}
	// What is no longer part of it goes, when it is as it was delivered.
	var gone []string
	if note := noteOf(dir); note != nil && note.Owner == d.Owner {
		for _, w := range note.Files {
			if filepath.Base(w.File) == w.File && d.find(w.File) == nil && sumOf(filepath.Join(dir, w.File)) == w.SHA256 {
				gone = append(gone, w.File)
			}
		}
	}
	staged, err := os.MkdirTemp(filepath.Dir(dir), fmt.Sprintf("%s%d-", making, os.Getpid()))
	if err != nil {
		return 0, fmt.Errorf("the folder cannot be written: %w", Told(err))
	}
	defer os.RemoveAll(staged)
	if err := os.Chmod(staged, 0o755); err != nil {
		return 0, err
	}
	for i := range d.Files {
		w := &d.Files[i]
		at := filepath.Join(staged, w.File)
		if old := filepath.Join(dir, w.File); sumOf(old) == w.SHA256 && os.Link(old, at) == nil {
			continue
		}
		changed++
		if err := place(at, w.copyTo); err != nil {
			return 0, fmt.Errorf("%s cannot be written: %w", filepath.Join(dir, w.File), Told(err))
		}
	}
	if err := place(filepath.Join(staged, Note), d.note); err != nil {
		return 0, fmt.Errorf("%s cannot be written: %w", filepath.Join(dir, Note), Told(err))
	}
	return changed, commit(staged, dir, gone)
}

// place writes a new file and sees that it is on the disk.
func place(name string, write func(io.Writer) error) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	err = write(f)
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	return err
}

// commit puts a staged folder in a folder's place, without files that are gone.
func commit(staged, dir string, gone []string) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		if err := os.Rename(staged, dir); err != nil {
			return fmt.Errorf("the folder cannot be made: %w", Told(err))
		}
		return nil
	}
	if err != nil {
		return fmt.Errorf("the folder cannot be read: %w", Told(err))
	}
	// Who may read and write there stays as it was.
	if info, err := os.Stat(dir); err == nil {
		if err := os.Chmod(staged, info.Mode().Perm()); err != nil {
			return fmt.Errorf("the folder cannot be written: %w", Told(err))
		}
	}
	keep := func(name string) bool {
		_, err := os.Lstat(filepath.Join(staged, name))
		return errors.Is(err, fs.ErrNotExist) && !slices.Contains(gone, name)
	}
	linked := true
	var others []string
	for _, e := range entries {
		if !keep(e.Name()) {
			continue
		}
		if !e.Type().IsRegular() || os.Link(filepath.Join(dir, e.Name()), filepath.Join(staged, e.Name())) != nil {
			linked = false
			break
		}
		others = append(others, e.Name())
	}
	if linked && exchange(staged, dir) == nil {
		// What came into the old folder meanwhile comes along.
		if late, err := os.ReadDir(staged); err == nil {
			known := map[string]bool{}
			for _, e := range entries {
				known[e.Name()] = true
			}
			for _, e := range late {
				if _, err := os.Lstat(filepath.Join(dir, e.Name())); !known[e.Name()] && errors.Is(err, fs.ErrNotExist) {
					_ = os.Rename(filepath.Join(staged, e.Name()), filepath.Join(dir, e.Name()))
				}
			}
		}
		return nil
	}
	for _, n := range others {
		if err := os.Remove(filepath.Join(staged, n)); err != nil {
			return err
		}
	}
	// File by file: the staged folder goes into the folder, and once it says that it is ready the rest can be done at any time.
	inside := filepath.Join(dir, filepath.Base(staged))
	if err := os.Rename(staged, inside); err != nil {
		return fmt.Errorf("the folder cannot be written: %w", Told(err))
	}
	if err := place(filepath.Join(inside, ready), func(w io.Writer) error { _, err := io.WriteString(w, strings.Join(gone, "\n")); return err }); err != nil {
		os.RemoveAll(inside)
		return fmt.Errorf("the folder cannot be written: %w", Told(err))
	}
	return forward(dir, inside)
}

// forward moves the files of a folder that is ready into place, and the note last.
func forward(dir, inside string) error {
	gone, err := os.ReadFile(filepath.Join(inside, ready))
	if err != nil {
		return err
	}
	for _, n := range strings.Split(string(gone), "\n") {
		if n != "" && filepath.Base(n) == n {
			if err := os.Remove(filepath.Join(dir, n)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("%s cannot be taken away: %w", filepath.Join(dir, n), Told(err))
			}
		}
	}
	entries, err := os.ReadDir(inside)
	if err != nil {
		return err
	}
	var names []string
	for _, e := range entries {
		if e.Name() != ready && e.Name() != Note {
			names = append(names, e.Name())
		}
	}
	for _, n := range append(names, Note) {
		if err := os.Rename(filepath.Join(inside, n), filepath.Join(dir, n)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%s cannot be written: %w", filepath.Join(dir, n), Told(err))
		}
	}
	return os.RemoveAll(inside)
}

// Finish ends what an interrupted delivery left in a folder: one that was ready is carried through, what was not is taken away.
// What a process works on that still runs is left alone. It returns what it could not do.
func Finish(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil // there is nothing to finish
	}
	var faults []error
	for _, e := range entries {
		if !e.IsDir() || !strings.HasPrefix(e.Name(), making) {
			continue
		}
		var pid int
		if _, err := fmt.Sscanf(e.Name(), making+"%d-", &pid); err == nil && runs(pid) {
			continue
		}
		inside := filepath.Join(dir, e.Name())
		if _, err := os.Lstat(filepath.Join(inside, ready)); err == nil {
			faults = append(faults, forward(dir, inside))
			continue
		}
		faults = append(faults, os.RemoveAll(inside))
	}
	return errors.Join(faults...)
}
