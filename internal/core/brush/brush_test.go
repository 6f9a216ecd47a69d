package brush

import (
	"bytes"
	"math"
	"reflect"
	"testing"

	"crust/internal/core/geom"
)

func TestBrushesThatShipAreSound(t *testing.T) {
	names := map[string]bool{}
	for i := range Built {
		b := &Built[i]
		if err := b.Check(); err != nil {
			t.Error(err)
		}
		if names[b.Name] {
			t.Errorf("two brushes are called “%s”", b.Name)
		}
		names[b.Name] = true
		// A specimen is neither empty nor full.
		sum := 0
		for _, v := range Specimen(*b, nil, 236, 44, 26) {
			sum += int(v)
		}
		if share := float64(sum) / (236 * 44 * 255); share < 0.002 || share > 0.75 {
			t.Errorf("the specimen of “%s” covers %.3f of its strip", b.Name, share)
		}
	}
	if len(Built) < 24 {
		t.Errorf("%d brushes ship", len(Built))
	}
}

// Every number of a brush is in the table, so that it is checked, shown and written down.
func TestParamsReachEveryNumber(t *testing.T) {
	b := Brush{}
	for _, p := range Params {
		*p.Of(&b) = 1
	}
	v := reflect.ValueOf(b)
	for i := range v.NumField() {
		if f := v.Field(i); f.Kind() == reflect.Float32 && f.Float() != 1 {
			t.Errorf("%s is in no entry of Params", v.Type().Field(i).Name)
		}
	}
	for _, p := range Params {
		for _, out := range []float32{p.Min - 1, p.Max + 1, float32(math.NaN())} {
			b := New()
			if *p.Of(&b) = out; b.Check() == nil {
				t.Errorf("%s took %g", p.Name, out)
			}
		}
	}
}

// wave is samples along a sine over the floor, some noise beside it, the pressure rising.
func wave(n int, noise float64) (out []Point) {
	for i := range n {
		s := float64(i) / float64(n-1)
		out = append(out, Point{float32(s), 0, float32(0.1*math.Sin(6*s) + noise*math.Sin(1000*s)), 0, 1, 0, float32(0.2 + 0.6*s)})
	}
	return out
}

// The pen leaves samples out that would not be seen: each lies within 0.5 % of the size of what is kept, and its pressure within 2 %;
// and it leaves most of them out.
func TestThePenKeepsWhatMatters(t *testing.T) {
	samples := wave(2000, 0.0002)
	for _, batch := range []int{1, 7, 2000} {
		pen, err := NewPen(Stroke{Brush: New(), Size: 0.05})
		if err != nil {
			t.Fatal(err)
		}
		for from := 0; from < len(samples); from += batch {
			if err := pen.Add(samples[from:min(len(samples), from+batch)]); err != nil {
				t.Fatal(err)
			}
		}
		pen.Lift()
		s := pen.Stroke()
		if err := s.Check(); err != nil {
			t.Fatal(err)
		}
		if n := len(s.Paths[0]); len(s.Paths) != 1 || n > 250 || n < 100 {
			t.Errorf("%d paths, %d points of 2000 samples", len(s.Paths), n)
		}
		if s.Paths[0][0] != samples[0] || s.Paths[0][len(s.Paths[0])-1] != samples[len(samples)-1] {
			t.Error("the ends were not kept")
		}
		for i := range samples {
			if d := s.Distance(samples[i].At()); d > 0.00501*s.Size {
				t.Fatalf("sample %d lies %.4f sizes beside what is kept", i, d/s.Size)
			}
		}
	}
}

// A stroke that was handed out stays as it is while the pen goes on.
func TestAStrokeThatWasHandedOutStays(t *testing.T) {
	pen, _ := NewPen(Stroke{Brush: New(), Size: 0.05})
	samples := wave(300, 0.003)
	var kept []*Stroke
	var bytesThen [][]byte
	for from := 0; from < 300; from += 5 {
		if err := pen.Add(samples[from : from+5]); err != nil {
			t.Fatal(err)
		}
		if from%50 == 25 {
			pen.Lift()
		}
		kept = append(kept, pen.Stroke())
		bytesThen = append(bytesThen, Encode(kept[len(kept)-1]))
	}
	for i := range kept {
		if !bytes.Equal(Encode(kept[i]), bytesThen[i]) {
			t.Fatalf("batch %d has changed", i)
		}
	}
}

// Marks before the stable one are the same however far the stroke has come, so that what they laid down can be kept.
func TestStableMarksStay(t *testing.T) {
	for _, b := range Built {
		pen, _ := NewPen(Stroke{Brush: b, Size: 0.05, Seed: 3, Again: &Again{X: true, Turns: 3, Centre: [3]float32{0.5, 0, 0}}})
		var before *Ink
		samples := wave(200, 0.001)
		for from := 0; from < 200; from += 8 {
			if err := pen.Add(samples[from : from+8]); err != nil {
				t.Fatal(err)
			}
			now := Ready(pen.Stroke())
			if before != nil {
				if now.Stable() < before.Stable() {
					t.Fatalf("%s: %d marks were stable, now %d", b.Name, before.Stable(), now.Stable())
				}
				for i := range before.Stable() {
					if now.marks[i] != before.marks[i] {
						t.Fatalf("%s: mark %d of %d has changed", b.Name, i, before.Stable())
					}
				}
			}
			before = now
		}
		if before.Stable() == 0 {
			t.Errorf("%s: nothing is stable", b.Name)
		}
	}
}

// Mirrored strokes are the stroke in a mirror: what lies at p lies at p's image too.
func TestMirroredStrokesAreMirrored(t *testing.T) {
	s := &Stroke{Brush: New(), Size: 0.1, Paths: [][]Point{wave(20, 0)}, Again: &Again{X: true, Turns: 2, Centre: [3]float32{0.2, 0, 0.3}}}
	s.Brush.Hardness = 0
	cover := func(x, z float32) float32 {
		out := []float32{0}
		p := &Places{X: []float32{x}, Y: []float32{0}, Z: []float32{z}, NX: []float32{0}, NY: []float32{1}, NZ: []float32{0}, Pitch: 0.001, Boxes: []geom.Box{{Min: geom.Vec3{X: x, Z: z}, Max: geom.Vec3{X: x, Z: z}}}}
		p.FindRuns()
		k := Ready(s)
		k.Lay(p, 0, k.All(), out)
		return out[0]
	}
	some := 0
	for i := range 200 {
		x, z := float32(i%20)*0.05, float32(i/20)*0.03-0.12
		a, b, c := cover(x, z), cover(0.4-x, z), cover(0.4-x, 0.6-z)
		if math.Abs(float64(a-b)) > 1e-4 || math.Abs(float64(a-c)) > 1e-4 {
			t.Fatalf("%.4f at (%.2f, %.2f), %.4f in the mirror, %.4f half a turn on", a, x, z, b, c)
		}
		if a > 0 {
			some++
		}
	}
	if some < 10 {
		t.Errorf("only %d places are painted", some)
	}
}

// Light pressure takes away what the brush says, and nothing where it is off.
func TestPressureCanBeTurnedOff(t *testing.T) {
	wide := func(press, pressure float32) float32 {
		b := New()
		b.PressSize = press
		s := &Stroke{Brush: b, Size: 1, Paths: [][]Point{{{4: 1, 6: pressure}}}}
		return Ready(s).marks[0].r * 2
	}
	for _, c := range []struct{ press, pressure, want float32 }{{0, 0.1, 1}, {1, 0.25, 0.25}, {0.5, 0.5, 0.75}, {1, 1, 1}} {
		if got := wide(c.press, c.pressure); math.Abs(float64(got-c.want)) > 1e-6 {
			t.Errorf("pressure %g at a share of %g: %g wide, want %g", c.pressure, c.press, got, c.want)
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(Encode(&Stroke{Brush: New(), Size: 0.1, Paths: [][]Point{wave(5, 0), wave(1000, 0)[:3]}, Hold: &Hold{Part: "hull"}, Again: &Again{X: true}}))
	f.Add([]byte{0xff, 0xff, 0xff, 0xff})
	f.Fuzz(func(t *testing.T, data []byte) {
		s, err := Decode(data)
		if err != nil {
			return
		}
		back, err := Decode(Encode(s))
		if err != nil || !bytes.Equal(Encode(back), Encode(s)) {
			t.Fatalf("it did not come back: %v", err)
		}
	})
}

func TestDecodeRefuses(t *testing.T) {
	whole := Encode(&Stroke{Brush: New(), Size: 0.1, Paths: [][]Point{{{4: 1, 6: 1}}}})
	if _, err := Decode(whole); err != nil {
		t.Fatal(err)
	}
	for n := range whole {
		if _, err := Decode(whole[:n]); err == nil {
			t.Fatalf("a stroke cut off after %d bytes was taken", n)
		}
	}
	if _, err := Decode(append(bytes.Clone(whole), 0)); err == nil {
		t.Error("a stroke with something behind it was taken")
	}
}

// A tip says which of hardness and grain tell on it, so that the tray offers no number that does nothing: changing the number
// changes the specimen where it does, and only there.
func TestTipsSayWhatTellsOnThem(t *testing.T) {
	for _, tip := range Tips {
		if tip.Name == tipPicture {
			continue
		}
		changes := func(of func(b *Brush) *float32) bool {
			b := New()
			b.Tip, b.Spacing = tip.Name, 1.5
			*of(&b) = 0.3
			one := Specimen(b, nil, 200, 44, 26)
			*of(&b) = 0.7
			return !bytes.Equal(one, Specimen(b, nil, 200, 44, 26))
		}
		if got := changes(func(b *Brush) *float32 { return &b.Hardness }); got != tip.Hard {
			t.Errorf("%s: hardness changes it: %v, it says %v", tip.Name, got, tip.Hard)
		}
		if got := changes(func(b *Brush) *float32 { return &b.Grain }); got != tip.Grain {
			t.Errorf("%s: grain changes it: %v, it says %v", tip.Name, got, tip.Grain)
		}
	}
}
