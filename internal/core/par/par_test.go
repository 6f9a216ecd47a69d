package par

import (
	"context"
	"errors"
	"runtime"
	"runtime/debug"
	"sync/atomic"
	"testing"
	"time"
)

func TestBlocksCoverEveryIndexOnce(t *testing.T) {
	for _, n := range []int{0, 1, 7, 100, 1001} {
		seen := make([]int32, n)
		err := Blocks(context.Background(), n, 10, func(w, from, to int) {
			if w < 0 || w >= Workers() || to-from > 10 {
				t.Errorf("worker %d, run %d–%d", w, from, to)
			}
			for i := from; i < to; i++ {
				atomic.AddInt32(&seen[i], 1)
			}
		})
		if err != nil {
			t.Fatal(err)
		}
		for i, c := range seen {
			if c != 1 {
				t.Fatalf("%d of %d was visited %d times", i, n, c)
			}
		}
	}
}

func TestBlocksStopWithTheContext(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	runs := atomic.Int32{}
	err := Blocks(ctx, 1_000_000, 1, func(_, _, _ int) {
		if runs.Add(1) == 5 {
			cancel()
		}
	})
	if !errors.Is(err, context.Canceled) || runs.Load() > 5+int32(Workers()) {
		t.Errorf("%v after %d runs, want a stop soon after 5", err, runs.Load())
	}
}

// The growth that is waited for is a share of little memory and a fixed amount of much.
func TestMuchMemoryIsCollectedSooner(t *testing.T) {
	for _, c := range []struct {
		live uint64
		want int
	}{{0, 40}, {100 << 20, 40}, {500 << 20, 40}, {1000 << 20, 20}, {2000 << 20, 10}, {8000 << 20, 8}} {
		if got := percentOf(c.live); got != c.want {
			t.Errorf("%d MB: %d %%, want %d", c.live>>20, got, c.want)
		}
	}
}

// Frugal follows what is in use from collection to collection.
func TestFrugalFollowsWhatIsInUse(t *testing.T) {
	t.Setenv("GOGC", "")
	defer debug.SetGCPercent(debug.SetGCPercent(100))
	Frugal()
	held := make([]byte, 1200<<20)
	want := percentOf(uint64(len(held)))
	got := 0
	for range 200 {
		runtime.GC()
		time.Sleep(time.Millisecond)
		got = debug.SetGCPercent(want)
		if got <= want {
			break
		}
		debug.SetGCPercent(got)
	}
	if runtime.KeepAlive(held); got > want {
		t.Errorf("with 1,200 MB in use %d %% are waited for, want %d", got, want)
	}
}
