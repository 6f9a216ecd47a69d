package letters

import (
	"image"
	"math"
	"strings"
	"testing"

	"golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
)

// Letters cover texels as golang.org/x/image/font/opentype's rasteriser has them, font by font: capitals 96 px high. It sums exact
// areas where ours goes by the distance to the outline, so that texels on slanted rims
// differ some, and its curves are cut into fewer straight pieces, which takes up to 0.6 % off the area.
func TestLettersAreThoseOfAReferenceRasteriser(t *testing.T) {
	const high = 96
	for i := range Fonts {
		f := &Fonts[i]
		data, err := files.ReadFile("fonts/" + f.file)
		if err != nil {
			t.Fatal(err)
		}
		parsed, err := sfnt.Parse(data)
		if err != nil {
			t.Fatal(err)
		}
		unit := f.face().unit
		face, err := opentype.NewFace(parsed, &opentype.FaceOptions{Size: high * float64(unit) * float64(parsed.UnitsPerEm()), DPI: 72, Hinting: font.HintingNone})
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range "RS8%g" {
			o := (&Text{Words: string(r), Font: f.Name}).Outline()
			if len(o.placed) != 1 {
				t.Fatalf("%s, %c: %d letters", f.Name, r, len(o.placed))
			}
			g := o.placed[0].g
			img := image.NewAlpha(image.Rect(-20, -160, 200, 60))
			d := font.Drawer{Dst: img, Src: image.Opaque, Face: face, Dot: fixed.P(0, 0)}
			d.DrawString(string(r))
			sum, n, worst, all, wanted := 0.0, 0, 0.0, 0.0, 0.0
			for y := img.Rect.Min.Y; y < img.Rect.Max.Y; y++ {
				for x := img.Rect.Min.X; x < img.Rect.Max.X; x++ {
					want := float64(img.AlphaAt(x, y).A) / 255
					got := 0.5 + float64(g.inside((float32(x)+0.5)/high, -(float32(y)+0.5)/high, 1./high, false))*high
					got = min(1, max(0, got))
					all, wanted = all+got, wanted+want
					if want > 0 || got > 0 {
						n++
						sum += math.Abs(got - want)
						worst = max(worst, math.Abs(got-want))
					}
				}
			}
			if mean := sum / float64(max(1, n)); n < 500 || mean > 0.015 || worst > 0.4 || math.Abs(all/wanted-1) > 0.008 {
				t.Errorf("%s, %c: %d texels, mean difference %.4f, at most %.2f, %.4f of the area", f.Name, r, n, mean, worst, all/wanted)
			}
		}
	}
}

// Capitals are one high, so that a size is a height; lines stand one below the other, and at the sides that are asked for.
func TestTextIsLaidOut(t *testing.T) {
	one := (&Text{Words: "HI"}).Outline()
	if math.Abs(float64(one.High)-0.5) > 1e-3 {
		t.Errorf("a line of capitals is %g high", 2*one.High)
	}
	wider := (&Text{Words: "HI", Apart: 0.5}).Outline()
	if math.Abs(float64(wider.Wide-one.Wide)-0.25) > 1e-4 {
		t.Errorf("half a height more between two letters makes it %g wider", 2*(wider.Wide-one.Wide))
	}
	for _, side := range Sides {
		o := (&Text{Words: "HHHH\nI", Side: side}).Outline()
		if len(o.placed) != 5 || math.Abs(float64(o.High)-(1+lineHigh)/2) > 1e-3 {
			t.Fatalf("two lines: %d letters, %g high", len(o.placed), 2*o.High)
		}
		long, short := &o.placed[0], &o.placed[4]
		if math.Abs(float64(long.y-short.y)-lineHigh) > 1e-4 {
			t.Errorf("lines are %g apart", long.y-short.y)
		}
		start, end := short.x, short.x+short.g.advance
		switch side {
		case "left":
			if math.Abs(float64(start-long.x)) > 1e-4 {
				t.Errorf("at the left a line starts at %g, the other at %g", start, long.x)
			}
		case "right":
			if last := &o.placed[3]; math.Abs(float64(end-last.x-last.g.advance)) > 1e-4 {
				t.Errorf("at the right a line ends at %g", end)
			}
		default:
			if math.Abs(float64(start+end)) > 1e-4 {
				t.Errorf("in the middle a line lies from %g to %g", start, end)
			}
		}
	}
}

// In a stencil nothing falls out: from the middle of an O a bridge leads out of the letter. An I needs none.
func TestStencilsHaveBridges(t *testing.T) {
	out := func(words string, stencil bool) bool {
		o := (&Text{Words: words, Stencil: stencil}).Outline()
		for y := float32(0); y < 1.2; y += 0.005 {
			if o.Inside(0, y, 1) > 0 {
				return false
			}
		}
		return true
	}
	if out("O", false) || !out("O", true) {
		t.Error("the middle of an O is held by nothing")
	}
	if out("I", true) {
		t.Error("an I is cut in two")
	}
}

func TestTextIsChecked(t *testing.T) {
	for _, k := range []struct {
		text Text
		says string
	}{
		{Text{Words: "SALTMERE 7\nNo. 14"}, ""},
		{Text{Words: " \n "}, "at least one letter"},
		{Text{Words: strings.Repeat("A", MaxLetters+1)}, "at most"},
		{Text{Words: strings.Repeat("A\n", MaxLines+1)}, "at most"},
		{Text{Words: "A", Font: "none"}, "no font “none”; use tall"},
		{Text{Words: "漢"}, "has no “漢”"},
		{Text{Words: "A\x00"}, "has no"},
		{Text{Words: "A", Apart: float32(math.NaN())}, "room between letters"},
		{Text{Words: "A", Side: "up"}, "cannot stand"},
		{Text{Words: "\xff"}, "at least one letter"},
	} {
		err := k.text.Check()
		if k.says == "" && err != nil || k.says != "" && (err == nil || !strings.Contains(err.Error(), k.says)) {
			t.Errorf("%q: %v, want %q", k.text.Words, err, k.says)
		}
	}
}
