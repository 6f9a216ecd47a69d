package deliver

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// bundle is a delivery of files with these contents, made aside.
func bundle(t *testing.T, owner Owner, files map[string]string) *Delivery {
	t.Helper()
	d := &Delivery{Owner: owner, Title: "Test", aside: t.TempDir()}
	for name, text := range files {
		w := Written{File: name}
		if err := w.make(d.aside, func(to io.WriteSeeker) error { _, err := io.WriteString(to, text); return err }); err != nil {
			t.Fatal(err)
		}
		d.Files = append(d.Files, w)
	}
	return d
}

// inFolder is what a folder's files hold.
func inFolder(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		if e.IsDir() {
			out[e.Name()] = "(folder)"
			continue
		}
		data, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		out[e.Name()] = string(data)
	}
	return out
}

var mine = Owner{"buoy", "1-a", "gltf"}

// A second delivery rewrites only what changed, takes away what it has no more, and leaves what others put there; the way file by
// file, which folders inside call for, comes to the same.
func TestAnotherDeliveryRewritesWhatChanged(t *testing.T) {
	for _, folders := range []bool{false, true} {
		dir := filepath.Join(t.TempDir(), "a", "maps")
		first := bundle(t, mine, map[string]string{"same.png": "1", "changes.png": "2", "goes.png": "3"})
		if n, err := first.WriteFolder(dir, false); err != nil || n != 3 {
			t.Fatal(n, err)
		}
		if err := os.WriteFile(filepath.Join(dir, "notes of mine.txt"), []byte("mine"), 0o644); err != nil {
			t.Fatal(err)
		}
		if folders {
			if err := os.MkdirAll(filepath.Join(dir, "sub", "deep"), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Chmod(dir, 0o775); err != nil {
			t.Fatal(err)
		}
		old := time.Now().Add(-time.Hour)
		if err := os.Chtimes(filepath.Join(dir, "same.png"), old, old); err != nil {
			t.Fatal(err)
		}
		second := bundle(t, mine, map[string]string{"same.png": "1", "changes.png": "two", "new.png": "4"})
		if n, err := second.WriteFolder(dir, false); err != nil || n != 2 {
			t.Fatalf("%d files changed, %v; want 2", n, err)
		}
		got := inFolder(t, dir)
		want := map[string]string{"same.png": "1", "changes.png": "two", "new.png": "4", "notes of mine.txt": "mine", Note: string(second.JSON())}
		if folders {
			want["sub"] = "(folder)"
		}
		if len(got) != len(want) {
			t.Errorf("folders %v: the folder holds %d things: %v", folders, len(got), got)
		}
		for name, text := range want {
			if got[name] != text {
				t.Errorf("folders %v: %s holds %q, want %q", folders, name, got[name], text)
			}
		}
		if info, err := os.Stat(filepath.Join(dir, "same.png")); err != nil || info.ModTime().Sub(old).Abs() > time.Second {
			t.Errorf("what stayed the same was written anew: %v", err)
		}
		if left := inFolder(t, filepath.Dir(dir)); len(left) != 1 {
			t.Errorf("beside the folder lies %v", left)
		}
		if info, err := os.Stat(dir); err != nil || info.Mode().Perm() != 0o775 {
			t.Errorf("the folder's mode is %v, %v", info.Mode(), err)
		}
	}
}

// Files of others are told and stay, whoever they are from.
func TestFilesOfOthersAreNotReplacedUnasked(t *testing.T) {
	for _, c := range []struct {
		name  string
		there func(t *testing.T, dir string)
		want  string
	}{
		{"a program", func(t *testing.T, dir string) {
			if err := errors.Join(os.MkdirAll(dir, 0o755), os.WriteFile(filepath.Join(dir, "Base.png"), []byte("theirs"), 0o644)); err != nil {
				t.Fatal(err)
			}
		}, "“Base.png” (not from this delivery)"},
		{"another asset", func(t *testing.T, dir string) {
			if _, err := bundle(t, Owner{"winch", "2-b", "gltf"}, map[string]string{"base.png": "theirs"}).WriteFolder(dir, false); err != nil {
				t.Fatal(err)
			}
		}, "“base.png” (of the delivery “Test” of winch)"},
		{"an asset of the same name", func(t *testing.T, dir string) {
			if _, err := bundle(t, Owner{"buoy", "7-c", "gltf"}, map[string]string{"base.png": "theirs"}).WriteFolder(dir, false); err != nil {
				t.Fatal(err)
			}
		}, "of the delivery “Test” of buoy"},
		{"another preset", func(t *testing.T, dir string) {
			if _, err := bundle(t, Owner{"buoy", "1-a", "rma-16"}, map[string]string{"base.png": "theirs"}).WriteFolder(dir, false); err != nil {
				t.Fatal(err)
			}
		}, "of the delivery “Test” of buoy"},
		{"a hand that changed it", func(t *testing.T, dir string) {
			if _, err := bundle(t, mine, map[string]string{"base.png": "ours"}).WriteFolder(dir, false); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(dir, "base.png"), []byte("theirs"), 0o644); err != nil {
				t.Fatal(err)
			}
		}, "“base.png” (changed since it was delivered)"},
	} {
		dir := filepath.Join(t.TempDir(), "maps")
		c.there(t, dir)
		before := inFolder(t, dir)
		d := bundle(t, mine, map[string]string{"base.png": "new"})
		_, err := d.WriteFolder(dir, false)
		var way *InTheWay
		if !errors.As(err, &way) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want “%s”", c.name, err, c.want)
		}
		if after := inFolder(t, dir); fmt.Sprint(after) != fmt.Sprint(before) {
			t.Errorf("%s: the folder held %v and holds %v", c.name, before, after)
		}
		if _, err := d.WriteFolder(dir, true); err != nil {
			t.Errorf("%s, allowed: %v", c.name, err)
		}
		if got := inFolder(t, dir); got["base.png"] != "new" && got["Base.png"] != "new" {
			t.Errorf("%s, allowed: the folder holds %v", c.name, got)
		}
	}
	// From the command line, where assets have no marks, another preset of the same asset may take the place.
	dir := filepath.Join(t.TempDir(), "maps")
	for _, preset := range []string{"gltf", "rma-16"} {
		if _, err := bundle(t, Owner{"buoy", "", preset}, map[string]string{"base.png": preset}).WriteFolder(dir, false); err != nil {
			t.Error(err)
		}
	}
}

// A system's faults are told in words.
func TestFullDisksAreTold(t *testing.T) {
	f, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip("this system has no full disk to try")
	}
	defer f.Close()
	_, err = f.Write([]byte("x"))
	if err = Told(err); err == nil || !strings.HasPrefix(err.Error(), "the disk is full; make room and try again") {
		t.Errorf("%v", err)
	}
	if err := Told(os.ErrPermission); !strings.Contains(err.Error(), "does not let Crust write there") {
		t.Errorf("%v", err)
	}
}

// killed is set in the process that is killed while it delivers.
const killed = "CRUST_TEST_DELIVERS_INTO"

// big is what a file holds in a delivery that is killed: enough that writing takes a while.
func big(name string, round int) string {
	return strings.Repeat(fmt.Sprintf("%s %d\n", name, round), 12_000)
}

func rounds(t *testing.T, dir string, round int) *Delivery {
	files := map[string]string{}
	for i := range 6 {
		name := fmt.Sprintf("map%d.png", i)
		files[name] = big(name, round)
	}
	files[fmt.Sprintf("only%d.png", round%2)] = "x"
	d := bundle(t, mine, files)
	d.Size = round
	return d
}

func TestDeliverUntilKilled(t *testing.T) {
	dir := os.Getenv(killed)
	if dir == "" {
		t.Skip("this is what TestKilledDeliveriesAreWhole kills")
	}
	for round := 1; ; round++ {
		fmt.Println("round")
		if _, err := rounds(t, dir, round).WriteFolder(dir, false); err != nil {
			fmt.Println("fault:", err)
			os.Exit(3)
		}
	}
}

// A process that is killed at any moment of a delivery leaves the old files with the old note or the new with the new, also where
// folders inside call for the way file by file, once what was begun has been finished; and nothing under a working name.
func TestKilledDeliveriesAreWhole(t *testing.T) {
	const kills = 14 // each way
	for _, folders := range []bool{false, true} {
		dir := filepath.Join(t.TempDir(), "out", "maps")
		if _, err := rounds(t, dir, 0).WriteFolder(dir, false); err != nil {
			t.Fatal(err)
		}
		if folders {
			if err := os.Mkdir(filepath.Join(dir, "theirs"), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		r := rand.New(rand.NewPCG(5, 7))
		seen := map[int]bool{}
		for k := range kills {
			c := exec.Command(os.Args[0], "-test.run=^TestDeliverUntilKilled$")
			c.Env = append(os.Environ(), killed+"="+dir, "TMPDIR="+t.TempDir())
			said, err := c.StdoutPipe()
			if err != nil {
				t.Fatal(err)
			}
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			// It is killed at any moment of its second, third, fourth or fifth round.
			lines := bufio.NewScanner(said)
			took, last := time.Duration(0), time.Now()
			for range 2 + r.IntN(4) {
				if !lines.Scan() || lines.Text() != "round" {
					t.Fatalf("kill %d: %s", k, lines.Text())
				}
				took, last = time.Since(last), time.Now()
			}
			time.Sleep(time.Duration(r.Float64() * float64(took)))
			if err := c.Process.Kill(); err != nil {
				t.Fatal(err)
			}
			for lines.Scan() {
				if strings.HasPrefix(lines.Text(), "fault:") {
					t.Fatalf("kill %d: %s", k, lines.Text())
				}
			}
			_ = c.Wait()
			if folders { // file by file a mixture may stand until it is finished
				Finish(dir)
			}
			note := noteOf(dir)
			if note == nil {
				t.Fatalf("kill %d: the folder has no note", k)
			}
			seen[note.Size] = true
			got := inFolder(t, dir)
			delete(got, Note)
			delete(got, "theirs")
			for _, w := range note.Files {
				sum := sha256.Sum256([]byte(got[w.File]))
				if hex.EncodeToString(sum[:]) != w.SHA256 {
					t.Errorf("folders %v, kill %d: %s is not what the note of round %d says", folders, k, w.File, note.Size)
				}
				delete(got, w.File)
			}
			if len(got) > 0 {
				t.Errorf("folders %v, kill %d: the folder also holds %d more", folders, k, len(got))
			}
			if err := Finish(filepath.Dir(dir)); err != nil {
				t.Error(err)
			}
			if left := inFolder(t, filepath.Dir(dir)); len(left) != 1 {
				t.Errorf("folders %v, kill %d: left beside the folder: %d things", folders, k, len(left)-1)
			}
		}
		if len(seen) < 3 {
			t.Errorf("the kills came in %d rounds alone", len(seen))
		}
	}
}
