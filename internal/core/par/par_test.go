package par

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"
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
