// Command crust-bench measures the hot places and prints one JSON line each.
package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"runtime/pprof"
	"strconv"
	"sync"
	"syscall"
	"time"

	"crust/internal/core/accel"
	"crust/internal/core/bake"
	"crust/internal/core/geom"
	"crust/internal/core/layout"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
	"crust/internal/demo"
	"crust/internal/store"
	"crust/internal/studio"
)

var (
	reference = flag.String("reference", "", "a program that takes OBJ, points, rays and threads and prints mrays_per_s, run before and after for the ratio")
	profile   = flag.String("profile", "", "write a CPU profile to this file")
	child     = flag.String("child", "", "do the work of a memory measure in this process, which has nothing else in its memory")
	folder    = flag.String("folder", "", "the data folder of a child")
	only      = flag.String("only", "", "run only the measures whose name matches")
)

func main() {
	par.Frugal()
	flag.Parse()
	if *profile != "" {
		f, err := os.Create(*profile)
		check(err)
		check(pprof.StartCPUProfile(f))
		defer pprof.StopCPUProfile()
	}
	if work := children[*child]; work != nil {
		work()
		return
	}
	match := regexp.MustCompile(*only)
	for _, b := range []struct {
		name string
		run  func() map[string]any
	}{
		{"occlusion rays, 65 k triangles", func() map[string]any { return occlusion(256, 128) }},
		{"occlusion rays, 1 M triangles", func() map[string]any { return occlusion(1024, 512) }},
		{"occlusion of a 1024 map to an RMSE of 0.02", toError},
		{"memory: all maps of four sets at 4096", memory},
		{"large: eight sets at 2048, 60 layers", func() map[string]any { return large("sets") }},
		{"large: 100 UDIM tiles at 512", func() map[string]any { return large("tiles") }},
		{"large: 400 layers", func() map[string]any { return large("layers") }},
		{"large: 2 M triangles from 10 M", func() map[string]any { return large("triangles") }},
		{"demo: eight maps of three sets, draft at 1024", demoMaps},
		{"layout: 121 k engine-like triangles into one tile, 8 px of 2048", layOut},
		{"evaluator: from nothing", fromNothing},
		{"strata: from nothing", allFromNothing},
		{"strata: one noise", allOneNoise},
		{"evaluator: one noise", oneNoise},
		{"evaluator: top opacity", topOpacity},
		{"evaluator: one radius", oneRadius},
		{"evaluator: one tile", oneTile},
		{"evaluator: page", page},
		{"evaluator: open at 4096", func() map[string]any { return measured("open", "") }},
		{"deliver: three sets at 4096, ORM green down", delivering},
		{"evaluator: deliver 8192", func() map[string]any { return measured("deliver", "") }},
		{"stroke: 200 texels", func() map[string]any { return stroke(200) }},
		{"stroke: 512 texels", func() map[string]any { return stroke(512) }},
		{"stroke: a burst of 2,000 samples", burst},
		{"stroke: among 20,000", manyStrokes},
		{"stroke: 10,000 one after the other", tenThousand},
		{"still: the buoy, 1280 × 800", stills},
		{"journal: 400 layers, 20,000 operations", journal},
	} {
		if !match.MatchString(b.name) {
			continue
		}
		out := b.run()
		out["measure"] = b.name
		out["cores"] = runtime.GOMAXPROCS(0)
		line, err := json.Marshal(out)
		check(err)
		fmt.Println(string(line))
	}
}

// profileFromHere begins the profile anew, so that what came before is not in it.
func profileFromHere() {
	if *profile == "" {
		return
	}
	pprof.StopCPUProfile()
	f, err := os.Create(*profile)
	check(err)
	check(pprof.StartCPUProfile(f))
}

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "crust-bench:", err)
		os.Exit(1)
	}
}

func round(v float64) float64 { return math.Round(v*1000) / 1000 }

// layOut lays an engine-like model out, of all its material slots into one tile.
func layOut() map[string]any {
	m := mesh.Machine(10)
	sets, err := uv.Sets(m, uv.PerMaterial)
	check(err)
	t := time.Now()
	l, err := layout.Make(context.Background(), m, sets, layout.Options{Into: layout.OneTile, Pixels: 8, Size: 2048}, nil)
	check(err)
	r := &l.Report
	return map[string]any{"triangles": len(m.Tris), "seconds": round(time.Since(t).Seconds()), "islands": r.Islands, "used": round(r.Used[0]), "stretch": round(r.Stretch), "margin_px": r.Pixels, "misses": r.Misses}
}

// best returns the shortest of n runs, in seconds.
func best(n int, f func()) float64 {
	least := math.Inf(1)
	for range n {
		t := time.Now()
		f()
		least = min(least, time.Since(t).Seconds())
	}
	return least
}

// occlusion casts 64 cosine-weighted rays from each of 200,000 points spread over a bumpy sphere.
func occlusion(nu, nv int) map[string]any {
	m := mesh.BumpySphere(nu, nv)
	t := time.Now()
	b := accel.Build(accel.Mesh{Positions: m.Positions, Tris: m.Tris})
	build := time.Since(t).Seconds()
	const points, rays = 200_000, 64
	before := referenceRate(m, points, rays)
	caster := bake.NewCaster(b, rays)
	run := func() (seconds, visible float64) {
		var lock sync.Mutex
		t := time.Now()
		var wg sync.WaitGroup
		for c := range runtime.GOMAXPROCS(0) {
			wg.Go(func() {
				w := caster.Worker()
				sum := 0.0
				for i := c; i < points; i += runtime.GOMAXPROCS(0) {
					k := i * len(m.Tris) / points
					p, q, r := m.Corners(k)
					n := m.FaceNormal(k)
					sum += float64(w.Visibility(geom.Bary(p, q, r, 0.31, 0.27).Add(n.Mul(1e-4)), n, float32(math.Inf(1)), uint32(i)))
				}
				lock.Lock()
				visible += sum
				lock.Unlock()
			})
		}
		wg.Wait()
		return time.Since(t).Seconds(), visible / points
	}
	least, vis := math.Inf(1), 0.0
	for range 3 {
		s, v := run()
		least, vis = min(least, s), v
	}
	out := map[string]any{"triangles": len(m.Tris), "build_seconds": round(build), "mrays_per_second": round(points * rays / least / 1e6), "mean_visibility": round(vis), "simd": accel.HasSIMD}
	if ref := max(before, referenceRate(m, points, rays)); ref > 0 {
		out["reference_mrays_per_second"] = round(ref)
		out["ratio"] = round(points * rays / least / 1e6 / ref)
	}
	return out
}

// toError finds the cheapest bake of a bumpy sphere's 1024² occlusion map whose error against 4,096 rays is at most
// 0.02, and the time that plain random rays would take for that at the reference's rate (their variance is p(1 − p)/n).
// The error is measured on every sixteenth face.
func toError() map[string]any {
	m := mesh.BumpySphere(256, 128)
	sets, err := uv.Sets(m, uv.Single)
	check(err)
	some := sets[0]
	some.Tris = nil
	for i, t := range sets[0].Tris {
		if i/32%16 == 0 {
			some.Tris = append(some.Tris, t)
		}
	}
	run := func(set *uv.Set, rays, samples int) (*bake.Map, float64) {
		src, err := bake.Prepare(context.Background(), m, nil, bake.Settings{Size: 1024, Rays: rays, Samples: samples})
		check(err)
		t := time.Now()
		maps, err := src.Bake(context.Background(), set, []string{bake.AO}, nil)
		check(err)
		return maps[0], time.Since(t).Seconds()
	}
	truth, _ := run(&some, 4096, 1)
	all, part := surface.Rasterise(m, &sets[0], 1024, 0, 0), surface.Rasterise(m, &some, 1024, 0, 0)
	variance := 0.0
	for _, at := range part.Texel {
		p := float64(truth.Pix[at]) / 65535
		variance += p * (1 - p) / float64(part.Len())
	}
	rate := referenceRate(m, 200_000, 64)
	plain := variance / (0.02 * 0.02) * float64(all.Len())
	out := map[string]any{"texels": all.Len(), "plain_random_rays": math.Round(plain)}
	for _, rays := range []int{8, 16, 24, 32, 48, 64, 96, 128} {
		got, seconds := run(&sets[0], rays, 1)
		sum := 0.0
		for _, at := range part.Texel {
			d := (float64(got.Pix[at]) - float64(truth.Pix[at])) / 65535
			sum += d * d
		}
		if e := math.Sqrt(sum / float64(part.Len())); e <= 0.02 {
			out["rays"], out["rmse"], out["seconds"] = rays, round(e), round(seconds)
			if rate > 0 {
				out["plain_random_seconds"] = round(plain / rate / 1e6)
				out["share"] = round(seconds / (plain / rate / 1e6))
			}
			return out
		}
	}
	out["error"] = "no quality reached the error"
	return out
}

// memory bakes in a process of its own and tells how much memory that took at the most.
func memory() map[string]any {
	dir, err := os.MkdirTemp("", "crust-bench")
	check(err)
	defer os.RemoveAll(dir)
	return measured("bake", dir)
}

// children is what is done in a process of its own, by the name of its flag.
var children map[string]func()

func init() {
	children = map[string]func(){"bake": bakeLarge, "open": openLarge, "deliver": deliverLarge, "sets": manySets, "tiles": manyTiles, "layers": manyLayers, "triangles": manyTriangles}
}

// measured runs a child over a data folder and says how much memory it took at most.
func measured(work, dir string) map[string]any {
	cmd := exec.Command(os.Args[0], "-child", work, "-folder", dir)
	cmd.Stderr = os.Stderr
	t := time.Now()
	check(cmd.Run())
	peak := 0.0
	if u, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		peak = float64(u.Maxrss) / 1e6 // kB on Linux
	}
	return map[string]any{"peak_gb": round(peak), "seconds": round(time.Since(t).Seconds())}
}

// openStudio opens a studio over a data folder.
func openStudio(dir string) (s *studio.Studio, done func()) {
	st, err := store.Open(dir)
	check(err)
	s = studio.New(st)
	return s, func() { s.Close(); st.Close() }
}

// freshStudio opens a studio over a data folder of its own; done takes both away.
func freshStudio() (s *studio.Studio, done func()) {
	dir, err := os.MkdirTemp("", "crust-bench")
	check(err)
	s, end := openStudio(dir)
	return s, func() { end(); os.RemoveAll(dir) }
}

// bakeLarge bakes all maps of the demo's winch at 4096 px as the page does.
func bakeLarge() {
	s, done := openStudio(*folder)
	defer done()
	drafted(s, "winch", 4096)
}

// drafted is one of the demo's assets with all its maps baked as drafts of a size.
func drafted(s *studio.Studio, name string, size int) *studio.Asset {
	id, err := demo.Make(s, name)
	check(err)
	a, err := s.Open(id)
	check(err)
	check(a.SetSettings(studio.Settings{Quality: "draft", Size: size}))
	check(a.Bake(a.Missing()))
	a.WaitJob(nil)
	if n := len(a.Missing()); n > 0 {
		check(fmt.Errorf("%d maps are missing", n))
	}
	return a
}

func referenceRate(m *mesh.Model, points, rays int) float64 {
	if *reference == "" {
		return 0
	}
	dir, err := os.MkdirTemp("", "crust-bench")
	check(err)
	defer os.RemoveAll(dir)
	name := filepath.Join(dir, "mesh.obj")
	f, err := os.Create(name)
	check(err)
	w := bufio.NewWriter(f)
	for _, p := range m.Positions {
		fmt.Fprintf(w, "v %g %g %g\n", p.X, p.Y, p.Z)
	}
	for _, t := range m.Tris {
		fmt.Fprintf(w, "f %d %d %d\n", t[0]+1, t[1]+1, t[2]+1)
	}
	check(w.Flush())
	check(f.Close())
	out, err := exec.Command(*reference, name, strconv.Itoa(points), strconv.Itoa(rays), strconv.Itoa(runtime.GOMAXPROCS(0))).Output()
	check(err)
	hit := regexp.MustCompile(`mrays_per_s ([\d.]+)`).FindSubmatch(out)
	if hit == nil {
		check(fmt.Errorf("the reference printed %q", bytes.TrimSpace(out)))
	}
	v, err := strconv.ParseFloat(string(hit[1]), 64)
	check(err)
	return v
}

func buoy(size, rays int) (*mesh.Model, []uv.Set, *bake.Source) {
	low, high := demo.Buoy()
	sets, err := uv.Sets(low, uv.PerMaterial)
	check(err)
	src, err := bake.Prepare(context.Background(), low, high, bake.Settings{Size: size, Rays: rays, Samples: 1})
	check(err)
	return low, sets, src
}

func kinds() (out []string) {
	for _, k := range bake.Kinds {
		out = append(out, k.Name)
	}
	return out
}

// demoMaps bakes all maps of the demo's buoy as the page does in draft quality, and one kind after the other.
func demoMaps() map[string]any {
	t := time.Now()
	_, sets, src := buoy(1024, 16)
	out := map[string]any{"prepare_seconds": round(time.Since(t).Seconds())}
	t = time.Now()
	spent, rays := map[string]float64{}, int64(0)
	for i := range sets {
		maps, err := src.Bake(context.Background(), &sets[i], bake.WithCompanions(kinds()), nil)
		check(err)
		for _, m := range maps {
			spent[m.Kind] += m.Seconds
			rays += m.Rays
		}
	}
	out["seconds"], out["rays"] = round(time.Since(t).Seconds()), rays
	for k, v := range spent {
		out[k+"_seconds"] = round(v)
	}
	return out
}
