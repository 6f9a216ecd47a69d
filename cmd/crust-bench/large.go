package main

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"time"

	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
	"crust/internal/studio"
)

// large runs a child that works on something large, and adds what it says of its times to what it took of memory.
func large(work string) map[string]any {
	dir, err := os.MkdirTemp("", "crust-bench")
	check(err)
	defer os.RemoveAll(dir)
	out := measured(work, dir)
	text, err := os.ReadFile(dir + "/times.json")
	check(err)
	check(json.Unmarshal(text, &out))
	return out
}

// times are how long the parts of some work took, in seconds.
type times struct {
	at  time.Time
	out map[string]any
}

func newTimes() *times { return &times{time.Now(), map[string]any{}} }

func (t *times) part(name string) {
	t.out[name] = round(time.Since(t.at).Seconds())
	t.at = time.Now()
}

func (t *times) write() {
	text, err := json.Marshal(t.out)
	check(err)
	check(os.WriteFile(*folder+"/times.json", text, 0o644))
}

// balls is an OBJ of so many balls, each of a material of its own, or on a UDIM tile of its own.
func balls(n int, tiles bool) []byte {
	const nu, nv = 64, 32
	var b bytes.Buffer
	for k := range n {
		m := mesh.Sphere(nu, nv, 0.4, [3]float64{float64(k % 10), float64(k / 10), 0})
		for i, p := range m.Positions {
			w := m.UVs[i]
			if tiles {
				w.X, w.Y = w.X+float32(k%10), w.Y+float32(k/10)
			}
			fmt.Fprintf(&b, "v %g %g %g\nvt %g %g\nvn %g %g %g\n", p.X, p.Y, p.Z, w.X, w.Y, m.Normals[i].X, m.Normals[i].Y, m.Normals[i].Z)
		}
		name := "ball"
		if !tiles {
			name = fmt.Sprintf("ball%d", k)
		}
		fmt.Fprintf(&b, "o ball%d\nusemtl %s\n", k, name)
		from := k*len(m.Positions) + 1
		for _, t := range m.Tris {
			fmt.Fprintf(&b, "f %[1]d/%[1]d/%[1]d %[2]d/%[2]d/%[2]d %[3]d/%[3]d/%[3]d\n", from+int(t[0]), from+int(t[1]), from+int(t[2]))
		}
	}
	return b.Bytes()
}

// plyOf is a model as binary PLY, with its UVs.
func plyOf(m *mesh.Model) []byte {
	out := fmt.Appendf(nil, "ply\nformat binary_little_endian 1.0\nelement vertex %d\nproperty float x\nproperty float y\nproperty float z\nproperty float s\nproperty float t\nelement face %d\nproperty list uchar int vertex_indices\nend_header\n", len(m.Positions), len(m.Tris))
	for i, p := range m.Positions {
		for _, v := range [5]float32{p.X, p.Y, p.Z, m.UVs[i].X, m.UVs[i].Y} {
			out = binary.LittleEndian.AppendUint32(out, math.Float32bits(v))
		}
	}
	for _, t := range m.Tris {
		out = append(out, 3)
		for _, v := range t {
			out = binary.LittleEndian.AppendUint32(out, v)
		}
	}
	return out
}

// workOn brings a model in, bakes it as a draft, opens a page, edits, and delivers.
func workOn(name string, data []byte, split string, size int, doc *strata.Document) {
	t := newTimes()
	s, done := openStudio(*folder)
	id, err := s.Create("large", studio.Upload{store.File{Name: name, Data: data}}, doc)
	check(err)
	t.part("bring_s")
	a, err := s.Open(id)
	check(err)
	if split != "" {
		check(a.Split(split))
	}
	t.part("open_s")
	check(a.SizeSet("", size))
	check(a.SetSize(size))
	check(a.SetSettings(studio.Settings{Quality: "draft", Size: size}))
	check(a.Bake(a.Missing()))
	a.WaitJob(nil)
	if n := len(a.Missing()); n > 0 {
		check(fmt.Errorf("%d maps are missing", n))
	}
	t.part("bake_s")
	done()
	s, done = openStudio(*folder)
	defer done()
	t.at = time.Now()
	a, err = s.Open(id)
	check(err)
	t.part("open_again_s")
	r := &easelRig{asset: a, events: make(chan watched, 100_000)}
	leave := r.watch()
	defer leave()
	t.part("seen_s")
	l := a.Document().Layers[len(a.Document().Layers)/2]
	begun := time.Now()
	_, err = a.Edit(strata.Edit{Do: "set", Layer: l.ID, Path: "opacity", Value: json.RawMessage("0.77")}, false)
	check(err)
	t.out["edit_ms"] = round(time.Since(begun).Seconds() * 1000)
	v := a.Version()
	r.wait(func(e watched) bool { return e.T == "coverage" && e.Version >= v })
	t.part("edit_seen_s")
	check(a.ChangeShipping(json.RawMessage(fmt.Sprintf(`{"preset":"orm-green-down","size":%d,"to":"zip"}`, size))))
	check(a.Deliver("", false))
	a.WaitJob(nil)
	list, err := a.Deliveries()
	check(err)
	if len(list) == 0 {
		check(fmt.Errorf("nothing was delivered"))
	}
	t.part("deliver_s")
	m, sets := a.Model()
	t.out["sets"], t.out["triangles"], t.out["layers"], t.out["size"] = len(sets), len(m.Tris), len(a.Document().Layers), size
	t.write()
}

func manySets() { workOn("balls.obj", balls(8, false), "", 2048, deepStack(60)) }

func manyTiles() { workOn("balls.obj", balls(100, true), uv.PerTile, 512, deepStack(10)) }

func manyLayers() { workOn("balls.obj", balls(2, false), "", 1024, deepStack(400)) }

// manyTriangles bakes a model of two million triangles from one of ten million.
func manyTriangles() {
	t := newTimes()
	s, done := openStudio(*folder)
	defer done()
	id, err := s.Create("large", studio.Upload{store.File{Name: "low.ply", Data: plyOf(mesh.Sphere(2000, 500, 1, [3]float64{}))}}, deepStack(4))
	check(err)
	t.part("bring_s")
	a, err := s.Open(id)
	check(err)
	check(a.SetHigh(studio.Upload{store.File{Name: "high.ply", Data: plyOf(mesh.BumpySphere(2500, 2000))}}, false))
	t.part("high_s")
	check(a.SetSettings(studio.Settings{Quality: "draft", Size: 1024, Front: 0.2, Rear: 0.2}))
	check(a.Bake([]studio.Cell{{Set: "asset", Kind: "normal"}, {Set: "asset", Kind: "ao"}, {Set: "asset", Kind: "curvature"}}))
	a.WaitJob(nil)
	t.part("bake_s")
	r := &easelRig{asset: a, events: make(chan watched, 100_000)}
	leave := r.watch()
	defer leave()
	t.part("seen_s")
	begun := time.Now()
	_, err = a.Edit(strata.Edit{Do: "set", Layer: a.Document().Layers[1].ID, Path: "opacity", Value: json.RawMessage("0.77")}, false)
	check(err)
	t.out["edit_ms"] = round(time.Since(begun).Seconds() * 1000)
	v := a.Version()
	r.wait(func(e watched) bool { return e.T == "coverage" && e.Version >= v })
	t.part("edit_seen_s")
	m, _ := a.Model()
	t.out["triangles"], t.out["high"] = len(m.Tris), 2*2500*2000
	t.write()
}
