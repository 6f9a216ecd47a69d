package deliver

import (
	"math"
	"slices"
	"sync"

	"crust/internal/core/pixel"
)

// counts is how many texels have each colour.
type counts map[[3]uint8]int

// count takes in packed texels of three bytes.
func (c counts) count(pix []byte) {
	for i := 0; i+3 <= len(pix); i += 3 {
		c[[3]uint8(pix[i:])]++
	}
}

// perceived is a colour in Oklab (Ottosson, A perceptual color space for image processing, 2020), in which distances are even.
func perceived(c [3]uint8) (lab [3]float64) {
	var lin [3]float64
	for k, v := range c {
		lin[k] = float64(pixel.FromSRGB(float32(v) / 255))
	}
	l := math.Cbrt(0.4122214708*lin[0] + 0.5363325363*lin[1] + 0.0514459929*lin[2])
	m := math.Cbrt(0.2119034982*lin[0] + 0.6806995451*lin[1] + 0.1073969566*lin[2])
	s := math.Cbrt(0.0883024619*lin[0] + 0.2817188376*lin[1] + 0.6299787005*lin[2])
	return [3]float64{0.2104542553*l + 0.7936177850*m - 0.0040720468*s, 1.9779984951*l - 2.4285922050*m + 0.4505937099*s, 0.0259040371*l + 0.7827717662*m - 0.8086757660*s}
}

// palette chooses up to n of the colours that stand for all: boxes of colours are halved at the median along their longest side
// (Heckbert, Color image quantization for frame buffer display, 1982), and each gives the colour nearest to its mean.
func (c counts) palette(n int) [][3]uint8 {
	type shade struct {
		rgb [3]uint8
		lab [3]float64
		n   int
	}
	var all []shade
	for rgb, n := range c {
		all = append(all, shade{rgb, perceived(rgb), n})
	}
	slices.SortFunc(all, func(a, b shade) int { return slices.Compare(a.rgb[:], b.rgb[:]) })
	if len(all) == 0 {
		return [][3]uint8{{}}
	}
	longest := func(box []shade) (side int, long float64) {
		for k := range 3 {
			low, high := math.Inf(1), math.Inf(-1)
			for _, s := range box {
				low, high = min(low, s.lab[k]), max(high, s.lab[k])
			}
			if high-low > long {
				side, long = k, high-low
			}
		}
		return side, long
	}
	boxes := [][]shade{all}
	for len(boxes) < n {
		// The box in which most is far off is halved next.
		best, side, most := -1, 0, 0.0
		for i, box := range boxes {
			k, long := longest(box)
			texels := 0
			for _, s := range box {
				texels += s.n
			}
			if w := long * math.Sqrt(float64(texels)); w > most {
				best, side, most = i, k, w
			}
		}
		if best < 0 {
			break
		}
		box := boxes[best]
		slices.SortStableFunc(box, func(a, b shade) int {
			switch {
			case a.lab[side] < b.lab[side]:
				return -1
			case a.lab[side] > b.lab[side]:
				return 1
			}
			return 0
		})
		total, at, sum := 0, 1, 0
		for _, s := range box {
			total += s.n
		}
		for at < len(box)-1 && sum+box[at-1].n < total/2 {
			sum += box[at-1].n
			at++
		}
		boxes[best] = box[:at:at]
		boxes = append(boxes, box[at:])
	}
	out := make([][3]uint8, 0, len(boxes))
	for _, box := range boxes {
		var mean [3]float64
		total := 0.0
		for _, s := range box {
			for k := range mean {
				mean[k] += s.lab[k] * float64(s.n)
			}
			total += float64(s.n)
		}
		best, least := 0, math.Inf(1)
		for i, s := range box {
			d := 0.0
			for k := range mean {
				x := s.lab[k] - mean[k]/total
				d += x * x
			}
			if d < least {
				best, least = i, d
			}
		}
		out = append(out, box[best].rgb)
	}
	slices.SortFunc(out, func(a, b [3]uint8) int { return slices.Compare(a[:], b[:]) })
	return slices.Compact(out)
}

// nearest finds the colour of a palette that looks most like another, and remembers it.
type nearest struct {
	palette [][3]uint8
	lab     [][3]float64
	known   sync.Map // from colours to places in the palette
}

func nearestOf(palette [][3]uint8) *nearest {
	n := &nearest{palette: palette}
	for _, c := range palette {
		n.lab = append(n.lab, perceived(c))
	}
	return n
}

func (n *nearest) of(c [3]uint8) uint8 {
	if k, ok := n.known.Load(c); ok {
		return k.(uint8)
	}
	lab, best, least := perceived(c), 0, math.Inf(1)
	for i, p := range n.lab {
		d := 0.0
		for k := range p {
			d += (p[k] - lab[k]) * (p[k] - lab[k])
		}
		if d < least {
			best, least = i, d
		}
	}
	n.known.Store(c, uint8(best))
	return uint8(best)
}
