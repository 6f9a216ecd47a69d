package compose

import (
	"math"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/brush"
	"crust/internal/core/geom"
	"crust/internal/core/letters"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// A stamp wraps round a cylinder over shuffled and turned islands of two sets as if it were paper: a place is covered where it lies
// within the square as the cylinder is unrolled.
func TestStampsWrapOverSeams(t *testing.T) {
	const radius, size = 0.3, 0.5
	half := size / 2 / math.Sqrt2
	m := cutUp(96, 6, 2, func(s, t float64) [3]float64 {
		return [3]float64{radius * math.Cos(2*math.Pi*s), 1 - t, radius * math.Sin(2*math.Pi*s)}
	})
	b := brush.New()
	b.Tip, b.Hardness = "square", 1
	k := &brush.Stroke{Brush: b, Size: size, Stamp: &brush.Stamp{}, Paths: [][]brush.Point{{{radius, 0.5, 0, 1, 0, 0, 1}}}}
	if err := k.Check(); err != nil {
		t.Fatal(err)
	}
	covered := 0
	for _, c := range canvases(t, m, uv.PerMaterial, func(int) int { return 512 }) {
		painting(c.body, k)
		got := fieldOf(t, c, inStrokes(t, 1), 0, "")
		for i, p := range places(c) {
			in := half - max(math.Abs(radius*math.Atan2(float64(p.Z), float64(p.X))), math.Abs(float64(p.Y)-0.5))
			if math.Abs(in) < 2*float64(c.pitch) {
				continue // the rim
			}
			want := float32(0)
			if in > 0 {
				want, covered = 1, covered+1
			}
			if math.Abs(float64(got[i]-want)) > 1./255 {
				t.Fatalf("set %s, at %v, %.4f inside: %g, want %g", c.Set, p, in, got[i], want)
			}
		}
	}
	if covered < 10000 {
		t.Errorf("%d texels are covered", covered)
	}
}

// Text is as sharp at any size of the texture: a picture of four times the size, averaged down, is the small one.
func TestTextLooksTheSameAtAnySize(t *testing.T) {
	b := brush.New()
	k := &brush.Stroke{Brush: b, Size: 0.3, Stamp: &brush.Stamp{Text: &letters.Text{Words: "R8", Font: "block"}}, Paths: [][]brush.Point{{{0.5, 0, 0.5, 0, 1, 0, 1}}}}
	var large, small []float32
	for _, side := range []int{128, 512} {
		c, _ := square(t, side, nil)
		painting(c.body, k)
		got := fieldOf(t, c, inStrokes(t, 1), 0, "")
		at := make([]float32, side*side)
		for i, texel := range c.Texels() {
			at[texel] = got[i]
		}
		small, large = large, at
	}
	sum, n := 0.0, 0
	for y := range 128 {
		for x := range 128 {
			mean := float32(0)
			for j := range 4 {
				for i := range 4 {
					mean += large[(4*y+j)*512+4*x+i] / 16
				}
			}
			if mean > 0 || small[y*128+x] > 0 {
				n++
				sum += math.Abs(float64(mean - small[y*128+x]))
			}
		}
	}
	if n < 1000 || sum/float64(n) > 2./255 {
		t.Errorf("%d texels differ by %.2f/255 in the mean", n, sum/float64(n)*255)
	}
}

// A stamp whose picture has colours lays them down where it is not clear, unless the stroke has a colour of its own.
func TestStampsLayTheirPicturesColours(t *testing.T) {
	a := brush.NewDecal(64, 64, func(x, y int) (rgb [3]float32, opacity float32) {
		switch {
		case y >= 32:
			return rgb, 0
		case x < 32:
			return [3]float32{1, 0, 0}, 1
		}
		return [3]float32{0, 0, 1}, 1
	})
	b := brush.New()
	b.Tip, b.Alpha, b.Name = "picture", a.Hash(), "Sign"
	k := &brush.Stroke{Brush: b, Size: 0.4, Stamp: &brush.Stamp{Straight: true}, Paths: [][]brush.Point{{{0.5, 0, 0.5, 0, 1, 0, 1}}}}
	k.Attach(a)
	d := inStrokes(t, 1)
	d.Layers[0].What.Colour.Hex = "#00ff00"
	for _, own := range []string{"", "#ffff00"} {
		if own != "" {
			k.Own = &brush.Values{Colour: own}
		}
		c, _ := square(t, 128, nil)
		painting(c.body, k)
		ch := evaluate(t, c, d)
		left, right := [3]float32{1, 0, 0}, [3]float32{0, 0, 1}
		if own != "" {
			left, right = [3]float32{1, 1, 0}, [3]float32{1, 1, 0}
		}
		for i, p := range places(c) {
			// The tip's right is +X on a floor, and its up −Z.
			x, y := p.X-0.5, 0.5-p.Z
			want := [3]float32{bareColour, bareColour, bareColour}
			switch {
			case max(x, -x) < 0.01 || max(y, -y) < 0.01 || max(x, -x, y, -y) > 0.19 && max(x, -x, y, -y) < 0.21:
				continue
			case max(x, -x, y, -y) < 0.2 && y > 0 && x < 0:
				want = left
			case max(x, -x, y, -y) < 0.2 && y > 0:
				want = right
			}
			for n := range want {
				if got := ch.Base[n][i]; math.Abs(float64(got-want[n])) > 1.5/255 {
					t.Fatalf("own %q, at %v: channel %d is %.3f, want %.3f", own, p, n, got, want[n])
				}
			}
		}
	}
}

// A stroke is held to the colour of the ID map that it began on, to its UV island, and to what is seen from a place; a fill covers
// a colour of the ID map.
func TestStrokesAreHeld(t *testing.T) {
	const size = 64
	ids := &bake.Map{Kind: bake.ID, Size: size, Channels: 3, Pix: make([]uint16, 3*size*size)}
	for i := range size * size {
		ids.Pix[3*i+i%size*3/size] = 65535 // three stripes: red, green, blue
	}
	c, _ := square(t, size, map[string]*bake.Map{bake.ID: ids})
	stripe := func(p geom.Vec3) int { // u is x on the flat square
		x, _ := c.body.square(spotNear(c.body, p))
		return int(x*size) * 3 / size
	}
	for _, fill := range []string{"", brush.FillID} {
		k := across(soft(1), 0.3, 0.5, 0.5, 0.9, 0.5)
		if fill != "" {
			k.Fill = fill
		} else {
			k.Hold = &brush.Hold{ID: true}
			k.Size = 4
		}
		if !k.NeedsIDs() {
			t.Error("it does not need the ID map")
		}
		c, _ = square(t, size, map[string]*bake.Map{bake.ID: ids})
		painting(c.body, k)
		began, on, off, all := stripe(k.Paths[0][0].At()), 0, 0, places(c)
		for i, v := range fieldOf(t, c, inStrokes(t, 1), 0, "") {
			want := float32(0)
			if stripe(all[i]) == began {
				want, on = 1, on+1
			} else {
				off++
			}
			if v != want {
				t.Fatalf("fill %q, at %v: %g, want %g", fill, all[i], v, want)
			}
		}
		if on < 1000 || off < 2000 {
			t.Errorf("%d places on, %d off", on, off)
		}
	}

	m := cutUp(12, 3, 2, flat)
	lid := mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{0.5 * s, 0.3, 1 - t} })
	for i := range lid.UVs {
		lid.UVs[i] = geom.Vec2{X: 0.001 + 0.01*lid.UVs[i].X, Y: 0.001 + 0.01*lid.UVs[i].Y}
	}
	lid.Parts = []string{"lid"}
	m.Append(lid)
	for _, c := range canvases(t, m, uv.PerMaterial, func(int) int { return 256 }) {
		islands := uv.NewMap(c.body.model, c.body.sets)
		for name, k := range map[string]*brush.Stroke{"seen": across(soft(1), 4, 0.7, 0.5, 0.8, 0.5), "island": across(soft(1), 4, 0.7, 0.5, 0.8, 0.5)} {
			if name == "seen" {
				k.Hold = &brush.Hold{Seen: true, Eye: [3]float32{0.5, 2, 0.5}}
			} else {
				k.Hold = &brush.Hold{Island: true}
			}
			painting(c.body, k)
			start := c.body.nearest(k.Paths[0][0].At(), geom.Vec3{Y: 1})
			tris, all := triangles(c), places(c)
			d := inStrokes(t, 0)
			n := int32(1)
			if name == "seen" {
				n = 2
			}
			c.body.Strokes(func(number int32) *brush.Stroke {
				if number == n {
					return k
				}
				return nil
			})
			d.Layers[0].Where[0].Strokes = strata.Strokes{n}
			for i, v := range fieldOf(t, c, d, 0, "") {
				p := all[i]
				want := islands.Of[tris[i]] == islands.Of[start]
				if name == "seen" {
					// The eye is 2 m up, the lid 0.3 m: its rim at 0.5 m hides the floor as far as there, straight below the eye.
					if math.Abs(float64(p.X)-0.5) < 0.01 {
						continue
					}
					want = p.Y > 0.1 || p.X > 0.5 || !lidHides(p)
				}
				if (v > 0) != want {
					t.Fatalf("%s, at %v: %g, want %v", name, p, v, want)
				}
			}
		}
	}
}

// lidHides tells whether the lid of TestStrokesAreHeld lies between a place of the floor and the eye.
func lidHides(p geom.Vec3) bool {
	f := float32(0.3 / 2.)
	x, z := p.X+(0.5-p.X)*f, p.Z+(0.5-p.Z)*f
	return x > 0 && x < 0.5 && z > 0 && z < 1
}

// spotNear is the place of the surface nearest to a point.
func spotNear(b *Body, p geom.Vec3) spot { return b.spotOn(b.nearest(p, geom.Vec3{Y: 1}), p) }

// Where it has to come soon, what is painted is seen at once and averages over it are those from before; afterwards all is as if it
// had been evaluated whole from the beginning.
func TestAveragesMayComeLater(t *testing.T) {
	of := func(n int) *strata.Document {
		d := inStrokes(t, n)
		d.Layers[0].What.Height = strata.Value{On: true, Number: 2, Blend: "over", Opacity: 1}
		coat(d, "#ff0000", func(l *strata.Layer) {
			c := clauseOf(t, d, "relief", map[string]float64{"radius": 0.1})
			l.Where = append(l.Where, c)
		})
		return d
	}
	first, second := across(soft(1), 0.1, 0.2, 0.3, 0.8, 0.3), across(soft(1), 0.1, 0.2, 0.7, 0.8, 0.7)
	fresh := func() *Canvas {
		c, _ := square(t, 128, nil)
		painting(c.body, first, second)
		return c
	}
	differ := func(a, b *Channels) (worst float64) {
		for i := range a.Base[1] {
			worst = max(worst, math.Abs(float64(a.Base[1][i]-b.Base[1][i])))
		}
		return worst
	}
	c := fresh()
	before := evaluate(t, c, of(1))
	if !c.body.Hurry(true) {
		t.Fatal("averages that were just made are made anew in a hurry")
	}
	soon := evaluate(t, c, of(2))
	c.body.Hurry(false)
	whole, want := evaluate(t, c, of(2)), evaluate(t, fresh(), of(2))
	if d := differ(whole, want); d > 0 {
		t.Errorf("afterwards it differs by %g from what it is at once", d)
	}
	if differ(soon, before) < 0.1 || differ(soon, want) < 0.02 {
		t.Errorf("in a hurry it differs by %g from before and by %g from the whole", differ(soon, before), differ(soon, want))
	}
}

// A stamp whose picture is a normal map turns the surface's normals as it lies: turned by a right angle, what leant to its right
// leans up. Elsewhere, and where the picture is clear, they stay.
func TestStampsLeanNormals(t *testing.T) {
	// Half way to the right: x = 0.6, z = 0.8, in 8 bits.
	a := brush.NewNormals(16, 16, func(x, y int) (rgb [3]float32, opacity float32) {
		if y >= 8 {
			return [3]float32{0.5, 0.5, 1}, 0
		}
		return [3]float32{0.8, 0.5, 0.9}, 1
	})
	b := brush.New()
	b.Tip, b.Alpha, b.Name = "picture", a.Hash(), "Dent"
	for _, turn := range []float32{0, 90} {
		b.Turn = turn
		k := &brush.Stroke{Brush: b, Size: 0.4, Stamp: &brush.Stamp{}, Paths: [][]brush.Point{{{0.5, 0, 0.5, 0, 1, 0, 1}}}}
		k.Attach(a)
		if !k.Leans() || k.Coloured() {
			t.Fatal("it is taken for a picture of colours")
		}
		c, _ := square(t, 128, nil)
		painting(c.body, k)
		d := inStrokes(t, 1)
		d.Layers[0].What.Normal = strata.Value{On: true, Number: 1, Blend: "over", Opacity: 1}
		ch := evaluate(t, c, d)
		// The square's tangent is +X and its bitangent −Z, as the tip's right and up are.
		want := [3]float32{0.6, 0, 0.8}
		if turn == 90 {
			want = [3]float32{0, 0.6, 0.8}
		}
		n := 0
		for i, p := range places(c) {
			x, y := p.X-0.5, 0.5-p.Z
			if turn == 90 {
				x, y = y, -x
			}
			for j := range want {
				got, to := ch.Normal[j][i], float32(0)
				if j == 2 {
					to = 1
				}
				switch {
				case max(x, -x) < 0.18 && y > 0.02 && y < 0.18:
					to = want[j]
					n++
				case max(x, -x, y, -y) > 0.22, y < -0.02:
				default:
					continue
				}
				if math.Abs(float64(got-to)) > 0.01 {
					t.Fatalf("turned %g°, at %v: component %d is %.3f, want %.3f", turn, p, j, got, to)
				}
			}
		}
		if n < 1000 {
			t.Errorf("%d components were compared", n)
		}
	}
}
