package brush

import (
	"math"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/letters"
)

// laid is what a stroke lays down at places of a surface.
func laid(s *Stroke, pitch float32, at, normal []geom.Vec3) []float32 {
	p := &Places{Pitch: pitch}
	all := geom.EmptyBox()
	for i := range at {
		p.X, p.Y, p.Z = append(p.X, at[i].X), append(p.Y, at[i].Y), append(p.Z, at[i].Z)
		p.NX, p.NY, p.NZ = append(p.NX, normal[i].X), append(p.NY, normal[i].Y), append(p.NZ, normal[i].Z)
		all = all.Add(at[i])
	}
	p.Boxes = []geom.Box{all}
	p.FindRuns()
	k := Ready(s)
	cover := make([]float32, len(at))
	k.Lay(p, 0, k.All(), cover)
	k.Finish(p, cover)
	return cover
}

func stampOf(size float32, tip string, at, n geom.Vec3, stamp Stamp) *Stroke {
	b := New()
	b.Tip, b.Hardness = tip, 1
	return &Stroke{Brush: b, Size: size, Stamp: &stamp, Paths: [][]Point{{{at.X, at.Y, at.Z, n.X, n.Y, n.Z, 1}}}}
}

// On a cylinder a stamp that wraps is as long along the arc as it is wide, up and down, and aslant; one that goes straight down is as
// wide seen from where it comes. The square's half side is its size over 2√2.
func TestStampsWrapOrGoStraight(t *testing.T) {
	const radius, size, pitch = 0.5, 0.8, 0.0005
	half := size / 2 / math.Sqrt2
	for _, turn := range []float32{0, 30} {
		for _, straight := range []bool{false, true} {
			s := stampOf(size, "square", geom.Vec3{Z: radius}, geom.Vec3{Z: 1}, Stamp{Straight: straight, Depth: 0.4})
			s.Brush.Turn = turn
			sin, cos := math.Sincos(float64(turn) * math.Pi / 180)
			var at, normal []geom.Vec3
			var inside []float64 // how far a place lies inside, by the closed form
			for i := -400; i <= 400; i++ {
				angle := float64(i) / 400 * 1.2
				for _, y := range []float64{-0.35, -0.27, -0.1, 0, 0.2, 0.28, 0.31} {
					x := radius * angle
					if straight {
						x = radius * math.Sin(angle)
					}
					u, v := x*cos+y*sin, y*cos-x*sin
					inside = append(inside, half-max(math.Abs(u), math.Abs(v)))
					n := geom.Vec3{X: float32(math.Sin(angle)), Z: float32(math.Cos(angle))}
					normal = append(normal, n)
					at = append(at, geom.Vec3{X: n.X * radius, Y: float32(y), Z: n.Z * radius})
				}
			}
			for i, c := range laid(s, pitch, at, normal) {
				want := float32(0)
				switch {
				case math.Abs(inside[i]) < 2*pitch:
					continue // the rim
				case inside[i] > 0:
					want = 1
				}
				if math.Abs(float64(c-want)) > 1e-3 {
					t.Fatalf("turned %g°, straight %v, at %v: %g, want %g", turn, straight, at[i], c, want)
				}
			}
		}
	}
}

// Round the edge of a box a stamp goes on without a jump, and it does not reach a sheet that lies deeper than it may, nor the back of
// the wall that it lies on.
func TestStampsKeepToTheirDepth(t *testing.T) {
	s := stampOf(0.4, "square", geom.Vec3{}, geom.Vec3{Z: 1}, Stamp{Depth: 0.05})
	at := []geom.Vec3{{X: 0.1}, {X: 0.1, Z: -0.04}, {X: 0.1, Z: -0.06}, {X: 0.1, Z: -0.01}, {X: 0.11, Z: -0.02}, {X: 0.11, Z: -0.2}}
	normal := []geom.Vec3{{Z: 1}, {Z: 1}, {Z: 1}, {Z: -1}, {X: 1}, {X: 1}}
	for i, want := range []bool{true, true, false, false, true, false} {
		if c := laid(s, 0.001, at, normal)[i]; (c > 0.05) != want {
			t.Errorf("wrapped, at %v facing %v: %g", at[i], normal[i], c)
		}
	}
	s.Stamp.Straight = true
	for i, want := range []bool{true, true, false, false, false, false} {
		if c := laid(s, 0.001, at, normal)[i]; (c > 0.05) != want {
			t.Errorf("straight, at %v facing %v: %g", at[i], normal[i], c)
		}
	}
}

// A row has a stamp at each end of its path and the others at equal distances between, as near to its gap as that goes.
func TestRowsHaveEqualGaps(t *testing.T) {
	s := stampOf(0.02, "round", geom.Vec3{}, geom.Vec3{Y: 1}, Stamp{Gap: 0.1})
	s.Paths[0] = []Point{{0, 0, 0, 0, 1, 0, 1}, {0.3, 0, 0, 0, 1, 0, 1}, {0.3, 0, 0.24, 0, 1, 0, 1}}
	k := Ready(s)
	if len(k.marks) != 6 {
		t.Fatalf("54 cm at 10 cm make %d stamps", len(k.marks))
	}
	for i := range k.marks {
		far := 0.54 * float32(i) / 5
		want := geom.Vec3{X: min(far, 0.3), Z: max(0, far-0.3)}
		if d := k.marks[i].at.Dist(want); d > 1e-5 {
			t.Errorf("stamp %d lies at %v, want %v", i, k.marks[i].at, want)
		}
	}
	s.Stamp.Gap = 1e-6
	if s.Check() == nil {
		t.Error("a row of half a million stamps was taken")
	}
}

// A text is as high as its size says, and stands upright on a wall.
func TestTextStandsOnTheWall(t *testing.T) {
	s := stampOf(0.2, "round", geom.Vec3{X: 1, Y: 2}, geom.Vec3{Z: 1}, Stamp{Text: &letters.Text{Words: "L"}})
	if err := s.Check(); err != nil {
		t.Fatal(err)
	}
	wide, high := s.Half()
	if math.Abs(float64(high)-0.1) > 1e-4 || wide < 0.03 || wide > 0.08 {
		t.Errorf("half of it is %g × %g m", wide, high)
	}
	var at, normal []geom.Vec3
	for _, p := range [][2]float32{{-1, -1}, {1, -1}, {-1, 1}, {1, 1}} {
		// In the stem, in the foot, at the top of the stem, and where an L has nothing.
		at, normal = append(at, geom.Vec3{X: 1 + p[0]*wide*0.6, Y: 2 + p[1]*high*0.93}), append(normal, geom.Vec3{Z: 1})
	}
	for i, want := range []float32{1, 1, 1, 0} {
		if c := laid(s, 0.001, at, normal)[i]; c != want {
			t.Errorf("at %v an L lays down %g", at[i], c)
		}
	}
	back, err := Decode(Encode(s))
	if err != nil || back.Stamp == nil || back.Stamp.Text == nil || *back.Stamp.Text != *s.Stamp.Text {
		t.Errorf("packed and read again it is %+v, %v", back, err)
	}
}

// While it is placed it may be another one each time: what it touches is what it touches now.
func TestALiveStampHasNothingThatStays(t *testing.T) {
	k := Ready(stampOf(0.1, "hexagon", geom.Vec3{}, geom.Vec3{Y: 1}, Stamp{}).Live())
	if k.Stable() != 0 || k.All() != 1 {
		t.Errorf("%d of %d marks stay", k.Stable(), k.All())
	}
}
