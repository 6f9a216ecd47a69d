// Command crust-trial tries to break Crust: it plays users on a server that is killed, whose disk fills, whose folder becomes read-only
// and whose clock goes back, and gives every reader files that were damaged. It prints what it finds, and last its counts as one
// JSON object; it exits with 1 when anything was lost or anybody was left with a fault.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"sync"
	"syscall"
	"time"
)

var (
	minutes = flag.Float64("minutes", 5, "how long to try")
	seed    = flag.Uint64("seed", 1, "of all that is random; the same seed makes the same mutants")
	only    = flag.String("only", "", "days or mutants alone")
	program = flag.String("crust", "", "a crust binary (default: built from this source)")
	folder  = flag.String("dir", "", "where to work (default: a folder for temporary files)")
	verbose = flag.Bool("v", false, "tell each step")
	child   = flag.String("child", "", "used by the trial itself")
)

// tally counts what was tried and what failed.
type tally struct {
	mu       sync.Mutex
	Seed     uint64         `json:"seed"`
	Seconds  float64        `json:"seconds"`
	Tries    map[string]int `json:"tries"`
	Peaks    map[string]any `json:"peaks"`
	Failures int            `json:"failures"`
	shown    map[string]int // failures that look alike, of which the first are told
}

func newTally() *tally {
	return &tally{Seed: *seed, Tries: map[string]int{}, Peaks: map[string]any{}, shown: map[string]int{}}
}

// tried counts one more try.
func (t *tally) tried(what string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.Tries[what]++
}

// digits and what stands in quotes differ between failures that are the same.
var differing = regexp.MustCompile(`[0-9]+|“[^”]*”|"[^"]*"`)

// failed counts a failure and tells it, the first three of those that look alike.
func (t *tally) failed(format string, args ...any) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.Failures++
	text := fmt.Sprintf(format, args...)
	alike := differing.ReplaceAllString(text[:min(len(text), 120)], "#")
	if t.shown[alike]++; t.shown[alike] <= 3 {
		fmt.Println("FAILED " + text)
	}
}

// peak keeps the largest value of a name, with what it was met at.
func (t *tally) peak(what string, v float64, at string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	type high struct {
		Value float64 `json:"value"`
		At    string  `json:"at"`
	}
	if h, ok := t.Peaks[what].(high); !ok || v > h.Value {
		t.Peaks[what] = high{float64(int(v*1000)) / 1000, at}
	}
}

func note(format string, args ...any) {
	if *verbose {
		fmt.Printf(format+"\n", args...)
	}
}

func main() {
	flag.Parse()
	if *child != "" {
		os.Exit(beChild(*child))
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	t := newTally()
	if err := trial(ctx, t); err != nil {
		fmt.Fprintln(os.Stderr, "crust-trial:", err)
		os.Exit(2)
	}
	if t.Failures > 0 {
		os.Exit(1)
	}
}

func trial(ctx context.Context, t *tally) error {
	dir := *folder
	if dir == "" {
		var err error
		if dir, err = os.MkdirTemp("", "crust-trial-"); err != nil {
			return err
		}
		defer os.RemoveAll(dir)
	}
	if *program == "" {
		*program = filepath.Join(dir, "crust")
		build := exec.Command("go", "build", "-o", *program, "crust/cmd/crust")
		build.Stderr = os.Stderr
		if err := build.Run(); err != nil {
			return fmt.Errorf("crust could not be built (%w); name a binary with -crust", err)
		}
	}
	began := time.Now()
	whole := time.Duration(*minutes * float64(time.Minute))
	share := map[string]float64{"": 0.5, "days": 1, "mutants": 0}[*only]
	if share > 0 {
		until, cancel := context.WithDeadline(ctx, began.Add(time.Duration(share*float64(whole))))
		err := days(until, t, dir)
		cancel()
		if err != nil {
			return err
		}
	}
	if share < 1 {
		until, cancel := context.WithDeadline(ctx, began.Add(whole))
		err := mutants(until, t, dir)
		cancel()
		if err != nil {
			return err
		}
	}
	t.Seconds = float64(int(time.Since(began).Seconds()*10)) / 10
	text, err := json.Marshal(t)
	if err != nil {
		return err
	}
	fmt.Println(string(text))
	return nil
}
