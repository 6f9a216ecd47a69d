package studio

import (
	"fmt"
	"strings"
	"testing"

	"crust/internal/store"
)

// plates is a model with so many materials, a triangle each.
func plates(n int) []byte {
	var b strings.Builder
	b.WriteString("vt 0 0\nvt 1 0\nvt 1 1\n")
	for k := range n {
		fmt.Fprintf(&b, "v %d 0 0\nv %d 1 0\nv %d 1 1\nusemtl m%d\nf %d/1 %d/2 %d/3\n", k, k, k, k, 3*k+1, 3*k+2, 3*k+3)
	}
	return []byte(b.String())
}

// So many sets as do not fit together are worked on smaller; what is baked and delivered keeps its own size, and fewer sets keep what was
// chosen.
func TestManySetsAreWorkedOnSmaller(t *testing.T) {
	s := newStudio(t, t.TempDir())
	for _, c := range []struct{ sets, chosen, want int }{{1, 2048, 2048}, {8, 2048, 2048}, {9, 2048, 1024}, {40, 2048, 512}, {100, 1024, 512}, {100, 256, 256}} {
		id, err := s.Create("plates", Upload{store.File{Name: "plates.obj", Data: plates(c.sets)}}, nil)
		if err != nil {
			t.Fatal(err)
		}
		a, err := s.Open(id)
		if err != nil {
			t.Fatal(err)
		}
		if err := a.SizeSet("", 4096); err != nil {
			t.Fatal(err)
		}
		if err := a.SetSize(c.chosen); err != nil {
			t.Fatal(err)
		}
		a.mu.Lock()
		got, said, own := a.working(), a.stateEvent()["working"], a.intake.sizes()(a.sets[0].Key)
		a.mu.Unlock()
		if got != c.want || said != c.want || own != 4096 {
			t.Errorf("%d sets of %d px are worked on at %d, and %v is said, want %d; their own is %d", c.sets, c.chosen, got, said, c.want, own)
		}
		if err := s.Delete(id); err != nil {
			t.Fatal(err)
		}
	}
}

// Caches give way when memory is short, once, and grow again when it is not.
func TestCachesGiveWay(t *testing.T) {
	s := newStudio(t, t.TempDir())
	s.Close() // nobody else watches memory
	for _, c := range []struct {
		share float64
		short bool
	}{{0.5, false}, {0.79, false}, {0.9, true}, {0.7, true}, {0.5, false}} {
		if s.ease(c.share); s.short != c.short {
			t.Errorf("with %g of the memory in use caches are small: %v", c.share, s.short)
		}
	}
}
