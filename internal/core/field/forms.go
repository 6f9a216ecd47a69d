package field

import (
	"math"
	"sync"

	"crust/internal/core/geom"
)

// form is what noise is made into.
type form struct {
	name, words string
	fill        func(n *noise, out []float32)
}

// forms lists them by number; documents hold the number, so new ones come last.
var forms = []form{
	{"clouds", "clouds", func(n *noise, out []float32) { n.clouds(1, 0, out) }},
	{"veins", "veins", func(n *noise, out []float32) {
		n.clouds(1, 0, out)
		for i, v := range out {
			out[i] = 1 - geom.Clamp01(float32(math.Abs(float64(4*v-2))))
		}
	}},
	{"billows", "billows", func(n *noise, out []float32) {
		n.clouds(1, 0, out)
		for i, v := range out {
			out[i] = geom.Clamp01(float32(math.Abs(float64(4*v - 2))))
		}
	}},
	{"ridges", "ridges", ridges},
	{"cells", "cells", func(n *noise, out []float32) {
		s := n.strewn(1)
		for i := range out {
			out[i] = min(1, s.first[i])
		}
	}},
	{"flakes", "flakes", flakes},
	{"speckles", "speckles", speckles},
	{"stains", "stains", stains},
	{"cracks", "cracks", cracks},
	{"scratches", "scratches", scratches},
}

// inPlace is how many of the forms, from the first on, need no room but the field's own.
const inPlace = 3

// noiseRoom is how many places are worked on at a time.
const noiseRoom = 256

// noise is a clause of noise over some places.
type noise struct {
	x, y, z     []float32
	size, rough float32 // metres; how much each octave weighs against the one before
	detail      float32 // octaves
	seed        uint32
	pitch       float32      // about how far places lie apart, in metres
	square      *geom.Square // that repeats; nil in space. On one, x and y are places of it, 0–1, and there is no z
	sides       [2]float32   // of the square, in metres, shorter where it is drawn together
	moved       [3][noiseRoom]float32
	first       [noiseRoom]float32
	second      [noiseRoom]float32
	mark        [noiseRoom]uint32
	more        [noiseRoom]float32
}

// noises are used again: what a form is handed is on the heap, and the room is large against a run of places.
var noises = sync.Pool{New: func() any { return new(noise) }}

// fillNoise is the kernel of the kind; p follows its parameters.
func fillNoise(b *Block, p []float64, out []float32) {
	n := noises.Get().(*noise)
	defer noises.Put(n)
	n.size, n.detail, n.rough, n.seed, n.pitch = float32(p[0]), float32(p[1]), float32(p[2]), uint32(p[4])*0x85ebca6b, b.Pitch
	n.square = b.Square
	f := forms[int(p[3])]
	stretch, along, apart := float32(p[5]), int(p[6]), p[7] != 0
	if n.square != nil {
		drawn := [2]float32{1, 1}
		for k, side := range []geom.Vec3{n.square.U, n.square.V} {
			// What is drawn out along an axis has fewer cells along the side that runs there.
			share := abs(side.Norm().Axis([3]int{1, 0, 2}[along]))
			drawn[k] = 1 + (1/stretch-1)*share
		}
		for at := 0; at < len(out); at += noiseRoom {
			to := min(len(out), at+noiseRoom)
			n.lay(b, at, to, drawn)
			f.fill(n, out[at:to])
		}
		return
	}
	room := noiseRoom
	if int(p[3]) < inPlace && stretch == 1 && !apart {
		room = len(out) // nothing is kept aside
	}
	for at := 0; at < len(out); at += room {
		to := min(len(out), at+room)
		n.x, n.y, n.z = b.X[at:to], b.Y[at:to], b.Z[at:to]
		if stretch != 1 || apart {
			n.move(b, at, stretch, along, apart)
		}
		f.fill(n, out[at:to])
	}
}

// move draws space together along an axis, so that what is in it comes out longer, and gives each part a place of its own.
func (n *noise) move(b *Block, at int, stretch float32, along int, apart bool) {
	for k, of := range [3]*[]float32{&n.x, &n.y, &n.z} {
		to := n.moved[k][:len(*of)]
		scale := float32(1)
		if k == [3]int{1, 0, 2}[along] {
			scale = 1 / stretch
		}
		for i, v := range *of {
			to[i] = v * scale
		}
		if apart {
			for i := range to {
				to[i] += 100 * n.size * share(cellHash(uint32(b.Part[at+i]+1)*hashX), uint(10*k+2))
			}
		}
		*of = to
	}
}

// clouds is gradient noise at a size divided by finer.
func (n *noise) clouds(finer float32, salt uint32, out []float32) {
	n.sum(n.size/finer, n.detail, n.rough, n.seed^salt, out)
}

// sum is Noise at the places.
func (n *noise) sum(size, detail, rough float32, seed uint32, out []float32) {
	if n.square == nil {
		Noise(n.x, n.y, n.z, size, detail, rough, seed, out)
		return
	}
	sumOctaves(detail, rough, out, func(o int, finer, amp float32) {
		n.octave(o, finer/size, amp, seed, out)
	})
}

// octave adds one octave of gradient noise.
func (n *noise) octave(o int, freq, amp float32, seed uint32, out []float32) {
	seed += uint32(o) * 0x9e3779b9
	if n.square == nil {
		octave(n.x, n.y, n.z, freq, amp, seed, &turns[o], out)
		return
	}
	shift := shiftOf(o)
	carpetFor(n.sides[0]*freq, n.sides[1]*freq, o).weave(n.x, n.y, &shift, amp, seed, out)
}

// rim is noise of two octaves, −0.5 to 0.5, that makes outlines uneven.
func (n *noise) rim(finer float32) []float32 {
	out := n.more[:len(n.x)]
	n.sum(n.size/finer, min(2, n.detail), n.rough, n.seed^0x52, out)
	for i := range out {
		out[i] -= 0.5
	}
	return out
}

// strewn is cellular noise at a size divided by finer.
func (n *noise) strewn(finer float32) *strew {
	s := &strew{n.first[:len(n.x)], n.second[:len(n.x)], n.mark[:len(n.x)]}
	seed := n.seed ^ uint32(finer*16)*hashY
	if n.square == nil {
		s.near(n.x, n.y, n.z, finer/n.size, seed)
		return s
	}
	shift := shiftOf(int(finer * 2))
	carpetFor(n.sides[0]*finer/n.size, n.sides[1]*finer/n.size, 0).near(s, n.x, n.y, &shift, seed)
	return s
}

// ridges are sharp crests: octaves of 1 − |noise|, squared (Musgrave, in Texturing and Modeling, 2003).
func ridges(n *noise, out []float32) {
	clear(out)
	wave := n.more[:len(out)]
	octaves := min(maxOctaves, max(1, int(n.detail+0.5)))
	freq, amp, total := 1/n.size, float32(1), float32(0)
	for o := range octaves {
		clear(wave)
		n.octave(o, freq, 2, n.seed, wave)
		for i, v := range wave {
			r := 1 - min(1, max(v, -v))
			out[i] += amp * r * r
		}
		total += amp
		freq *= 2
		amp *= n.rough
	}
	for i := range out {
		out[i] /= total
	}
}

// flakes are plates with angular rims, each of one value; finer ones break their rims.
func flakes(n *noise, out []float32) {
	clear(out)
	octaves := min(maxOctaves, max(1, int(n.detail+0.5)))
	finer, amp, total := float32(1), float32(1), float32(0)
	for range min(3, octaves) {
		s := n.strewn(finer)
		for i, h := range s.mark {
			out[i] += amp * share(h, 7)
		}
		total += amp
		finer *= 2.3
		amp *= n.rough
	}
	for i := range out {
		out[i] /= total
	}
}

// speckles are spots of many sizes with uneven rims; half of the cells have none.
func speckles(n *noise, out []float32) {
	s, rim := n.strewn(1), n.rim(3)
	soft := max(0.03, n.pitch/n.size)
	for i, h := range s.mark {
		out[i] = 0
		if u := share(h, 4); u < 0.5 {
			r := 0.1 + 0.35*u*share(h, 14)*2
			out[i] = geom.Clamp01((r-s.first[i]-0.3*rim[i])/soft + 0.5)
		}
	}
}

// stains are what drops leave that dry: a dark rim and a faint middle.
func stains(n *noise, out []float32) {
	s, rim := n.strewn(1), n.rim(2)
	for i, h := range s.mark {
		out[i] = 0
		if u := share(h, 4); u < 0.7 {
			r := 0.15 + 0.35*u
			d := s.first[i] + 0.25*rim[i] - r
			inside := 0.35 * geom.Clamp01(0.5-d*12)
			out[i] = max(inside, 1-min(1, max(d, -d)*14))
		}
	}
}

// cracks run where two points are equally near; finer ones are shallower.
func cracks(n *noise, out []float32) {
	clear(out)
	finer, depth := float32(1), float32(1)
	for range min(3, max(1, int(n.detail+0.5))) {
		s, rim := n.strewn(finer), n.rim(2*finer)
		// Never narrower than what places tell apart.
		wide := max(0.05, 1.5*n.pitch*finer/n.size)
		for i := range out {
			e := max(0, s.second[i]-s.first[i]+0.15*rim[i]*rim[i])
			out[i] = max(out[i], depth*(1-min(1, e/wide)))
		}
		finer *= 2.1
		depth *= n.rough
	}
}

// families of scratches: the way across each, of length 1.
var families = [...][3]float32{{0.79, 0.41, 0.455}, {-0.31, 0.86, 0.405}, {0.52, -0.37, 0.77}}

// scratches are straight and thin, in three families, of many depths; each ends somewhere.
func scratches(n *noise, out []float32) {
	clear(out)
	const thin = 0.03
	wide := max(thin, 0.75*n.pitch/n.size)
	fade := thin / wide // what is finer than places tell apart is drawn wider and fainter
	for f, a := range families[:min(len(families), max(1, int(n.detail+0.5)))] {
		b := families[(f+1)%len(families)]
		seed := cellHash(n.seed + uint32(f)*hashZ)
		if n.square != nil {
			n.scratchSquare(n.stripFor(a, b), seed, wide, fade, out)
			continue
		}
		for i := range out {
			across := (n.x[i]*a[0] + n.y[i]*a[1] + n.z[i]*a[2]) / n.size
			along := (n.x[i]*b[0] + n.y[i]*b[1] + n.z[i]*b[2]) / n.size
			row := floor(across)
			h := cellHash(uint32(int32(row))*hashX ^ seed)
			at := along/(4+12*share(h, 3)) + share(h, 12)
			piece := floor(at)
			out[i] = max(out[i], scratch(h, piece, at-piece, across-row, wide)*max(0.15, fade))
		}
	}
}

// scratch is one of them: of a row and a piece of it, at a place along the piece and across the row, 0–1.
func scratch(row uint32, piece, ends, across, wide float32) float32 {
	h := cellHash(row ^ uint32(int32(piece))*hashY)
	if share(h, 2) > 0.4 {
		return 0
	}
	off := across - 0.1 - 0.8*share(h, 12)
	return (1 - min(1, max(off, -off)/wide)) * min(1, 6*ends, 6-6*ends) * (0.25 + 0.75*share(h, 22))
}

// scratchSquare is one family on a square that repeats: a row that comes round again has a whole number of pieces.
func (n *noise) scratchSquare(l *strip, seed uint32, wide, fade float32, out []float32) {
	high := float32(l.high)
	for i := range out {
		across, along := n.x[i]*l.across[0]+n.y[i]*l.across[1], n.x[i]*l.along[0]+n.y[i]*l.along[1]
		row := floor(across)
		same, _, k := l.same(int64(row), 0)
		h := cellHash(uint32(int32(same))*hashX ^ seed)
		pieces := max(1, round(high/(4+12*share(h, 3))))
		along -= float32((k * l.lift) % l.high)
		along -= high * floor(along/high)
		at := along/high*pieces + share(h, 12)
		piece := floor(at)
		ends := at - piece
		piece -= pieces * floor((piece+0.5)/pieces)
		out[i] = max(out[i], scratch(h, piece, ends, across-row, wide)*max(0.15, fade))
	}
}

func sqrt(v float32) float32 { return float32(math.Sqrt(float64(v))) }
