package brush

import (
	"math"

	"crust/internal/core/geom"
)

// Tip is the shape of a dab.
type Tip struct {
	Name  string `json:"name"`
	Label string `json:"label"`
	Hard  bool   `json:"hard"`  // hardness tells on it
	Grain bool   `json:"grain"` // and so does grain
	// profile: it is a shape in height, so that dabs over each other do not add up.
	profile bool
	// at is how much is laid down at a place of the tip, 0–1, where the tip's rim is 1 from its middle, u to its right and v up. Its forms
	// are blurred over soft, which is about a texel.
	at func(b *look, u, v float32) float32
}

// look is what a tip's shape depends on besides the place.
type look struct {
	hard, grain, soft float32
	seed              uint32
	alpha             *Alpha
}

// tipPicture is the tip whose shape is a picture.
const tipPicture = "picture"

// Tips lists the tips in the order in which they are offered.
var Tips = []Tip{
	{Name: "round", Label: "round", Hard: true, at: func(b *look, u, v float32) float32 { return b.rim(length(u, v)) }},
	{Name: tipPicture, Label: "picture", at: func(b *look, u, v float32) float32 {
		if b.alpha == nil {
			return 0
		}
		return b.alpha.at(u, v, b.soft)
	}},
	{Name: "square", Label: "square", Hard: true, at: func(b *look, u, v float32) float32 {
		return b.rim(abs(u)*math.Sqrt2) * b.rim(abs(v)*math.Sqrt2)
	}},
	{Name: "chalk", Label: "chalk", Hard: true, Grain: true, at: func(b *look, u, v float32) float32 {
		r := length(u, v)
		n := rough(u/b.grain, v/b.grain, b.seed)*0.65 + rough(2.3*u/b.grain, 2.3*v/b.grain, b.seed+7)*0.35
		return b.rim(r) * b.over(n-0.3-0.35*r*r, b.grain*2.5)
	}},
	{Name: "bristle", Label: "bristle", Hard: true, Grain: true, at: func(b *look, u, v float32) float32 {
		// Hairs lie side by side across the stroke, and lose their paint here and there along it.
		n := rough(0.35*u/b.grain, v/b.grain, b.seed&^0xff)*0.7 + rough(1.5*u/b.grain, 2*v/b.grain, b.seed)*0.3
		return b.rim(length(u, v)) * b.over(n-0.45-0.2*v*v, b.grain*2)
	}},
	{Name: "speckle", Label: "speckle", Hard: true, Grain: true, at: func(b *look, u, v float32) float32 { return b.rim(length(u, v)*0.98) * dots(b, u, v, 0.12, 0.34, 0.4) }},
	{Name: "drops", Label: "drops", Hard: true, Grain: true, at: func(b *look, u, v float32) float32 { return dots(b, u, v, 0.15, 0.48, 0.5) * b.rim(length(u, v)*0.9) }},
	{Name: "scratch", Label: "scratch", Grain: true, at: func(b *look, u, v float32) float32 {
		// Thin, with a bend, and thinner towards its ends.
		bend := (rough(1.2*u, 3.7, b.seed) - 0.5) * 0.5
		thin := b.grain * (1 - u*u) * (0.5 + rough(6*u, 9.1, b.seed+3))
		return b.line(abs(v-bend), thin)
	}},
	{Name: "chip", Label: "chip", Hard: true, Grain: true, at: func(b *look, u, v float32) float32 { return b.inside(0.95-angular(b, u, v, 7), 1) }},
	{Name: "flake", Label: "flake", Hard: true, Grain: true, at: func(b *look, u, v float32) float32 { return b.inside(0.95-angular(b, u, v, 5), 1) }},
	{Name: "drip", Label: "drip", Hard: true, at: func(b *look, u, v float32) float32 {
		// A round head at the foot and a tail that ends above.
		head := length(u, v+0.7) - 0.28
		tail := max(abs(u+(rough(2*v, 1.3, b.seed)-0.5)*0.1)-0.05-0.13*geom.Clamp01(0.5-v*0.6)*geom.Clamp01(0.5-v*0.6), abs(v-0.1)-0.85)
		return b.inside(-min(head, tail), 0.25) * (1 - 0.5*geom.Clamp01(v))
	}},
	{Name: "crack", Label: "crack", Hard: true, Grain: true, at: func(b *look, u, v float32) float32 {
		bend := (rough(2.5*u/(b.grain*4), 1.9, b.seed)-0.5)*0.9 + (rough(9*u, 4.4, b.seed+1)-0.5)*0.2
		bend *= 1 - u*u*u*u // dabs meet on the path
		return b.line(abs(v-bend), 0.05+0.06*rough(5*u, 2.2, b.seed+5)) * b.rim(abs(u)*0.99)
	}},
	{Name: "dome", Label: "dome", profile: true, at: func(b *look, u, v float32) float32 {
		r := length(u, v)
		return root(1 - r*r)
	}},
	{Name: "bead", Label: "weld bead", profile: true, at: func(b *look, u, v float32) float32 {
		// A scale of a weld: it rises against the way that it was laid and falls off behind.
		r := length(u, v)
		return root(1-r*r) * (0.62 + 0.38*geom.Clamp01(0.5+0.9*(u-0.35*v*v)))
	}},
	{Name: "stitch", Label: "stitch", profile: true, at: func(b *look, u, v float32) float32 {
		r := length(u-min(max(u, -0.7), 0.7), v*0.9) / 0.3
		return root(1 - r*r)
	}},
	{Name: "slot", Label: "slotted screw", Hard: true, profile: true, at: func(b *look, u, v float32) float32 {
		return screw(b, length(u, v)) * (1 - b.inside(0.1-abs(v), 1)*b.inside(0.82-abs(u), 1))
	}},
	{Name: "cross", Label: "crossed screw", Hard: true, profile: true, at: func(b *look, u, v float32) float32 {
		arm := func(u, v float32) float32 { return b.inside(0.1-0.05*abs(u)-abs(v), 1) * b.inside(0.55-abs(u), 1) }
		return screw(b, length(u, v)) * (1 - max(arm(u, v), arm(v, u)))
	}},
	{Name: "hexagon", Label: "hexagon", Hard: true, profile: true, at: func(b *look, u, v float32) float32 {
		d := max(abs(u), abs(0.5*u+0.8660254*v), abs(0.5*u-0.8660254*v)) // to the nearest side
		return geom.Clamp01((0.82-d)/max(0.1, b.soft)) * (0.9 + 0.1*b.inside(0.7-length(u, v), 1))
	}},
	{Name: "ring", Label: "ring", profile: true, at: func(b *look, u, v float32) float32 {
		r := length(u, v)
		return geom.Clamp01((0.98-r)/max(0.06, b.soft)) * geom.Clamp01((r-0.46)/max(0.06, b.soft))
	}},
	{Name: "groove", Label: "groove", Hard: true, profile: true, at: func(b *look, u, v float32) float32 {
		return b.rim(abs(v)/0.35) * b.rim(abs(u))
	}},
	{Name: "plus", Label: "plus", Hard: true, profile: true, at: func(b *look, u, v float32) float32 {
		return max(b.inside(0.2-abs(v), 1)*b.inside(0.9-abs(u), 1), b.inside(0.2-abs(u), 1)*b.inside(0.9-abs(v), 1))
	}},
}

func tipOf(name string) *Tip {
	for i := range Tips {
		if Tips[i].Name == name {
			return &Tips[i]
		}
	}
	return nil
}

// rim is 1 in the middle of a dab and falls to 0 at 1 from it; how soon, its hardness says. The fall is never shorter than a
// texel, and stands where it would stand if it were.
func (b *look) rim(r float32) float32 {
	wide := 1 - b.hard
	x := geom.Clamp01(0.5 + (1-wide/2-r)/max(wide, b.soft, 1e-6))
	return x * x * (3 - 2*x)
}

// inside is 1 where d, the distance into a shape, is above 0, blurred over a texel, or over what hardness leaves of a width.
func (b *look) inside(d, wide float32) float32 {
	return geom.Clamp01(0.5 + d/max(b.soft, (1-b.hard)*wide, 1e-6))
}

// line is a stripe of half a width; where it is thinner than a texel it covers as much as its share of one.
func (b *look) line(d, half float32) float32 {
	w := max(b.soft, 1e-6)
	return geom.Clamp01(0.5+(half-d)/w) * min(1, 2*half/w)
}

// over is 1 where a value is above 0, with an edge that is wide texels in units of the value.
func (b *look) over(v, wide float32) float32 {
	return geom.Clamp01(0.5 + v/max(0.12, b.soft/max(wide, 1e-6)))
}

func screw(b *look, r float32) float32 { return geom.Clamp01((0.98 - r) / max(0.12, b.soft)) }

// dots is round spots in the cells of a grid, one in each of some share of the cells, from least to most of a cell in radius.
func dots(b *look, u, v, least, most, share float32) (out float32) {
	cell := 2 * b.grain
	x, y := floor(u/cell), floor(v/cell)
	for j := float32(-1); j <= 1; j++ {
		for i := float32(-1); i <= 1; i++ {
			h := hash(uint32(int32(x+i)), uint32(int32(y+j)), b.seed)
			if unit(h) > share {
				continue
			}
			h2 := mix(h)
			cx, cy := (x+i+0.5+0.5*(unit(h2)-0.5))*cell, (y+j+0.5+0.5*(unit(mix(h2))-0.5))*cell
			s := unit(mix(h + 5))
			r := (least + (most-least)*s*s) * cell
			if d := length(u-cx, v-cy) - r; d < b.soft {
				if cx*cx+cy*cy < 0.8 {
					out = max(out, b.line(d+r, r))
				}
			}
		}
	}
	return out
}

// angular is the distance from the middle, at which 1 is the rim of a shape with corners.
func angular(b *look, u, v float32, sides int) (out float32) {
	for k := range sides {
		h := hash(uint32(k), 77, b.seed)
		sin, cos := math.Sincos(2 * math.Pi * (float64(k) + 0.7*float64(unit(h))) / float64(sides))
		out = max(out, (u*float32(cos)+v*float32(sin))/(0.45+0.5*unit(mix(h))))
	}
	return out + (rough(3*u/max(b.grain, 0.05), 3*v/max(b.grain, 0.05), b.seed)-0.5)*0.16
}

// rough is noise between the values at whole places (value noise), 0–1.
func rough(x, y float32, seed uint32) float32 {
	x0, y0 := floor(x), floor(y)
	fx, fy := x-x0, y-y0
	fx, fy = fx*fx*(3-2*fx), fy*fy*(3-2*fy)
	i, j := uint32(int32(x0)), uint32(int32(y0))
	a := unit(hash(i, j, seed))
	a += (unit(hash(i+1, j, seed)) - a) * fx
	c := unit(hash(i, j+1, seed))
	c += (unit(hash(i+1, j+1, seed)) - c) * fx
	return a + (c-a)*fy
}

// hash is pcg3d's first component (Jarzynski and Olano, “Hash Functions for GPU Rendering”, JCGT 9.3, 2020), folded.
func hash(x, y, z uint32) uint32 {
	x, y, z = x*1664525+1013904223, y*1664525+1013904223, z*1664525+1013904223
	x += y * z
	y += z * x
	z += x * y
	x, y, z = x^x>>16, y^y>>16, z^z>>16
	return x + y*z
}

// mix makes another number of one (the finaliser of MurmurHash3, Appleby 2011).
func mix(h uint32) uint32 {
	h ^= h >> 16
	h *= 0x85ebca6b
	h ^= h >> 13
	h *= 0xc2b2ae35
	return h ^ h>>16
}

// unit is a number in 0–1.
func unit(h uint32) float32 { return float32(h>>8) * (1. / (1 << 24)) }

func length(x, y float32) float32 { return float32(math.Sqrt(float64(x*x + y*y))) }
func abs(v float32) float32       { return max(v, -v) }
func root(v float32) float32      { return float32(math.Sqrt(float64(max(0, v)))) }
func floor(v float32) float32     { return float32(math.Floor(float64(v))) }
