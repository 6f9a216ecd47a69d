package brush

import (
	"encoding/json"
	"math"
	"strings"
	"testing"
)

// onFloor is what a stroke lays down on the floor, n × n places a metre wide about the origin.
func onFloor(s *Stroke, n int) []float32 {
	p := &Places{Pitch: 1 / float32(n)}
	for i := range n * n {
		p.X = append(p.X, (float32(i%n)+0.5)/float32(n)-0.5)
		p.Y = append(p.Y, 0)
		p.Z = append(p.Z, (float32(i/n)+0.5)/float32(n)-0.5)
		p.NX, p.NY, p.NZ = append(p.NX, 0), append(p.NY, 1), append(p.NZ, 0)
	}
	p.FindRuns()
	p.Boxes = p.Runs
	ink, cover := Ready(s), make([]float32, n*n)
	ink.Lay(p, 0, ink.All(), cover)
	ink.Finish(p, cover)
	return cover
}

// A pen that leans lays an ellipse, long the way it leans: its area and its second moments are those of the closed form, πab and
// πab·a²/4 (any table of moments).
func TestALeaningPenLaysAnEllipse(t *testing.T) {
	const n, r, turn = 400, 0.1, 0.6
	for _, c := range []struct {
		long, lean float64
		way        float32
	}{{0, 1, wayFixed}, {1, 0, wayFixed}, {1, 1, wayFixed}, {2, 0.5, wayAlong}, {1.5, 0.8, wayChance}} {
		b := New()
		b.Hardness, b.Way, b.TiltLong, b.Spacing, b.Scatter = 1, c.way, float32(c.long), 8, 0
		cos, sin := math.Cos(turn), math.Sin(turn)
		s := &Stroke{Brush: b, Size: 2 * r, Seed: 3, Paths: [][]Point{{{0, 0, 0, 0, 1, 0, 1, float32(c.lean * cos), 0, float32(c.lean * sin)}}}}
		if err := s.Check(); err != nil {
			t.Fatal(err)
		}
		var area, along, across float64
		for i, v := range onFloor(s, n) {
			x, z := (float64(i%n)+0.5)/n-0.5, (float64(i/n)+0.5)/n-0.5
			u, w := x*cos+z*sin, z*cos-x*sin
			area += float64(v) / (n * n)
			along += u * u * float64(v) / (n * n)
			across += w * w * float64(v) / (n * n)
		}
		a := r * (1 + c.long*c.lean)
		for _, got := range []struct {
			what      string
			got, want float64
		}{{"area", area, math.Pi * a * r}, {"second moment along", along, math.Pi * a * r * a * a / 4}, {"second moment across", across, math.Pi * a * r * r * r / 4}} {
			if math.Abs(got.got/got.want-1) > 0.003 {
				t.Errorf("longer by %g, leaning %g: %s %.6f, closed form %.6f", c.long, c.lean, got.what, got.got, got.want)
			}
		}
	}
}

// A tip that stands as the pen leans does so whichever way the path goes.
func TestATipStandsAsThePenLeans(t *testing.T) {
	b := New()
	b.Tip, b.Hardness, b.Roundness, b.Way, b.Spacing = "square", 1, 0.2, wayLean, 0.02
	s := &Stroke{Brush: b, Size: 0.2, Paths: [][]Point{{{-0.2, 0, 0, 0, 1, 0, 1, 0, 0, 0.7}, {0.2, 0, 0, 0, 1, 0, 1, 0, 0, 0.7}}}}
	// Along x, with the tip's long side along z: the swath is as wide as the tip is long, 0.2/√2.
	wide, n := 0, 400
	cover := onFloor(s, n)
	for j := range n {
		if cover[j*n+n/2] > 0.5 {
			wide++
		}
	}
	if got, want := float64(wide)/float64(n), 0.2/math.Sqrt2; math.Abs(got-want) > 0.006 {
		t.Errorf("the swath is %.3f wide, the tip %.3f long", got, want)
	}
}

// Each pressure has its curve: pressure to the power of 2^curve, taken away by its share.
func TestEachPressureHasItsCurve(t *testing.T) {
	b := New()
	b.Hardness, b.PressSize, b.PressFlow, b.PressHard = 0.5, 1, 0.5, 1
	b.CurveSize, b.CurveFlow, b.CurveHard = 1, -1, 2
	s := &Stroke{Brush: b, Size: 2, Paths: [][]Point{{{0, 0, 0, 0, 1, 0, 0.25}}}}
	m := Ready(s).marks[0]
	for _, c := range []struct {
		what      string
		got, want float32
	}{{"radius", m.r, 0.0625}, {"flow", m.flow, 0.5 + 0.5*0.5}, {"hardness", m.hard, 0.5 * 0.25 * 0.25 * 0.25 * 0.25}} {
		if math.Abs(float64(c.got-c.want)) > 1e-6 {
			t.Errorf("%s %g, want %g", c.what, c.got, c.want)
		}
	}
}

// A brush that was written down when all pressures had one curve keeps it; unknown numbers are refused.
func TestBrushesOfOneCurveAreRead(t *testing.T) {
	b := New()
	if err := json.Unmarshal([]byte(`{"name":"Old","tip":"round","pressSize":1,"pressCurve":-1.5}`), &b); err != nil {
		t.Fatal(err)
	}
	if b.CurveSize != -1.5 || b.CurveFlow != -1.5 || b.CurveHard != -1.5 || b.Flow != 1 {
		t.Errorf("%+v", b)
	}
	text, _ := json.Marshal(b)
	if strings.Contains(string(text), "pressCurve") {
		t.Errorf("%s", text)
	}
	if json.Unmarshal([]byte(`{"glow":1}`), &b) == nil {
		t.Error("a number that no brush has was taken")
	}
}

// How the pen leans is packed and written down where it does, and takes no room where it does not.
func TestLeansAreKept(t *testing.T) {
	upright := Stroke{Brush: New(), Size: 0.1, Paths: [][]Point{{{0, 0, 0, 0, 1, 0, 0.5}, {1, 0, 0, 0, 1, 0, 0.6}}}}
	leaning := upright
	leaning.Paths = [][]Point{{{0, 0, 0, 0, 1, 0, 0.5}, {1, 0, 0, 0, 1, 0, 0.6, 0.6, 0, -0.3}}}
	for _, s := range []Stroke{upright, leaning} {
		back, err := Decode(Encode(&s))
		if err != nil {
			t.Fatal(err)
		}
		text, _ := json.Marshal(s.Paths)
		var read [][]Point
		if err := json.Unmarshal(text, &read); err != nil {
			t.Fatal(err)
		}
		for i := range s.Paths[0] {
			if back.Paths[0][i] != s.Paths[0][i] || read[0][i] != s.Paths[0][i] {
				t.Errorf("%v came back as %v and %v", s.Paths[0][i], back.Paths[0][i], read[0][i])
			}
		}
	}
	if text, _ := json.Marshal(upright.Paths); string(text) != "[[[0,0,0,0,1,0,0.5],[1,0,0,0,1,0,0.6]]]" {
		t.Errorf("%s", text)
	}
	if up, lean := len(Encode(&upright)), len(Encode(&leaning)); lean-up != 2*3*4+len(`"leans":true,`) {
		t.Errorf("%d bytes upright, %d leaning", up, lean)
	}
	leaning.Paths[0][1][8] = 3
	if leaning.Check() == nil {
		t.Error("a lean longer than a shaft was taken")
	}
}

// The pen keeps where its lean changes.
func TestThePenKeepsItsLean(t *testing.T) {
	pen, err := NewPen(Stroke{Brush: New(), Size: 10})
	if err != nil {
		t.Fatal(err)
	}
	for i := range 101 {
		x := float32(i) / 100
		if err := pen.Add([]Point{{x, 0, 0, 0, 1, 0, 0.5, 0.8 * x * x, 0, 0}}); err != nil {
			t.Fatal(err)
		}
	}
	path := pen.Stroke().Paths[0]
	for i := 1; i < len(path); i++ {
		for x := path[i-1][0]; x <= path[i][0]; x += 0.01 {
			f := (x - path[i-1][0]) / (path[i][0] - path[i-1][0])
			got, want := path[i-1][7]+(path[i][7]-path[i-1][7])*f, 0.8*x*x
			if d := got - want; d > mostLean || d < -mostLean {
				t.Fatalf("at %g the pen leans by %g, it was %g", x, got, want)
			}
		}
	}
	if len(path) < 3 || len(path) > 60 {
		t.Errorf("%d points are kept of 101", len(path))
	}
}
