package field

import (
	"math"

	"crust/internal/core/geom"
)

// motif is a repeated figure on a plane: how much of it lies at a place, 0–1, in units of its size.
type motif struct {
	name, words string
	at          func(u, v float32, m *measure) float32
}

// measure is how a motif is laid: shares of its size.
type measure struct {
	gap    float32 // between its pieces
	jitter float32 // by how much pieces are out of place
	soft   float32 // over how much a rim goes from 0 to 1: as wide as places lie apart
	seed   uint32
}

// rim is a share of 1 inside, at a distance e from the rim, and of 0 outside.
func (m *measure) rim(e float32) float32 { return geom.Clamp01(e/m.soft + 0.5) }

// random is two numbers −0.5 to 0.5 times jitter for a piece.
func (m *measure) random(i, j float32) (u, v float32) {
	h := cellHash(uint32(int32(i))*hashX ^ uint32(int32(j))*hashY ^ m.seed)
	return (share(h, 22) - 0.5) * m.jitter, (share(h, 12) - 0.5) * m.jitter
}

// motifs lists them by number; documents hold the number, so new ones come last.
var motifs = []motif{
	{"stripes", "stripes", func(u, _ float32, m *measure) float32 {
		i := floor(u)
		off, _ := m.random(i, 0)
		return m.rim((1-m.gap)*(0.5-abs(off)) - abs(u-i-0.5-off*m.gap))
	}},
	{"checks", "checks", func(u, v float32, m *measure) float32 {
		i, j := floor(u), floor(v)
		e := min(0.5-abs(u-i-0.5), 0.5-abs(v-j-0.5))
		if (int32(i)+int32(j))&1 != 0 {
			e = -e
		}
		return m.rim(e)
	}},
	{"dots", "dots", func(u, v float32, m *measure) float32 {
		i, j := floor(u), floor(v)
		du, dv := m.random(i, j)
		r := 0.5 * (1 - m.gap)
		// A dot stays in its own square.
		du, dv = du*(1-2*r), dv*(1-2*r)
		return m.rim(r - hypot(u-i-0.5-du, v-j-0.5-dv))
	}},
	{"hexagons", "hexagons", func(u, v float32, m *measure) float32 { return m.rim(0.5*(1-m.gap) - hexagon(u, v)) }},
	{"weave", "weave", func(u, v float32, m *measure) float32 {
		i, j := floor(u), floor(v)
		across, along := u-i-0.5, v-j-0.5
		if (int32(i)+int32(j))&1 != 0 {
			across, along = along, across
		}
		// A thread is round across and dips at its ends, where it goes under the next.
		half := 0.5 * (1 - m.gap)
		round := 1 - across*across/(half*half)
		return m.rim(half-abs(across)) * (0.25 + 0.75*sqrt(max(0, round))*(1-2*along*along))
	}},
	{"planks", "planks", func(u, v float32, m *measure) float32 {
		j := floor(v)
		off, _ := m.random(j, 7)
		const long = 7
		// Ends of neighbours lie a third of a length apart, or anywhere.
		at := u/long + j/3 + off
		end := at - floor(at)
		return m.rim(min(0.5-abs(v-j-0.5), (0.5-abs(end-0.5))*long) - m.gap/2)
	}},
	{"blocks", "blocks", func(u, v float32, m *measure) float32 {
		j := floor(v)
		off, _ := m.random(j, 3)
		at := u/2 + j/2 + off
		end := at - floor(at)
		return m.rim(min(0.5-abs(v-j-0.5), (0.5-abs(end-0.5))*2) - m.gap/2)
	}},
	{"rivet rows", "rows of rivets", func(u, v float32, m *measure) float32 {
		const apart = 6 // rows
		i, j := floor(u), floor(v/apart)
		du, dv := m.random(i, j)
		r := 0.45 * (1 - m.gap)
		d := hypot(u-i-0.5-0.2*du, v-(j+0.5)*apart-0.2*dv) / r
		return sqrt(max(0, 1-d*d))
	}},
}

// hexagon is the distance from the middle of the nearest of hexagons whose middles lie 1 apart, measured across their flats:
// 0.5 at their sides.
func hexagon(u, v float32) float32 {
	const high = 1.7320508 // of two rows
	cell := func(u, v float32) (x, y float32) { return u - floor(u) - 0.5, (v/high-floor(v/high))*high - high/2 }
	ax, ay := cell(u, v)
	bx, by := cell(u-0.5, v-high/2)
	if ax*ax+ay*ay > bx*bx+by*by {
		ax, ay = bx, by
	}
	ax, ay = abs(ax), abs(ay)
	return max(ax, ax*0.5+ay*(high/2))
}

// sides are those that a pattern is laid from: all six of a box by the way places face, or one.
var sides = []string{"box", "above", "front", "right"}

// fillPattern is the kernel of the kind; p follows its parameters.
func fillPattern(b *Block, p []float64, out []float32) {
	f, size := motifs[int(p[0])].at, float32(p[1])
	m := &measure{gap: float32(p[2]), jitter: float32(p[3]), soft: max(0.001, b.Pitch/size), seed: uint32(p[6]) * 0x85ebca6b}
	sin, cos := math.Sincos(p[4] * math.Pi / 180)
	s, c := float32(sin)/size, float32(cos)/size
	for i := range out {
		x, y, z := b.X[i]-b.Floor.X, b.Y[i]-b.Floor.Y, b.Z[i]-b.Floor.Z
		side := int(p[5])
		if side == 0 {
			nx, ny, nz := abs(b.NX[i]), abs(b.NY[i]), abs(b.NZ[i])
			switch {
			case ny >= nx && ny >= nz:
				side = 1
			case nz >= nx:
				side = 2
			default:
				side = 3
			}
		}
		u, v := x, y // from the front
		switch side {
		case 1:
			v = z
		case 3:
			u = z
		}
		out[i] = f(u*c-v*s, u*s+v*c, m)
	}
}

func abs(v float32) float32 { return max(v, -v) }

func hypot(x, y float32) float32 { return sqrt(x*x + y*y) }
