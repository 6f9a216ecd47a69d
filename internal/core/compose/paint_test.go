package compose

import (
	"context"
	"math"
	"slices"
	"sync/atomic"
	"testing"

	"crust/internal/core/brush"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// stroke follows a path over a surface: n+1 points from f, which gives places and normals.
func stroke(b brush.Brush, size float64, n int, f func(s float64) (p, n [3]float64)) *brush.Stroke {
	var path []brush.Point
	for i := range n + 1 {
		p, n := f(float64(i) / float64(n))
		path = append(path, brush.Point{float32(p[0]), float32(p[1]), float32(p[2]), float32(n[0]), float32(n[1]), float32(n[2]), 1})
	}
	return &brush.Stroke{Brush: b, Size: float32(size), Seed: 3, Paths: [][]brush.Point{path}}
}

// across is a straight stroke over the flat square metre.
func across(b brush.Brush, size, x0, z0, x1, z1 float64) *brush.Stroke {
	return stroke(b, size, 1, func(s float64) (p, n [3]float64) {
		return [3]float64{x0 + (x1-x0)*s, 0, z0 + (z1-z0)*s}, [3]float64{0, 1, 0}
	})
}

// soft is the round brush at a hardness.
func soft(hardness float32) brush.Brush {
	b := brush.New()
	b.Hardness = hardness
	return b
}

// inStrokes is a document with a brushwork layer of strokes 1 to n.
func inStrokes(t *testing.T, n int) *strata.Document {
	t.Helper()
	d := new(strata.Document)
	coat(d, "#ffffff", func(l *strata.Layer) {
		c := clauseOf(t, d, "brush", nil)
		for i := range n {
			c.Strokes = append(c.Strokes, int32(i+1))
		}
		l.Where = append(l.Where, c)
	})
	return d
}

// painting gives a body strokes, numbered from 1.
func painting(b *Body, strokes ...*brush.Stroke) {
	b.Strokes(func(n int32) *brush.Stroke {
		if int(n) > len(strokes) {
			return nil
		}
		return strokes[n-1]
	})
}

// fall is the round brush at a distance: full inside, and from its hardness on to the rim the curve x²(3 − 2x) (Hermite's cubic).
func fall(d, r, hardness float64) float64 {
	x := min(1, max(0, (r-d)/(r*(1-hardness))))
	return x * x * (3 - 2*x)
}

// A stroke lays down the same at the same distance from its path, whatever island, set or bend lies between: on shuffled and
// turned islands of two sets, of a plane, a cylinder and a sphere, coverage is the closed form of the distance.
func TestStrokesCrossSeamsByTheClosedForm(t *testing.T) {
	const r, hardness = 0.08, 0.4
	for _, shape := range []struct {
		name     string
		faces    int
		surface  func(s, t float64) [3]float64
		path     func(s float64) (p, n [3]float64)
		distance func(p geom.Vec3) float64
	}{
		{"plane", 12, flat,
			func(s float64) (p, n [3]float64) {
				return [3]float64{-0.2 + 1.4*s, 0, 0.3 + 0.4*s}, [3]float64{0, 1, 0}
			},
			func(p geom.Vec3) float64 { // from the line through (−0.2, 0.3) along (1.4, 0.4)
				return math.Abs((float64(p.X)+0.2)*0.4-(float64(p.Z)-0.3)*1.4) / math.Hypot(1.4, 0.4)
			}},
		{"cylinder", 96, func(s, t float64) [3]float64 {
			return [3]float64{0.3 * math.Cos(2*math.Pi*s), 1 - t, 0.3 * math.Sin(2*math.Pi*s)}
		},
			func(s float64) (p, n [3]float64) {
				c, z := math.Cos(2*math.Pi*s), math.Sin(2*math.Pi*s)
				return [3]float64{0.3 * c, 0.5, 0.3 * z}, [3]float64{c, 0, z}
			},
			func(p geom.Vec3) float64 { return math.Abs(float64(p.Y) - 0.5) }},
		{"sphere", 96, func(s, t float64) [3]float64 {
			return [3]float64{0.5 * math.Sin(math.Pi*t) * math.Cos(2*math.Pi*s), 0.5 * math.Cos(math.Pi*t), 0.5 * math.Sin(math.Pi*t) * math.Sin(2*math.Pi*s)}
		},
			func(s float64) (p, n [3]float64) {
				c, z := math.Cos(2*math.Pi*s), math.Sin(2*math.Pi*s)
				return [3]float64{0.5 * c, 0, 0.5 * z}, [3]float64{c, 0, z}
			},
			func(p geom.Vec3) float64 { // the chord from a latitude to the equator
				return 2 * float64(p.Len()) * math.Sin(math.Abs(math.Asin(float64(p.Y/p.Len())))/2)
			}},
	} {
		m := cutUp(shape.faces, 6, 2, shape.surface)
		for _, c := range canvases(t, m, uv.PerMaterial, func(int) int { return 512 }) {
			painting(c.body, stroke(soft(hardness), 2*r, 720, shape.path))
			got := fieldOf(t, c, inStrokes(t, 1), 0, "")
			worst, where := 0.0, geom.Vec3{}
			for i, p := range places(c) {
				if e := math.Abs(float64(got[i]) - fall(shape.distance(p), r, hardness)); e > worst {
					worst, where = e, p
				}
			}
			// Faces lie up to 0.27 mm beneath the round shapes.
			limit := 1. / 255
			if shape.name != "plane" {
				limit = 2. / 255
			}
			if worst > limit {
				t.Errorf("%s, set %s: off by %.2f/255 at %v, distance %.4f", shape.name, c.Set, worst*255, where, shape.distance(where))
			}
		}
	}
}

// Delivering larger evaluates strokes anew: a picture of four times the size, averaged down, is the small one.
func TestStrokesLookTheSameAtAnySize(t *testing.T) {
	var strokes []*brush.Stroke
	for i, b := range brush.Built {
		z := 0.02 + 0.96*float64(i)/float64(len(brush.Built))
		strokes = append(strokes, across(b, 0.05, 0.1, z, 0.9, z+0.02))
	}
	d := inStrokes(t, len(strokes))
	at := func(size int) []float32 {
		c, _ := square(t, size, nil)
		painting(c.body, strokes...)
		v, out := fieldOf(t, c, d, 0, ""), make([]float32, size*size)
		for i, at := range c.Texels() {
			out[at] = v[i]
		}
		return out
	}
	const small = 256
	few := at(small)
	for _, k := range []int{2, 8} {
		many := at(k * small)
		sum, worst, rows := 0.0, 0.0, make([]float64, small)
		for y := range small {
			for x := range small {
				mean := 0.0
				for j := range k {
					for i := range k {
						mean += float64(many[(y*k+j)*small*k+x*k+i])
					}
				}
				e := math.Abs(mean/float64(k*k) - float64(few[y*small+x]))
				sum += e
				rows[y] += e / small
				worst = max(worst, e)
			}
		}
		if mean := sum / (small * small); mean > 2./255 {
			t.Errorf("%d px against %d px: %.2f/255 in the mean, at most %.0f/255", small, k*small, mean*255, worst*255)
		}
		for i := range strokes {
			from := i * small / len(strokes)
			row := 0.0
			for y := from; y < from+small/len(strokes); y++ {
				row += rows[y] / float64(small/len(strokes))
			}
			if row > 5./255 {
				t.Errorf("%s at %d px against %d px: %.2f/255 in the mean of its row", brush.Built[i].Name, small, k*small, row*255)
			}
		}
	}
}

// A ball does not reach through a wall, nor to another sheet behind it, and it goes on round a corner.
func TestABallDoesNotReachThroughAWall(t *testing.T) {
	m := mesh.Grid(8, 8, 0.1, func(s, t float64) [3]float64 { return [3]float64{s, 0, 1 - t} })          // a floor
	m.Append(mesh.Grid(8, 8, 0.1, func(s, t float64) [3]float64 { return [3]float64{s, -0.01, t} }))     // its underside
	m.Append(mesh.Grid(8, 8, 0.1, func(s, t float64) [3]float64 { return [3]float64{s, -0.06, 1 - t} })) // another floor under it
	m.Append(mesh.Grid(8, 8, 0.1, func(s, t float64) [3]float64 { return [3]float64{s, -1 + t, 1} }))    // a wall down from its front edge
	for i := range m.UVs {                                                                               // a quarter of the square each
		q := i / 81
		m.UVs[i] = m.UVs[i].Add(geom.Vec2{X: float32(q % 2), Y: float32(q / 2)}).Mul(0.5)
	}
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	c, err := NewCanvas(context.Background(), body(m, sets, nil), &sets[0], 512)
	if err != nil {
		t.Fatal(err)
	}
	const r = 0.1
	painting(c.body, across(soft(0), 2*r, 0.2, 0.95, 0.8, 0.95))
	got := fieldOf(t, c, inStrokes(t, 1), 0, "")
	top, corner := 0.0, 0
	for i, p := range places(c) {
		switch {
		case p.Y < -0.005 && p.Z < 0.999:
			if got[i] != 0 {
				t.Fatalf("%.3f under the floor, at %v", got[i], p)
			}
		case p.Z > 0.999 && p.Y < -0.001 && p.X > 0.3 && p.X < 0.7:
			// On the wall the distance is that in space.
			want := fall(math.Hypot(float64(p.Y), 0.05), r, 0)
			if math.Abs(float64(got[i])-want) > 1.5/255 {
				t.Fatalf("round the corner at %v: %.4f, want %.4f", p, got[i], want)
			}
			corner++
		default:
			top = max(top, float64(got[i]))
		}
	}
	if top < 0.99 || corner == 0 {
		t.Errorf("at most %.2f on the floor, %d places round the corner", top, corner)
	}
}

// growing is a stroke while it is made, as it stands after each of its batches, and at the end.
func growing(t *testing.T, b brush.Brush, size float64, batches int) (steps []*brush.Stroke) {
	t.Helper()
	pen, err := brush.NewPen(brush.Stroke{Brush: b, Size: float32(size), Seed: 9})
	if err != nil {
		t.Fatal(err)
	}
	for i := range batches {
		var some []brush.Point
		for k := range 4 {
			a := float64(4*i+k) * 0.07
			rad := 0.05 + 0.3*float64(i)/float64(batches)
			some = append(some, brush.Point{float32(0.5 + rad*math.Cos(a)), 0, float32(0.5 + rad*math.Sin(a)), 0, 1, 0, float32(0.5 + 0.4*math.Sin(a))})
		}
		if err := pen.Add(some); err != nil {
			t.Fatal(err)
		}
		steps = append(steps, pen.Stroke())
	}
	pen.Lift()
	return append(steps, pen.Stroke())
}

// While a stroke is made, tiles take what is new of it over what they have. What stands there at the end is bit for bit what the
// finished stroke gives at once; also where a layer above reads the relief of what is painted, or softens it.
func TestAStrokeInPiecesIsTheStrokeAtOnce(t *testing.T) {
	m := cutUp(12, 3, 2, flat)
	d := inStrokes(t, 2)
	d.Layers[0].What.Height = strata.Value{On: true, Number: 1, Blend: "add", Opacity: 1}
	coat(d, "#ff0000", func(l *strata.Layer) {
		c := clauseOf(t, d, "relief", map[string]float64{"radius": 0.05, "depth": 0.0005})
		l.Where = append(l.Where, c)
	})
	coat(d, "#00ff00", func(l *strata.Layer) {
		c := clauseOf(t, d, "same", nil)
		c.Layers = []string{d.Layers[0].ID}
		c.Shape.Soften = 0.04
		l.Where = append(l.Where, c)
		l.Opacity = 0.5
	})
	first := across(soft(0.5), 0.1, 0, 0.2, 1, 0.7)
	for _, name := range []string{"Round, hard", "Airbrush", "Spatter, coarse", "Chip"} {
		b, err := brush.BuiltIn(name)
		if err != nil {
			t.Fatal(err)
		}
		steps := growing(t, b, 0.06, 12)
		live, fresh := canvases(t, m, uv.PerMaterial, func(int) int { return 256 }), canvases(t, m, uv.PerMaterial, func(int) int { return 256 })
		painting(fresh[0].body, first, steps[len(steps)-1])
		have := make([]*Channels, len(live))
		var boxes []geom.Box
		for n, s := range steps {
			painting(live[0].body, first, s)
			for i, c := range live {
				p := program(t, c, d)
				var tiles []int
				if n == 0 {
					have[i] = newChannels(c.Len())
				} else {
					if i == 0 {
						boxes = c.body.Changed()
					}
					tiles = append(p.Near(c, c.Touched(), nil, boxes), 0)
				}
				err := c.Run(context.Background(), p, Pass{Tiles: tiles, Do: func(_, t int, _ Keys, ch *Channels) {
					tile := &c.Surf.Tiles[t]
					to, from := have[i].of(int(tile.From), int(tile.To)).planes(), ch.planes()
					for k := range to {
						if *from[k] != nil {
							copy(*to[k], *from[k])
						}
					}
				}})
				if err != nil {
					t.Fatal(err)
				}
			}
		}
		for i, c := range fresh {
			want := evaluate(t, c, d)
			for k, plane := range map[string][2][]float32{"base": {have[i].Base[0], want.Base[0]}, "green": {have[i].Base[1], want.Base[1]}, "height": {have[i].Height, want.Height}, "normal": {have[i].Normal[0], want.Normal[0]}} {
				if !slices.Equal(plane[0], plane[1]) {
					worst := 0.0
					for j := range plane[0] {
						worst = max(worst, math.Abs(float64(plane[0][j]-plane[1][j])))
					}
					t.Errorf("%s, set %s: %s differs by up to %g", name, c.Set, k, worst)
				}
			}
		}
	}
}

// Erasing takes away what lies there, in the order of the strokes: what is laid over it afterwards stays.
func TestErasingTakesAwayWhatWasThere(t *testing.T) {
	c, _ := square(t, 128, nil)
	rub := across(soft(1), 0.2, 0.5, 0, 0.5, 1)
	rub.Erase = true
	rub.Brush.Opacity = 0.75
	painting(c.body, across(soft(1), 0.2, 0, 0.5, 1, 0.5), rub, across(soft(1), 0.2, 0.5, 0.9, 0.5, 0.9))
	got := fieldOf(t, c, inStrokes(t, 3), 0, "")
	for i, p := range places(c) {
		want := 0.0
		if math.Abs(float64(p.Z)-0.5) < 0.1 {
			want = 1
		}
		if math.Abs(float64(p.X)-0.5) < 0.1 {
			want *= 0.25
		}
		if math.Hypot(float64(p.X)-0.5, float64(p.Z)-0.9) < 0.1 {
			want = 1
		}
		rim := min(math.Abs(math.Abs(float64(p.Z)-0.5)-0.1), math.Abs(math.Abs(float64(p.X)-0.5)-0.1), math.Abs(math.Hypot(float64(p.X)-0.5, float64(p.Z)-0.9)-0.1))
		if rim > 0.01 && math.Abs(float64(got[i])-want) > 1./255 {
			t.Fatalf("at %v: %.3f, want %.3f", p, got[i], want)
		}
	}
}

// A stroke that comes or goes evaluates the tiles that it touches and no other.
func TestAStrokeEvaluatesItsOwnTiles(t *testing.T) {
	c, _ := square(t, 1024, nil)
	strokes := []*brush.Stroke{across(soft(0.5), 0.02, 0.1, 0.1, 0.9, 0.1), across(soft(0.5), 0.02, 0.1, 0.5, 0.2, 0.5)}
	painting(c.body, strokes...)
	keys := make([]Keys, len(c.Surf.Tiles))
	var tiles atomic.Int64
	pass := func(n int) int64 {
		tiles.Store(0)
		err := c.Run(context.Background(), program(t, c, inStrokes(t, n)), Pass{Has: func(t int) Keys { return keys[t] }, Do: func(_, t int, is Keys, _ *Channels) {
			keys[t] = is
			tiles.Add(1)
		}})
		if err != nil {
			t.Fatal(err)
		}
		return tiles.Load()
	}
	pass(1)
	// 10 cm and a brush of 2 cm on tiles of 6.25 cm: three columns and two rows at the most.
	if n := pass(2); n < 2 || n > 6 {
		t.Errorf("%d tiles of %d were evaluated for a short stroke", n, len(c.Surf.Tiles))
	}
	if n := pass(2); n != 0 {
		t.Errorf("%d tiles were evaluated where nothing has changed", n)
	}
}

// Strokes with values of their own show them over those below, and where two mix, by how much of what shows is whose: half of red
// over blue is half red, half blue; over nothing it is red.
func TestStrokesHaveValuesOfTheirOwn(t *testing.T) {
	c, _ := square(t, 128, nil)
	rough := float32(0.25)
	blue, red := across(soft(1), 0.2, 0, 0.5, 1, 0.5), across(soft(1), 0.2, 0.5, 0, 0.5, 1)
	blue.Own = &brush.Values{Colour: "#0000ff"}
	red.Own = &brush.Values{Colour: "#ff0000", Roughness: &rough}
	red.Brush.Opacity = 0.5
	plain := across(soft(1), 0.1, 0.9, 0.9, 0.9, 0.9)
	painting(c.body, blue, red, plain)
	d := inStrokes(t, 3)
	d.Layers[0].What.Colour.Hex = "#00ff00"
	d.Layers[0].What.Roughness = strata.Value{On: true, Number: 0.75, Blend: "over", Opacity: 1}
	ch := evaluate(t, c, d)
	for _, want := range []struct {
		x, z  float32
		rgb   [3]float64
		rough float64
	}{
		{0.2, 0.5, [3]float64{0, 0, 1}, 0.75},
		{0.5, 0.5, [3]float64{0.5, 0, 0.5}, 0.5}, // both cover wholly: half of each
		{0.5, 0.2, [3]float64{0.5 + 0.5*bareColour, 0.5 * bareColour, 0.5 * bareColour}, 0.5*0.25 + 0.5*bareRoughness}, // half red over the bare surface
		{0.9, 0.9, [3]float64{0, 1, 0}, 0.75},
		{0.2, 0.2, [3]float64{bareColour, bareColour, bareColour}, bareRoughness},
	} {
		for i, p := range places(c) {
			if math.Abs(float64(p.X-want.x)) > 0.01 || math.Abs(float64(p.Z-want.z)) > 0.01 {
				continue
			}
			for k := range 3 {
				if got := float64(ch.Base[k][i]); math.Abs(got-want.rgb[k]) > 1./255 {
					t.Errorf("at (%.1f, %.1f): channel %d is %.3f, want %.3f", want.x, want.z, k, got, want.rgb[k])
				}
			}
			if got := float64(ch.Roughness[i]); math.Abs(got-want.rough) > 1./255 {
				t.Errorf("at (%.1f, %.1f): roughness is %.3f, want %.3f", want.x, want.z, got, want.rough)
			}
			break
		}
	}
}

// A stroke that fills covers what it was laid on and nothing else, whatever its size.
func TestFillingCoversWhatItWasLaidOn(t *testing.T) {
	m := cutUp(12, 3, 2, flat)
	other := mesh.Grid(4, 4, 0, func(s, t float64) [3]float64 { return [3]float64{s, 0.5, 1 - t} })
	for i := range other.UVs { // in the free rim of one island
		other.UVs[i] = geom.Vec2{X: 0.001 + 0.01*other.UVs[i].X, Y: 0.001 + 0.01*other.UVs[i].Y}
	}
	other.Parts = []string{"lid"}
	m.Append(other)
	for _, c := range canvases(t, m, uv.PerMaterial, func(int) int { return 256 }) {
		tris := triangles(c)
		islands := uv.NewMap(c.body.model, c.body.sets)
		start := c.body.nearest(geom.Vec3{X: 0.1, Z: 0.1}, geom.Vec3{Y: 1})
		for kind, in := range map[string]func(tri int32) bool{
			brush.FillPart:   func(tri int32) bool { return m.Parts[m.Part[tri]] == "surface" },
			brush.FillJoined: func(tri int32) bool { return m.Parts[m.Part[tri]] == "surface" },
			brush.FillSet:    func(tri int32) bool { return c.body.setOf[tri] == c.body.setOf[start] },
			brush.FillIsland: func(tri int32) bool { return islands.Of[tri] == islands.Of[start] },
			brush.FillAll:    func(int32) bool { return true },
		} {
			s := across(soft(1), 0.001, 0.1, 0.1, 0.1, 0.1)
			s.Fill = kind
			n := int32(slices.Index(brush.Fills, kind))
			c.body.Strokes(func(number int32) *brush.Stroke {
				if number == n {
					return s
				}
				return nil
			})
			d := inStrokes(t, 0)
			d.Layers[0].Where[0].Strokes = strata.Strokes{n}
			got := fieldOf(t, c, d, 0, "")
			for i, v := range got {
				if want := in(tris[i]); (v == 1) != want || v != 0 && v != 1 {
					t.Fatalf("fill %s, set %s: %g on triangle %d, want %v", kind, c.Set, v, tris[i], want)
				}
			}
		}
	}
}
