package deliver

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// fivePieces is a job of five balls, one set each; squeezed, each lies in a fifth part of the same square that no other has.
func fivePieces(t *testing.T, squeezed bool) Job {
	t.Helper()
	m := new(mesh.Model)
	for i := range 5 {
		o := mesh.Sphere(20, 10, 0.2+0.1*float64(i), [3]float64{1.5 * float64(i), 0, 0})
		o.Materials[0].Name, o.Parts[0] = fmt.Sprintf("piece%d", i), fmt.Sprintf("piece%d", i)
		if squeezed {
			for k := range o.UVs {
				o.UVs[k].X = 0.01 + 0.2*float32(i) + 0.18*o.UVs[k].X
			}
		}
		if i == 0 {
			m = o
		} else {
			m.Append(o)
		}
	}
	sets, err := uv.Sets(m, uv.PerMaterial)
	if err != nil {
		t.Fatal(err)
	}
	j := Job{Asset: "five", Model: m, Sets: sets, Maps: func(string) (map[string]*bake.Map, error) { return nil, nil }, Preset: presetNamed(t, "separate"), Size: 256, Aside: t.TempDir()}
	wear(t, &j)
	return j
}

func joinAll(t *testing.T, j *Job, how string) {
	t.Helper()
	sheet := Join{Name: "atlas"}
	for _, s := range j.Sets {
		sheet.Sets = append(sheet.Sets, Cell{Set: s.Key, Side: 1})
	}
	if err := sheet.Lay(how, j.Sets); err != nil {
		t.Fatal(err)
	}
	if err := sheet.Check(); err != nil {
		t.Fatal(err)
	}
	j.Joins = []Join{sheet}
}

// Five sets that occupy other places of one square, laid together, are texel for texel the five sets' own files placed on each other
// by hand; the padding comes after joining, by brute force.
func TestLaidTogetherIsPlacedByHand(t *testing.T) {
	j := fivePieces(t, true)
	joinAll(t, &j, RoundTogether)
	if of, texels := j.Joins[0].Conflicts(j.Model, j.Sets); len(of) > 0 || len(texels) > 0 {
		t.Errorf("conflicts %v where there are none", of)
	}
	d, got := delivered(t, j)
	k := fivePieces(t, true)
	k.Document = j.Document
	_, apart := delivered(t, k)
	covered := make([]bool, 256*256)
	for i := range j.Sets {
		in := make([]bool, 256*256)
		for _, tri := range j.Sets[i].Tris {
			uv.Raster(j.Model, &j.Sets[i], int(tri), 256, 0, 0, func(i int, u, v float32) { in[i] = true })
		}
		for name, p := range got {
			q := apart[strings.Replace(name, "atlas", j.Sets[i].Name, 1)]
			if q == nil {
				t.Fatalf("there is no %s of set %s", name, j.Sets[i].Name)
			}
			for i, on := range in {
				if !on {
					continue
				}
				for c := range p.Channels {
					if a, b := p.Whole[i*p.Channels+c], q.Whole[i*p.Channels+c]; a != b {
						t.Fatalf("%s, texel (%d, %d): %d joined, %d by hand", name, i%256, i/256, a, b)
					}
				}
			}
		}
		for i, on := range in {
			covered[i] = covered[i] || on
		}
	}
	if len(got) < 6 {
		t.Errorf("%d files", len(got))
	}
	// Padding: each texel holds what the nearest covered one of all five does.
	base := got["atlas_basecolor.png"]
	for i := 0; i < 256*256; i += 97 {
		if covered[i] {
			continue
		}
		best := math.MaxInt
		near := map[[3]uint16]bool{}
		for k, on := range covered {
			if !on {
				continue
			}
			dx, dy := i%256-k%256, i/256-k/256
			if dist := dx*dx + dy*dy; dist < best {
				best, near = dist, map[[3]uint16]bool{[3]uint16(base.Whole[3*k:]): true}
			} else if dist == best {
				near[[3]uint16(base.Whole[3*k:])] = true
			}
		}
		if !near[[3]uint16(base.Whole[3*i:])] {
			t.Fatalf("texel (%d, %d) holds %v, the nearest hold %v", i%256, i/256, base.Whole[3*i:3*i+3], near)
		}
	}
	if len(d.Joins) != 1 || d.Files[0].Set != "join:atlas" {
		t.Errorf("the note tells of %v, set %s", d.Joins, d.Files[0].Set)
	}
}

// A made overlap is found and counted.
func TestOverlapsOnASheetAreFound(t *testing.T) {
	j := fivePieces(t, true)
	for _, v := range j.Sets[1].Tris { // the second piece slides half over the first
		for _, k := range j.Model.Tris[v] {
			if j.Model.UVs[k].X > 0.2 && j.Model.UVs[k].X < 0.4 {
				j.Model.UVs[k].X -= 0.1
			}
		}
	}
	joinAll(t, &j, RoundTogether)
	of, texels := j.Joins[0].Conflicts(j.Model, j.Sets)
	if len(of) != 1 || of[0].A != "piece0" || of[0].B != "piece1" || len(texels) != of[0].Texels {
		t.Fatalf("%v, %d texels", of, len(texels))
	}
	// Counted by hand: texels that both cover.
	a, b := make([]bool, ConflictSide*ConflictSide), 0
	for _, tri := range j.Sets[0].Tris {
		uv.Raster(j.Model, &j.Sets[0], int(tri), ConflictSide, 0, 0, func(i int, u, v float32) { a[i] = true })
	}
	seen := map[int]bool{}
	for _, tri := range j.Sets[1].Tris {
		uv.Raster(j.Model, &j.Sets[1], int(tri), ConflictSide, 0, 0, func(i int, u, v float32) {
			if a[i] && !seen[i] {
				seen[i] = true
				b++
			}
		})
	}
	if b != of[0].Texels || b < 1000 {
		t.Errorf("%d texels lie on each other, %d were counted", b, of[0].Texels)
	}
}

// Packed sets keep their look: through the rewritten UVs each place of the model reads what it read from its own set's file, within
// 2/255 in the mean, in a grid and by texel density.
func TestPackedSheetsKeepTheLook(t *testing.T) {
	for _, how := range []string{RoundGrid, RoundDensity} {
		j := fivePieces(t, false)
		j.Size = 128
		_, own := delivered(t, j)
		joinAll(t, &j, how)
		if how == RoundDensity {
			// A metre is as many texels on all, within what whole cells allow; the largest fills most of its side.
			low, high := math.Inf(1), 0.0
			for i, c := range j.Joins[0].Sets {
				density := c.Side * math.Sqrt(j.Sets[i].UVArea/j.Sets[i].Area)
				low, high = min(low, density), max(high, density)
			}
			if high/low > 1.2 {
				t.Errorf("texel densities differ by %.2f", high/low)
			}
		}
		area := 0.0
		for _, c := range j.Joins[0].Sets {
			area += c.Side * c.Side
		}
		if area < 0.4 {
			t.Errorf("%s: the cells fill %.2f of the sheet", how, area)
		}
		j.Size = 512
		d, got := delivered(t, j)
		sheet := got["atlas_basecolor.png"]
		glb := false
		for i, w := range d.Files {
			if strings.HasSuffix(w.File, ".glb") {
				glb = true
				m, err := mesh.Open(mesh.File{Name: w.File, Data: data(t, d, i)}, nil)
				if err != nil {
					t.Fatal(err)
				}
				checkLook(t, how, &j, m, sheet, own)
			}
		}
		if !glb {
			t.Errorf("%s: UVs are rewritten and there is no model", how)
		}
		var diffs []Difference
		if how == RoundGrid {
			var err error
			if diffs, err = Compare(context.Background(), j, d, from(d)); err != nil || len(diffs) == 0 {
				t.Fatal(err)
			}
		}
		for _, f := range diffs {
			if f.Steps > 0.51 {
				t.Errorf("%s: %s %s reads back %.2f steps off", how, f.File, f.Channel, f.Steps)
			}
		}
		wired, err := Wire(d, j.Model, &j.Sets[2], 1024, false, from(d))
		if err != nil || bytes.Equal(wired.Base, make([]byte, len(wired.Base))) {
			t.Error(err)
		}
	}
}

// checkLook reads the middle of each triangle of the delivered model from the sheet and from its own set's file.
func checkLook(t *testing.T, how string, j *Job, m *mesh.Model, sheet *imgfile.Picture, own map[string]*imgfile.Picture) {
	t.Helper()
	if len(m.Tris) != len(j.Model.Tris) {
		t.Fatalf("%d triangles of %d", len(m.Tris), len(j.Model.Tris))
	}
	read := func(p *imgfile.Picture, u, v float32) (out [3]float64) {
		x, y := min(p.Width-1, int(u*float32(p.Width))), min(p.Height-1, int((1-v)*float32(p.Height)))
		for k := range out {
			out[k] = float64(p.Whole[(y*p.Width+x)*p.Channels+k]) / 257
		}
		return out
	}
	middle := func(m *mesh.Model, tri int) (u, v float32) {
		for _, k := range m.Tris[tri] {
			u, v = u+m.UVs[k].X/3, v+m.UVs[k].Y/3
		}
		return u, v
	}
	// Triangles of the file come part by part; each is found by its middle in space.
	at := map[[3]int]int{}
	key := func(m *mesh.Model, tri int) [3]int {
		a, b, c := m.Corners(tri)
		p := a.Add(b).Add(c)
		return [3]int{int(math.Round(float64(p.X) * 1000)), int(math.Round(float64(p.Y) * 1000)), int(math.Round(float64(p.Z) * 1000))}
	}
	for i := range m.Tris {
		at[key(m, i)] = i
	}
	sum, n := 0.0, 0
	for i := range j.Sets {
		for _, tri := range j.Sets[i].Tris {
			k, ok := at[key(j.Model, int(tri))]
			if !ok {
				t.Fatalf("triangle %d is not in the file", tri)
			}
			u, v := middle(j.Model, int(tri))
			x, y := middle(m, k)
			a, b := read(own[j.Sets[i].Name+"_basecolor.png"], u, v), read(sheet, x, y)
			for c := range a {
				sum += math.Abs(a[c] - b[c])
				n++
			}
		}
	}
	if mean := sum / float64(n); mean > 2 || n < 1000 {
		t.Errorf("%s: the look differs by %.2f of 255 in the mean over %d samples", how, mean, n)
	}
}

func TestSheetsSayWhatIsWrong(t *testing.T) {
	two := []Cell{{Set: "a", Side: 0.5}, {Set: "b", X: 0.5, Side: 0.5}}
	for _, c := range []struct {
		joins []Join
		want  string
	}{
		{[]Join{{Name: "one", Sets: two}}, ""}, {[]Join{{Name: "a/b", Sets: two}}, "cannot be the name of a join sheet"}, {[]Join{{Name: "one", Sets: two[:1]}}, "needs two sets"},
		{[]Join{{Name: "one", Sets: []Cell{{Set: "a", Side: 1}, {Set: "a", Side: 1}}}}, "one set twice"}, {[]Join{{Name: "one", Sets: []Cell{{Set: "a", Side: 1}, {Set: "b", X: 0.6, Side: 0.5}}}}, "outside of the sheet"},
		{[]Join{{Name: "one", Sets: []Cell{{Set: "a", Side: 1}, {Set: "b", Side: math.NaN()}}}}, "outside of the sheet"},
		{[]Join{{Name: "one", Sets: two}, {Name: "One", Sets: []Cell{{Set: "c", Side: 1}, {Set: "d", Side: 1}}}}, "two join sheets are called"},
		{[]Join{{Name: "one", Sets: two}, {Name: "two", Sets: []Cell{{Set: "a", Side: 1}, {Set: "d", Side: 1}}}}, "it can go to one of them"},
	} {
		err := CheckJoins(c.joins)
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v: %v, want %q", c.joins, err, c.want)
		}
	}
}
