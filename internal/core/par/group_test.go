package par

import (
	"context"
	"errors"
	"runtime"
	"strings"
	"testing"
)

// A panic on another goroutine would end the program; Blocks raises it where it was called, with the trace of where it
// was, and Catch makes an error of it.
func TestAPanicOfABlockIsTheCallers(t *testing.T) {
	err := func() (err error) {
		defer Catch(&err)
		return Blocks(context.Background(), 100, 1, func(_, i, _ int) {
			if i == 57 {
				panic("block 57")
			}
		})
	}()
	var p *Panic
	if !errors.As(err, &p) || p.Value != "block 57" || !strings.Contains(string(p.Trace), "TestAPanicOfABlockIsTheCallers") {
		t.Fatalf("%v, want the panic of block 57 with its trace", err)
	}
}

// Scratch made for one number of cores serves a larger one: worker numbers stay below Slots.
func TestWorkersStayBelowSlots(t *testing.T) {
	before := runtime.GOMAXPROCS(2 * Slots)
	defer runtime.GOMAXPROCS(before)
	if n := Workers(); n != Slots {
		t.Errorf("%d workers on %d cores, want %d", n, 2*Slots, Slots)
	}
	var seen [Slots]bool // an index beyond it would panic
	if err := Blocks(context.Background(), 10000, 1, func(w, _, _ int) { seen[w] = true }); err != nil {
		t.Error(err)
	}
}
