package demo

import (
	"bytes"
	"context"
	"crust/internal/core/inspect"
	"crust/internal/core/layout"
	"strings"
	"testing"

	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// The buoy keeps to the numbers that it is described by, and its UVs pass Crust's own checks.
func TestBuoyIsWhatItsDescriptionSays(t *testing.T) {
	low, high := Buoy()
	if n := len(low.Tris); n < 6000 || n > 12000 {
		t.Errorf("low-poly has %d triangles, want 6,000–12,000", n)
	}
	if n := len(high.Tris); n < 200_000 || n > 500_000 {
		t.Errorf("high-poly has %d triangles, want 200,000–500,000", n)
	}
	if h := low.Bounds().Size().Y; h < 2.55 || h > 2.65 {
		t.Errorf("%.3f m tall, want about 2.6 m", h)
	}
	sets, err := uv.Sets(low, uv.PerMaterial)
	if err != nil || len(sets) != 3 {
		t.Fatalf("%d sets, %v; want hull, tower, lantern", len(sets), err)
	}
	look, err := inspect.Model(context.Background(), low, sets, inspect.Options{Padding: inspect.DefaultPadding}, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range look.Findings {
		if c.Severity == inspect.Mend {
			t.Errorf("%s in %s: %s", c.Title, c.Set, c.Detail)
		}
	}
	for _, s := range sets {
		mirrored := 0
		for _, k := range s.Tris {
			if low.UVArea(int(k)) < 0 {
				mirrored++
			}
		}
		if mirrored > 0 {
			t.Errorf("set %s has %d mirrored faces", s.Name, mirrored)
		}
		if s.UVArea < 0.45 {
			t.Errorf("set %s uses %.0f %% of its square, want 45 %% or more", s.Name, s.UVArea*100)
		}
	}
	have := map[string]bool{}
	for _, p := range high.Parts {
		have[p] = true
	}
	for _, p := range low.Parts {
		if !have[p] {
			t.Errorf("part %s has no high-poly", p)
		}
	}
}

func TestBuoySurvivesBeingWrittenAsGLB(t *testing.T) {
	low, _ := Buoy()
	var b bytes.Buffer
	if err := WriteModel(&b, low); err != nil {
		t.Fatal(err)
	}
	back, err := mesh.Read("buoy.glb", b.Bytes(), nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(back.Tris) != len(low.Tris) || len(back.Parts) != len(low.Parts) || len(back.Materials) != 3 || !back.HasUV {
		t.Errorf("%d triangles, %d parts, %d materials came back; wrote %d, %d, 3", len(back.Tris), len(back.Parts), len(back.Materials), len(low.Tris), len(low.Parts))
	}
}

// Laid out anew into one tile, the islands of both assets do not overlap, keep 8 px at 2048 between them, lie
// with little stretch and use over 70 % of it.
func TestTheAssetsCanBeLaidOut(t *testing.T) {
	for name, make := range map[string]func() (low, high *mesh.Model){"buoy": Buoy, "winch": Winch} {
		low, _ := make()
		t.Run(name, func(t *testing.T) { laidOut(t, low) })
	}
}

func laidOut(t *testing.T, low *mesh.Model) {
	sets, err := uv.Sets(low, uv.PerMaterial)
	if err != nil {
		t.Fatal(err)
	}
	const margin = 8. / 2048
	l, err := layout.Make(context.Background(), low, sets, layout.Options{Into: layout.OneTile, Pixels: 8, Size: 2048}, nil)
	if err != nil {
		t.Fatal(err)
	}
	m := low.Clone()
	m.Channels = []mesh.Channel{{Name: "UV 1", UVs: m.UVs}}
	if err := m.Choose(m.AddChannel("laid out", l.Corners)); err != nil {
		t.Fatal(err)
	}
	one, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	islands := uv.NewMap(m, one)
	over, err := islands.Overlaps(context.Background())
	if err != nil || len(over) > 0 {
		t.Errorf("%d overlaps, %v", len(over), err)
	}
	near, err := islands.Nearer(context.Background(), func(int) float64 { return margin * 0.9999 }, nil, func(int, int) bool { return false })
	if err != nil || len(near) > 0 {
		t.Errorf("%d pairs nearer than the margin, %v", len(near), err)
	}
	if l.Report.Stretch > 1.15 || l.Report.Used[0] < 0.7 || l.Report.Pixels != 8 || len(l.Report.Misses) > 0 {
		t.Errorf("stretch %.3f, %.3f used at %g px, misses %q; want under 1.15, over 0.7 at 8 px and none", l.Report.Stretch, l.Report.Used[0], l.Report.Pixels, l.Report.Misses)
	}
}

// What is painted on the demo by hand lies on its surface: every point within a millimetre of some face, every layer that is
// painted has strokes, and either asset bears a stencilled text.
func TestHandsPaintOnTheSurface(t *testing.T) {
	for _, a := range assets {
		low, _ := a.models()
		doc := a.strata()
		painted := a.paint(doc, low)
		if err := doc.Check(); err != nil {
			t.Fatal(err)
		}
		texts := 0
		for _, s := range painted {
			if s.Stamp != nil && s.Stamp.Text != nil && s.Stamp.Text.Stencil {
				texts++
			}
		}
		if texts == 0 || len(painted)-texts < 40 && strings.Contains(a.name, "buoy") {
			t.Errorf("%s: %d strokes, of which %d are stencilled texts", a.name, len(painted), texts)
		}
		box := low.Bounds()
		for n, s := range painted {
			if err := s.Check(); err != nil {
				t.Fatalf("%s, stroke %d: %v", a.name, n, err)
			}
			for _, p := range s.Paths[0] {
				at := p.At()
				from := at.Add(p.Normal().Mul(0.002))
				hit, _, ok := low.FirstHit(from, p.Normal().Neg())
				if !ok || hit.Dist(at) > 0.001 {
					t.Fatalf("%s, stroke %d: %v does not lie on the model (%v, in a box of %v)", a.name, n, at, hit, box)
				}
			}
		}
		listed := 0
		for i := range doc.Layers {
			for _, c := range doc.Layers[i].Where {
				listed += len(c.Strokes)
			}
		}
		if listed != len(painted) {
			t.Errorf("%s: %d strokes are listed, %d painted", a.name, listed, len(painted))
		}
	}
}
