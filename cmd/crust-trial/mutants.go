package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"crust/internal/core/par"
)

// Each reader is given so many damaged files, and so many damaged models go on to their delivery if they open.
var mutantsEach, onThrough = 10_000, 2_000

// What reading a damaged file may take: memory above 20 times the file's own size, and time.
const (
	mutantMB   = 1024
	mutantTime = 10 * time.Second
)

// finding is what a child tells of one file.
type finding struct {
	N      int     `json:"n"`
	Begin  bool    `json:"begin,omitempty"` // it begins with this one
	Failed string  `json:"failed,omitempty"`
	Took   float64 `json:"took,omitempty"` // seconds
	MB     float64 `json:"mb,omitempty"`
	Opened bool    `json:"opened,omitempty"`
}

// mutants gives every reader its mutants, in processes of their own, until all are done or the context ends.
func mutants(ctx context.Context, t *tally, dir string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	type run struct {
		reader  string
		n, from int
	}
	var runs []run
	pieces := max(1, min(10, mutantsEach/1000)) // so that time that runs out is taken from all alike
	for range pieces {
		for _, r := range readers {
			n := mutantsEach
			if r.name == throughName {
				n = onThrough
			}
			runs = append(runs, run{reader: r.name, n: n / pieces})
		}
	}
	// As many at once as there are cores.
	work := make(chan run)
	var group sync.WaitGroup
	var failed atomic.Pointer[error]
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			for r := range work {
				for from := r.from; from < r.from+r.n && ctx.Err() == nil && failed.Load() == nil; {
					next, err := breed(ctx, t, self, dir, r.reader, from, r.from+r.n)
					if err != nil {
						failed.Store(&err)
					}
					from = next
				}
			}
		})
	}
	next := map[string]int{}
	for _, r := range runs {
		r.from = next[r.reader]
		next[r.reader] += r.n
		work <- r
	}
	close(work)
	group.Wait()
	if err := failed.Load(); err != nil {
		return *err
	}
	return nil
}

// breed runs a child for the mutants of a reader from one number on, and returns the number that is next.
func breed(ctx context.Context, t *tally, self, dir, reader string, from, to int) (int, error) {
	c := exec.CommandContext(ctx, self, "-child", fmt.Sprintf("%s:%d:%d", reader, from, to), "-seed", strconv.FormatUint(*seed, 10), "-dir", dir)
	var errs bytes.Buffer
	c.Stderr = &errs
	out, err := c.StdoutPipe()
	if err != nil {
		return to, err
	}
	if err := c.Start(); err != nil {
		return to, err
	}
	at := from
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var f finding
		if json.Unmarshal(lines.Bytes(), &f) != nil {
			continue
		}
		at = f.N
		if f.Begin {
			continue
		}
		t.tried("mutants: " + reader)
		if f.Opened {
			t.tried("mutants that open: " + reader)
		}
		name := fmt.Sprintf("%s %d", reader, f.N)
		t.peak("mutants: seconds", f.Took, name)
		t.peak("mutants: MB", f.MB, name)
		if f.Failed != "" {
			t.failed("mutant %s: %s", name, f.Failed)
		}
		at = f.N + 1
	}
	err = c.Wait()
	if ctx.Err() != nil || err == nil {
		return max(at, to), nil
	}
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return to, err
	}
	said := strings.TrimSpace(errs.String())
	t.failed("mutant %s %d ended the process: %v: %.1500s", reader, at, err, said)
	t.tried("mutants: " + reader)
	return at + 1, nil
}

// beChild reads mutants and tells of each; what is “name:from:to”.
func beChild(what string) int {
	par.Frugal()
	f := strings.Split(what, ":")
	if len(f) != 3 {
		return 2
	}
	from, err1 := strconv.Atoi(f[1])
	to, err2 := strconv.Atoi(f[2])
	r := readerOf(f[0])
	if r == nil || err1 != nil || err2 != nil {
		return 2
	}
	w := json.NewEncoder(os.Stdout)
	seeds, err := r.seeds()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 2
	}
	read, end, err := r.open(*folder)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 2
	}
	defer end()
	var data [][]byte
	for _, s := range seeds {
		data = append(data, s.data)
	}
	for n := from; n < to; n++ {
		_ = w.Encode(finding{N: n, Begin: true})
		rnd := rand.New(rand.NewPCG(*seed, uint64(n)<<8|uint64(len(f[0]))))
		s := seeds[rnd.IntN(len(seeds))]
		of := mutate(rnd, s.data, data)
		for k := 0; r.sound != nil && k < 100 && !r.sound(s.name, of); k++ {
			of = mutate(rnd, s.data, data)
		}
		late := time.AfterFunc(time.Minute, func() {
			fmt.Fprintln(os.Stderr, "it did not end within a minute")
			os.Exit(7)
		})
		out := finding{N: n}
		before := freshPeak()
		began := time.Now()
		err := func() (err error) {
			defer par.Catch(&err)
			return read(s.name, of)
		}()
		took := time.Since(began)
		late.Stop()
		out.Took, out.MB, out.Opened = took.Seconds(), peakMB()-before, err == nil
		var lost *par.Panic
		switch {
		case errors.As(err, &lost):
			out.Failed = fmt.Sprintf("a fault: %v\n%s", lost.Value, lost.Trace)
		case err != nil && !plainWords(err.Error()):
			out.Failed = fmt.Sprintf("its words are %+q", err.Error())
		case took > mutantTime:
			out.Failed = fmt.Sprintf("it took %.1f s", took.Seconds())
		case out.MB > mutantMB+20*float64(len(of))/(1<<20):
			out.Failed = fmt.Sprintf("it took %.0f MB for a file of %d bytes", out.MB, len(of))
		}
		_ = w.Encode(out)
	}
	return 0
}

// freshPeak forgets the peak of the process's memory, and returns how many MB it has now (proc(5): 5 written to clear_refs resets
// VmHWM).
func freshPeak() float64 {
	_ = os.WriteFile("/proc/self/clear_refs", []byte("5"), 0)
	return status("VmRSS:")
}

// peakMB is the most that the process has had since.
func peakMB() float64 { return status("VmHWM:") }

func status(line string) float64 {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0
	}
	for l := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(l, line); ok {
			kb, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			return kb / 1024
		}
	}
	return 0
}
