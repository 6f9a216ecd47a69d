package store

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// On a full disk a folder that was closed in order cannot be opened, which is said so, and can be looked at. Disks are made by root alone.
func TestAFullDiskIsSaid(t *testing.T) {
	disk := t.TempDir()
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=4m"); err != nil {
		t.Skipf("no disk can be made here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(disk, syscall.MNT_DETACH) })
	dir := filepath.Join(disk, "data")
	s := open(t, dir)
	id := asset(t, s)
	if s.Full() {
		t.Error("a disk with room counts as full")
	}
	f, err := os.Create(filepath.Join(disk, "filler"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	fill := func() {
		for size := 1 << 16; size >= 1; size /= 2 {
			for err = nil; err == nil; _, err = f.Write(make([]byte, size)) {
			}
		}
	}
	s.Close()
	fill()
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "is full; make room") {
		t.Errorf("opening: %v", err)
	}
	l, err := Look(dir, "the disk is full")
	if err != nil {
		t.Fatal(err)
	}
	a, err := l.Asset(id)
	if l.Close(); err != nil || a.Name != "buoy" {
		t.Errorf("%v, %v", a, err)
	}
	// While it is open a change is refused, what is there is shown, and when there is room work goes on.
	if err := f.Truncate(0); err != nil {
		t.Fatal(err)
	}
	s = open(t, dir)
	defer s.Close()
	if _, err := f.Seek(0, 0); err != nil {
		t.Fatal(err)
	}
	fill()
	var fault *Fault
	if err := s.Update(id, map[string]any{"picture": make([]byte, 1<<20)}); !errors.As(err, &fault) || !strings.Contains(err.Error(), "make room") {
		t.Errorf("a change on a full disk: %v", err)
	}
	if a, err := s.Asset(id); err != nil || a.Name != "buoy" || !s.Full() {
		t.Errorf("%v, %v", a, err)
	}
	if err := f.Truncate(0); err != nil {
		t.Fatal(err)
	}
	if err := s.Update(id, map[string]any{"name": "mole"}); err != nil {
		t.Errorf("with room again: %v", err)
	}
}
