// Package par spreads loops over the cores.
package par

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"
	"sync/atomic"
)

// Slots bounds the worker numbers that Blocks gives out, whatever the number of cores becomes while a
// program runs: scratch that is kept by worker has so many places.
const Slots = 64

// Blocks calls f for runs of at most size indices that together cover 0 to n, on all cores, and
// returns when all are done or, soon after it ends, with the context's error. worker numbers the
// goroutine, below Slots, so that f can keep scratch. Which worker gets which run varies; what
// f computes for a run must not depend on it. A panic of f is Blocks' own.
func Blocks(ctx context.Context, n, size int, f func(worker, from, to int)) error {
	var next atomic.Int64
	var g Group
	work := func(w int) {
		for ctx.Err() == nil {
			from := int(next.Add(int64(size))) - size
			if from >= n {
				return
			}
			f(w, from, min(n, from+size))
		}
	}
	for w := 1; w < min(Workers(), (n+size-1)/size); w++ {
		g.Go(func() { work(w) })
	}
	g.run(func() { work(0) }) // the caller is at hand, others have to wake first
	g.Wait()
	return ctx.Err()
}

// Workers is how many goroutines Blocks uses at once.
func Workers() int { return min(Slots, runtime.GOMAXPROCS(0)) }

// Frugal has memory collected sooner than is usual, and the sooner the more there is. Programs call it when they start:
// nearly all their memory is large planes without pointers, which the collector passes over. GOGC in the environment goes
// before. It also keeps below its share of the machine's memory.
func Frugal() {
	limitMemory()
	if os.Getenv("GOGC") != "" {
		return
	}
	percent := 0
	var collected func(int)
	collected = func(int) {
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(live)
		if p := percentOf(live[0].Value.Uint64()); p != percent {
			percent = p
			debug.SetGCPercent(p)
		}
		// The next collection takes this one and calls again.
		runtime.AddCleanup(new(*int), collected, 0)
	}
	collected(0)
}

// percentOf is by how much memory may grow, beside what is in use, before it is collected: by at most some 200 MB, but by no
// less than a twelfth.
func percentOf(live uint64) int {
	return int(min(40, max(8, 100*(200<<20)/max(1, live))))
}

// Group runs functions side by side. A panic of one, which would end the program, becomes one of Wait.
type Group struct {
	wait sync.WaitGroup
	mu   sync.Mutex
	lost *Panic
	tell chan struct{} // closed when one is lost
}

// Go runs f on a goroutine of its own.
func (g *Group) Go(f func()) {
	g.wait.Go(func() { g.run(f) })
}

// run runs f here; its panic is kept for Wait.
func (g *Group) run(f func()) {
	var err error
	defer func() {
		if p, ok := err.(*Panic); ok {
			g.mu.Lock()
			defer g.mu.Unlock()
			if g.lost == nil {
				g.lost = p
				close(g.told())
			}
		}
	}()
	defer Catch(&err)
	f()
}

// told makes the channel of Lost. mu is held.
func (g *Group) told() chan struct{} {
	if g.tell == nil {
		g.tell = make(chan struct{})
	}
	return g.tell
}

// Lost is closed when a function has panicked, so that nobody waits for what it would have brought.
func (g *Group) Lost() <-chan struct{} {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.told()
}

// Wait waits for all functions, then panics with a *Panic when one of them did.
func (g *Group) Wait() {
	g.wait.Wait()
	if g.lost != nil {
		panic(g.lost)
	}
}

// Panic is a panic that was caught, as an error with the trace of where it happened.
type Panic struct {
	Value any
	Trace []byte
}

func (p *Panic) Error() string { return fmt.Sprint(p.Value) }

// Catch, deferred, turns a panic into an error of type *Panic.
func Catch(err *error) {
	v := recover()
	if v == nil {
		return
	}
	p, ok := v.(*Panic)
	if !ok {
		p = &Panic{v, debug.Stack()}
	}
	*err = p
}
