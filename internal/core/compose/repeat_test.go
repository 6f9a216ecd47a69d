package compose

import (
	"context"
	"fmt"
	"math"
	"slices"
	"testing"

	"crust/internal/core/brush"
	"crust/internal/core/mesh"
	"crust/internal/core/picture"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// repeating is a floor of one metre that repeats.
func repeating(t *testing.T, size int) *Canvas {
	t.Helper()
	return repeatingOf(t, mesh.FlatSquare("floor", 1), size)
}

func repeatingOf(t *testing.T, m *mesh.Model, size int) *Canvas {
	t.Helper()
	var err error
	if m.Square, err = m.AsSquare(); err != nil {
		t.Fatal(err)
	}
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	c, err := NewCanvas(context.Background(), body(m, sets, nil), &sets[0], size)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// rows are a channel's values by row and column.
func rowsOf(c *Canvas, v []float32) [][]float32 {
	size := c.Surf.Size
	out := make([][]float32, size)
	for i := range out {
		out[i] = make([]float32, size)
	}
	for i, at := range c.Texels() {
		out[int(at)/size][int(at)%size] = v[i]
	}
	return out
}

// named are the channels of a picture, those that are there.
func (ch *Channels) named() map[string][]float32 {
	all := map[string][]float32{"red": ch.Base[0], "green": ch.Base[1], "blue": ch.Base[2], "roughness": ch.Roughness, "metallic": ch.Metallic, "height": ch.Height, "normal x": ch.Normal[0], "normal y": ch.Normal[1], "occlusion": ch.AO}
	for k, v := range all {
		if v == nil {
			delete(all, k)
		}
	}
	return all
}

// steps are the differences between neighbours across all lines between columns, line by line; the last is from the last column to
// the first.
func steps(rows [][]float32, turned bool) (mean, most []float64) {
	n := len(rows)
	mean, most = make([]float64, n), make([]float64, n)
	for i := range n {
		for j := range n {
			a, b := rows[i][j], rows[i][(j+1)%n]
			if turned {
				a, b = rows[j][i], rows[(j+1)%n][i]
			}
			d := math.Abs(float64(a - b))
			mean[j] += d / float64(n)
			most[j] = max(most[j], d)
		}
	}
	return mean, most
}

// continues checks that every channel goes on over the rim as it does inside: the line between the last column and the first is no
// stronger than the strongest of those inside.
func continues(t *testing.T, what string, c *Canvas, ch *Channels) {
	t.Helper()
	for name, v := range ch.named() {
		for _, turned := range []bool{false, true} {
			mean, most := steps(rowsOf(c, v), turned)
			last := len(mean) - 1
			if m, limit := mean[last], slices.Max(mean[:last]); m > 1.05*limit+2e-3 {
				t.Errorf("%s, %s: across the rim neighbours differ by %.4f in the mean, inside by %.4f at the most (turned %v)", what, name, m, limit, turned)
			}
			if m, limit := most[last], slices.Max(most[:last]); m > 1.1*limit+4e-3 {
				t.Errorf("%s, %s: across the rim neighbours differ by %.4f, inside by %.4f at the most (turned %v)", what, name, m, limit, turned)
			}
		}
	}
}

// On a square that repeats everything goes on from left to right and from top to bottom: fields, patterns, pictures, their warps and
// averages, the relief of layers, strokes and what works on them, normals.
func TestASquareRepeatsInEveryChannel(t *testing.T) {
	const size = 192
	lays := func(change func(d *strata.Document, l *strata.Layer)) func(d *strata.Document) {
		return func(d *strata.Document) {
			coat(d, "#808080", nil)
			coat(d, "#d0a020", func(l *strata.Layer) {
				l.What.Roughness = strata.Value{On: true, Number: 0.9, Blend: "over", Opacity: 1}
				l.What.Height = strata.Value{On: true, Number: 3, Blend: "add", Opacity: 1}
				change(d, l)
			})
		}
	}
	where := func(kind string, params map[string]float64, change func(c *strata.Clause)) func(d *strata.Document) {
		return lays(func(d *strata.Document, l *strata.Layer) {
			c := clauseOf(t, d, kind, params)
			if change != nil {
				change(&c)
			}
			l.Where = append(l.Where, c)
		})
	}
	documents := map[string]func(d *strata.Document){
		"clouds":            where("noise", map[string]float64{"size": 0.3}, nil),
		"cells, drawn out":  where("noise", map[string]float64{"size": 0.05, "form": 4, "stretch": 5, "along": 1}, nil),
		"stones":            where("pattern", map[string]float64{"form": 6, "size": 0.13, "gap": 0.1, "jitter": 0.6}, nil),
		"hexagons, turned":  where("pattern", map[string]float64{"form": 3, "size": 0.09, "gap": 0.1, "turn": 37}, nil),
		"softened":          where("noise", map[string]float64{"size": 0.1, "form": 5}, func(c *strata.Clause) { c.Shape.Soften = 0.08 }),
		"softened far":      where("noise", map[string]float64{"size": 0.4}, func(c *strata.Clause) { c.Shape.Soften = 3 }),
		"warped":            where("pattern", map[string]float64{"form": 1, "size": 0.12}, func(c *strata.Clause) { c.Shape.Warp = 0.04 }),
		"painted":           where("brush", nil, func(c *strata.Clause) { c.Strokes = strata.Strokes{1, 2} }),
		"painted, softened": where("brush", nil, func(c *strata.Clause) { c.Strokes = strata.Strokes{1, 2}; c.Shape.Soften = 0.05 }),
		"relief": func(d *strata.Document) {
			where("pattern", map[string]float64{"form": 6, "size": 0.21, "gap": 0.15, "jitter": 0.5}, nil)(d)
			coat(d, "#203010", func(l *strata.Layer) {
				c := clauseOf(t, d, "relief", map[string]float64{"form": 1, "radius": 0.05, "depth": 0.002})
				c.Shape.Soften = 0.02
				l.Where = append(l.Where, c)
				l.What.Roughness = strata.Value{On: true, Number: 0.2, Blend: "over", Opacity: 1}
			})
		},
		"a picture by UV": lays(func(_ *strata.Document, l *strata.Layer) {
			l.What.Colour.Source = &strata.Source{Kind: "picture", Picture: "p1", Of: "colour", Lay: map[string]float64{"by": strata.ByUV, "repeats": 3, "turn": 20, "u": 0.3}}
		}),
		"a picture by metres": lays(func(_ *strata.Document, l *strata.Layer) {
			l.What.Colour.Source = &strata.Source{Kind: "picture", Picture: "p1", Of: "colour", Lay: map[string]float64{"by": strata.ByBox, "size": 0.37, "mirror": 1}}
			l.What.Height.Source = &strata.Source{Kind: "picture", Picture: "p1", Of: "red", Low: -2, High: 2, Lay: map[string]float64{"by": strata.ByPlane, "from": 0, "size": 0.37}}
		}),
		"a normal map": lays(func(_ *strata.Document, l *strata.Layer) {
			l.What.Normal = strata.Value{On: true, Number: 1, Blend: "over", Opacity: 1, Source: &strata.Source{Kind: "picture", Picture: "p1", Of: strata.NormalOf[0], Lay: map[string]float64{"by": strata.ByBox, "size": 0.3, "turn": 90}}}
		}),
	}
	chalk := brush.New()
	chalk.Scatter, chalk.JitterSize, chalk.Spacing = 0.6, 0.5, 0.3
	strokes := []*brush.Stroke{across(soft(0.3), 0.2, 0.2, 0.1, 0.9, -0.3), across(chalk, 0.1, -0.7, 0.45, 0.2, 0.55)}
	for name, build := range documents {
		c := repeating(t, size)
		painting(c.body, strokes...)
		shown(t, c, picture.Colour, 64, 64, 3, func(x, y, k int) float64 {
			return 0.5 + 0.3*math.Sin(2*math.Pi*float64(x+k)/64) + 0.15*math.Cos(2*math.Pi*float64(3*y+x)/64)
		})
		d := new(strata.Document)
		build(d)
		ch := evaluate(t, c, d)
		red := ch.named()["roughness"]
		if name[0] != 'a' && name != "softened far" && slices.Max(red)-slices.Min(red) < 0.1 {
			t.Errorf("%s: it is the same everywhere (%g to %g)", name, slices.Min(red), slices.Max(red))
		}
		continues(t, name, c, ch)
	}
}

// A torus has no middle: strokes moved by some way over the rim give the picture moved by as many texels, with all that comes of
// them: height, normals, averages, edges of relief, a stencil, mirrored copies, smudges.
func TestStrokesMayLieAnywhereOnASquare(t *testing.T) {
	const size = 128
	document := func() *strata.Document {
		d := inStrokes(t, 5)
		d.Layers[0].What.Height = strata.Value{On: true, Number: 4, Blend: "add", Opacity: 1}
		d.Layers[0].What.Roughness = strata.Value{On: true, Number: 0.9, Blend: "over", Opacity: 1}
		coat(d, "#10a040", func(l *strata.Layer) {
			c := clauseOf(t, d, "relief", map[string]float64{"form": 0, "radius": 0.06, "depth": 0.003})
			l.Where = append(l.Where, c)
			l.Soften = 0.03
		})
		coat(d, "#a01040", func(l *strata.Layer) {
			c := clauseOf(t, d, "brush", nil)
			c.Strokes, c.Shape.Soften = strata.Strokes{2}, 0.15
			l.Where = append(l.Where, c)
		})
		return d
	}
	spray := brush.New()
	spray.Scatter, spray.JitterSize, spray.Spacing, spray.Flow = 0.8, 0.5, 0.2, 0.6
	evaluated := func(dx, dz float64) (*Canvas, *Channels) {
		c := repeating(t, size)
		twice := across(soft(0.6), 0.07, -0.3+dx, 0.2+dz, -0.1+dx, 0.25+dz)
		twice.Again = &brush.Again{X: true, Centre: [3]float32{float32(dx), 0, float32(dz)}}
		clone := across(soft(0.5), 0.2, 0.1+dx, -0.3+dz, 0.3+dx, -0.35+dz)
		clone.Work, clone.Source = brush.WorkClone, &brush.Point{float32(-0.1 + dx), 0, float32(-0.1 + dz), 0, 1, 0, 1}
		painting(c.body, across(soft(0.5), 0.16, -0.2+dx, -0.2+dz, 0.3+dx, 0.1+dz), across(spray, 0.12, 0.1+dx, 0.3+dz, -0.3+dx, 0.1+dz), twice, working(brush.WorkSmudge, 0.15, 0.1+dx, -0.1+dz, 0.2+dx, 0.1+dz), clone)
		return c, evaluate(t, c, document())
	}
	c, ch := evaluated(0, 0)
	for _, by := range [][2]int{{size / 2, size / 2}, {-40, 8}, {3 * size / 4, -size}} {
		o, moved := evaluated(float64(by[0])/size, float64(by[1])/size)
		for name, v := range ch.named() {
			a, b := rowsOf(c, v), rowsOf(o, moved.named()[name])
			sum, most := 0.0, 0.0
			for i := range size {
				for j := range size {
					e := math.Abs(float64(a[i][j] - b[((i+by[1])%size+size)%size][((j+by[0])%size+size)%size]))
					sum += e / (size * size)
					most = max(most, e)
				}
			}
			// Averages stand at points that do not move along.
			if sum > 1.5e-3 || most > 0.09 {
				t.Errorf("moved by %v texels, %s is off by %.4f in the mean and %.3f at the most", by, name, sum, most)
			}
		}
	}
}

// An average looks round the rim: of a climb from 0 at the left to 1 at the right it is about a half at both rims, where the climb ends and
// begins again, and in the middle the climb itself.
func TestAveragesOfASquareLookRound(t *testing.T) {
	const size = 96
	c := repeating(t, size)
	d := new(strata.Document)
	coat(d, "#808080", func(l *strata.Layer) {
		l.What.Roughness = strata.Value{On: true, Number: 1, Blend: "over", Opacity: 1}
		k := clauseOf(t, d, "reach", map[string]float64{"toward": 2, "from": 1, "to": 0})
		k.Shape.Soften = 0.1
		l.Where = append(l.Where, k)
	})
	base := d.Clone()
	base.Layers[0].Where = nil
	base.Layers[0].What.Roughness.Number = 0
	d.Layers = append(base.Layers, d.Layers...)
	d.Layers[0].ID = "l0"
	rough := rowsOf(c, evaluate(t, c, d).Roughness)
	for i := range size {
		for _, k := range []struct {
			at   int
			want float64
		}{{0, 0.5}, {size - 1, 0.5}, {size / 2, 0.5}, {size / 4, 0.25}, {3 * size / 4, 0.75}} {
			if got := float64(rough[i][k.at]); math.Abs(got-k.want) > 0.06 {
				t.Fatalf("column %d of row %d is %.3f, want %.2f", k.at, i, got, k.want)
			}
		}
	}
}

// Normals are the slopes of the height, also between the last column and the first: of a height that climbs from left to right and is as high
// on the left rim of the copy beside it as on its own, the rim is a cliff.
func TestNormalsOfASquareAreSlopesRound(t *testing.T) {
	const size = 64
	c := repeating(t, size)
	d := new(strata.Document)
	coat(d, "#808080", func(l *strata.Layer) {
		l.What.Height = strata.Value{On: true, Number: 40, Blend: "over", Opacity: 1}
		l.Where = append(l.Where, clauseOf(t, d, "reach", map[string]float64{"toward": 2, "from": 1, "to": 0}))
	})
	ch := evaluate(t, c, d)
	h, x, z := rowsOf(c, ch.Height), rowsOf(c, ch.Normal[0]), rowsOf(c, ch.Normal[2])
	steep := 0
	for i := range size {
		for j := range size {
			want := float64(h[i][(j+size-1)%size]-h[i][(j+1)%size]) / (2. / size)
			if got := float64(x[i][j] / z[i][j]); math.Abs(got-want) > 0.02*math.Abs(want)+1e-3 {
				t.Fatalf("at %d, %d it leans by %.4f, the height by %.4f", j, i, got, want)
			}
			if want > 0.5 {
				steep++
			}
		}
	}
	if steep != 2*size {
		t.Errorf("%d texels stand at the cliff, want two columns", steep)
	}
}

// A stroke may begin on a copy of the square, or take from one, however far off: it is the same as on the square itself.
func TestStrokesOfCopiesAreThoseOfTheSquare(t *testing.T) {
	const size = 64
	evaluated := func(off float64) []float32 {
		m := mesh.FlatSquare("floor", 1)
		m.Parts = []string{"a", "b"}
		for i := range m.Part {
			m.Part[i] = int32(i * 2 / len(m.Part))
		}
		c := repeatingOf(t, m, size)
		fill := across(soft(1), 0.1, -0.2+off, 0.3+off, -0.2+off, 0.3+off)
		fill.Fill = brush.FillPart
		clone := across(soft(1), 0.3, 0.3, -0.3, 0.3, -0.31)
		clone.Work, clone.Source = brush.WorkClone, &brush.Point{float32(-0.3 + off), 0, -0.3, 0, 1, 0, 1}
		painting(c.body, fill, across(soft(1), 0.2, -0.3, -0.3, -0.3, -0.25), clone)
		d := inStrokes(t, 3)
		d.Layers[0].What.Roughness = strata.Value{On: true, Number: 1, Blend: "over", Opacity: 1}
		return evaluate(t, c, d).Roughness
	}
	want := evaluated(0)
	if low, high := slices.Min(want), slices.Max(want); high-low < 0.3 {
		t.Fatalf("it goes from %g to %g", low, high)
	}
	for _, off := range []float64{1, 2, -3} {
		got := evaluated(off)
		for i := range want {
			if math.Abs(float64(got[i]-want[i])) > 1e-3 {
				t.Fatalf("begun %g squares off, texel %d is %g, want %g", off, i, got[i], want[i])
			}
		}
	}
}

// What is asked of a square that repeats.
func TestSquaresThatCanRepeat(t *testing.T) {
	m := mesh.FlatSquare("floor", 3)
	q, err := m.AsSquare()
	if err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprint(q.U, q.V, q.Low); got != "{3 0 0} {0 0 -3} {-1.5 0 1.5}" {
		t.Errorf("its sides and corner are %s", got)
	}
	m.Square = q
	around := m.Surrounded()
	if n := len(around.Tris); n != 9*len(m.Tris) {
		t.Errorf("%d faces with its copies", n)
	}
	box := around.Bounds()
	if box.Size().X != 9 || box.Size().Z != 9 || box.Size().Y != 0 {
		t.Errorf("with its copies it is %v", box.Size())
	}
}
