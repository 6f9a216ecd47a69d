package store

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gorm.io/gorm"
)

// A data folder has one owner: a second process is told who that is, and gets the folder once the first was killed.
func TestADataFolderHasOneOwner(t *testing.T) {
	if dir := os.Getenv("CRUST_OWN_DIR"); dir != "" {
		s, err := Open(dir)
		if err != nil {
			os.Exit(3)
		}
		s.ServedAt("http://127.0.0.1:7420")
		os.Stdout.WriteString("open")
		time.Sleep(time.Minute)
	}
	dir := t.TempDir()
	first := exec.Command(os.Args[0], "-test.run", "^TestADataFolderHasOneOwner$")
	first.Env = append(os.Environ(), "CRUST_OWN_DIR="+dir)
	said, err := first.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := first.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(said, make([]byte, 4)); err != nil {
		t.Fatal(err)
	}
	_, err = Open(dir)
	var used *InUse
	if !errors.As(err, &used) || used.By.PID != first.Process.Pid || time.Since(used.By.Since) > time.Minute {
		t.Fatalf("%v; want that process %d has it", err, first.Process.Pid)
	}
	for _, want := range []string{"in use by http://127.0.0.1:7420", "since ", dir, "--data"} {
		if !strings.Contains(err.Error(), want) {
			t.Errorf("%q does not say “%s”", err, want)
		}
	}
	if err := first.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = first.Wait()
	s := open(t, dir)
	defer s.Close()
	if _, err := Open(dir); !errors.As(err, &used) {
		t.Errorf("a second time: %v", err)
	}
}

// One who only looks sees all that was stored, also what another process stores meanwhile, and can change nothing.
func TestLookingChangesNothing(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	id := asset(t, s)
	l, err := Look(dir, "it is somebody else's")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if err := s.Append(&Op{AssetID: id, Seq: 1, Kind: KindEdit, Ops: "[]"}, ""); err != nil {
		t.Fatal(err)
	}
	if _, ops, err := l.History(id); err != nil || len(ops) != 1 {
		t.Errorf("%d entries, %v; want the one that was made meanwhile", len(ops), err)
	}
	for name, change := range map[string]func() error{
		"an edit":     func() error { return l.Append(&Op{AssetID: id, Seq: 2, Kind: KindEdit, Ops: "[]"}, "") },
		"a name":      func() error { return l.Update(id, map[string]any{"name": "mole"}) },
		"an asset":    func() error { return l.Create(&Asset{Name: "x"}, File{Name: "x"}, nil, "{}") },
		"a deletion":  func() error { return l.Delete(id) },
		"a delivery":  func() error { return l.AddDelivery(&Delivery{AssetID: id}, func(string) error { return nil }) },
		"lost maps":   func() error { return l.DropMaps(id) },
		"own sending": func() error { return l.MayChange() },
	} {
		var looking *Looking
		if err := change(); !errors.As(err, &looking) || !strings.Contains(err.Error(), "it is somebody else's") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if a, err := l.Asset(id); err != nil || a.Name != "buoy" {
		t.Errorf("%v, %v", a, err)
	}
	if _, err := Look(t.TempDir(), ""); !errors.Is(err, ErrNone) {
		t.Errorf("an empty folder: %v", err)
	}
}

// A folder of a later version is not changed in any way, and can be looked at.
func TestALaterVersionsFolderIsLeftAlone(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	id := asset(t, s)
	if err := s.db.Exec("PRAGMA user_version = 99").Error; err != nil {
		t.Fatal(err)
	}
	if err := s.db.Exec("ALTER TABLE assets ADD COLUMN later TEXT").Error; err != nil {
		t.Fatal(err)
	}
	s.Close()
	was, err := os.ReadFile(filepath.Join(dir, dataFile))
	if err != nil {
		t.Fatal(err)
	}
	var newer *Newer
	if _, err := Open(dir); !errors.As(err, &newer) || newer.Version != 99 {
		t.Fatalf("%v, want that it is of a newer version", err)
	}
	l, err := Look(dir, newer.Error())
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if a, err := l.Asset(id); err != nil || a.Name != "buoy" {
		t.Errorf("%v, %v", a, err)
	}
	if is, err := os.ReadFile(filepath.Join(dir, dataFile)); err != nil || !bytes.Equal(is, was) {
		t.Errorf("the data file was changed, %v", err)
	}
}

// A backup is taken while edits go on, and is a moment between two of them. It makes the same folder elsewhere.
func TestABackupIsAMomentOfTheFolder(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	id := asset(t, s)
	d := &Delivery{AssetID: id}
	if err := s.AddDelivery(d, func(zip string) error { return os.WriteFile(zip, []byte("the zip"), 0o644) }); err != nil {
		t.Fatal(err)
	}
	stop, done := make(chan struct{}), make(chan int)
	go func() {
		for n := 1; ; n++ {
			select {
			case <-stop:
				done <- n - 1
				return
			default:
			}
			if err := s.Append(&Op{AssetID: id, Seq: int64(n), Kind: KindEdit, Ops: "[]"}, ""); err != nil {
				t.Error(err)
			}
		}
	}()
	l, err := Look(s.Dir, "it is being copied")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	var file bytes.Buffer
	if err := l.Backup(&file, t.TempDir()); err != nil {
		t.Fatal(err)
	}
	close(stop)
	all := <-done
	to := filepath.Join(t.TempDir(), "there", "data")
	if err := RestoreFolder(bytes.NewReader(file.Bytes()), int64(file.Len()), to); err != nil {
		t.Fatal(err)
	}
	back := open(t, to)
	defer back.Close()
	back.Sweep()
	if err := back.Sound(); err != nil {
		t.Error(err)
	}
	if _, ops, err := back.History(id); err != nil || len(ops) > all || len(ops) > 0 && ops[len(ops)-1].Seq != int64(len(ops)) {
		t.Errorf("%d entries of %d, %v", len(ops), all, err)
	}
	if list, err := back.Deliveries(id); err != nil || len(list) != 1 {
		t.Errorf("%v, %v", list, err)
	} else if got, err := os.ReadFile(back.ZipOf(&list[0])); err != nil || string(got) != "the zip" {
		t.Errorf("its zip is %q, %v", got, err)
	}
	if err := RestoreFolder(bytes.NewReader(file.Bytes()), int64(file.Len()), to); err == nil || !strings.Contains(err.Error(), "not empty") {
		t.Errorf("over a folder that is there: %v", err)
	}
}

// zipped is a zip of files.
func zipped(t *testing.T, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range files {
		w, err := z.Create(name)
		if err == nil {
			_, err = w.Write([]byte(text))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// What is no sound backup is refused, and leaves nothing behind.
func TestBrokenBackupsAreRefused(t *testing.T) {
	head := func(files ...backupFile) string {
		text, err := json.Marshal(backup{Crust: backupKind, Files: files})
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	for name, c := range map[string]struct {
		data []byte
		want string
	}{
		"no zip":          {[]byte("hello"), "no sound zip"},
		"another zip":     {zipped(t, map[string]string{"a": "b"}), "no backup"},
		"another kind":    {zipped(t, map[string]string{backupHead: `{"crust":"asset 1"}`}), "asset 1"},
		"a way out":       {zipped(t, map[string]string{backupHead: head(backupFile{Name: "../crust.db"})}), "does not have"},
		"a missing file":  {zipped(t, map[string]string{backupHead: head(backupFile{Name: "crust.db", Bytes: 1})}), "damaged"},
		"other bytes":     {zipped(t, map[string]string{backupHead: head(backupFile{Name: "crust.db", Bytes: 1, SHA256: "00"}), "crust.db": "x"}), "damaged"},
		"more than it is": {zipped(t, map[string]string{backupHead: head(backupFile{Name: "crust.db", Bytes: 1, SHA256: "00"}), "crust.db": strings.Repeat("x", 1000)}), "damaged"},
		"no data file":    {zipped(t, map[string]string{backupHead: head(backupFile{Name: "crust.db", Bytes: 4, SHA256: "88d4266fd4e6338d13b845fcf289579d209c897823b9217da3e161936f031589"}), "crust.db": "abcd"}), "data file in the backup"},
	} {
		in := t.TempDir()
		err := RestoreFolder(bytes.NewReader(c.data), int64(len(c.data)), filepath.Join(in, "data"))
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want “%s”", name, err, c.want)
		}
		if left, _ := os.ReadDir(in); len(left) != 0 {
			t.Errorf("%s: %v is left", name, left)
		}
	}
}

// What is broken in the file is found.
func TestSoundFindsDamage(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	for range 50 {
		asset(t, s)
	}
	if err := s.Sound(); err != nil {
		t.Error(err)
	}
	s.Close()
	file := filepath.Join(dir, dataFile)
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for at := 3 * 4096; at+64 < len(data); at += 4096 { // pages have 4096 bytes unless told otherwise: sqlite.org/fileformat2.html
		copy(data[at:], bytes.Repeat([]byte{0xff}, 64))
	}
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	if s, err = Open(dir); err == nil {
		err = s.Sound()
		s.Close()
	}
	if err == nil || errors.Is(err, gorm.ErrRecordNotFound) {
		t.Errorf("%v, want damage", err)
	}
}
