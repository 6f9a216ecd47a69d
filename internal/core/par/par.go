// Package par spreads loops over the cores.
package par

import (
	"context"
	"runtime"
	"sync"
	"sync/atomic"
)

// Blocks calls f for runs of at most size indices that together cover 0 to n, on all cores, and
// returns when all are done or, soon after it ends, with the context's error. worker numbers the
// goroutine, below GOMAXPROCS, so that f can keep scratch. Which worker gets which run varies; what
// f computes for a run must not depend on it.
func Blocks(ctx context.Context, n, size int, f func(worker, from, to int)) error {
	var next atomic.Int64
	var wg sync.WaitGroup
	for w := range min(runtime.GOMAXPROCS(0), (n+size-1)/size) {
		wg.Go(func() {
			for ctx.Err() == nil {
				from := int(next.Add(int64(size))) - size
				if from >= n {
					return
				}
				f(w, from, min(n, from+size))
			}
		})
	}
	wg.Wait()
	return ctx.Err()
}

// Workers is how many goroutines Blocks may use at once.
func Workers() int { return runtime.GOMAXPROCS(0) }
