package compose

import (
	"math"

	"crust/internal/core/strata"
)

// Digests are hashes of parts of a document that tell apart what is evaluated. They are made for every layer with each edit, so that
// they are written field by field; TestDigestsSeeEveryField holds them to the fields that there are.

// digestClause hashes all of a clause but its mark and its strokes, which are hashed where they lie.
func digestClause(c *strata.Clause) uint64 {
	h := mix(digestTexts(hashOf(c.Kind), []string{c.Join}), flag(c.Off))
	h = digestNumbers(h, c.Params)
	h = digestTexts(digestTexts(digestTexts(h, c.Parts), c.Layers), c.IDs)
	if c.Source != nil {
		h = mix(h, digestSource(c.Source))
	}
	s := &c.Shape
	for _, x := range [8]float32{s.Low, s.High, s.Balance, s.Contrast, s.Strength, s.Soften, s.Warp, s.Waves} {
		h = mix(h, bits(x))
	}
	return mix(h, flag(s.Invert))
}

// digestSource hashes all of a source.
func digestSource(s *strata.Source) uint64 {
	h := digestTexts(hashOf(s.Kind), []string{s.Picture, s.Map, s.Of})
	if s.Field != nil {
		h = mix(h, digestClause(s.Field))
	}
	h = mix(digestNumbers(h, s.Lay), uint64(len(s.Ramp)))
	for i := range s.Ramp {
		h = mix(mix(h, bits(s.Ramp[i].At)), hashOf(s.Ramp[i].Hex))
	}
	return mix(mix(h, bits(s.Low)), bits(s.High))
}

// digestAdjust hashes all of an adjustment.
func digestAdjust(a *strata.Adjust) (h uint64) {
	for _, x := range [7]float32{a.Hue, a.Saturation, a.Lightness, a.Contrast, a.Low, a.High, a.Gamma} {
		h = mix(h, bits(x))
	}
	return h
}

func digestTexts(h uint64, list []string) uint64 {
	h = mix(h, uint64(len(list)))
	for _, s := range list {
		h = mix(h, hashOf(s))
	}
	return h
}

// digestNumbers mixes in numbers by name, whatever their order.
func digestNumbers(h uint64, of map[string]float64) uint64 {
	sum := uint64(len(of))
	for name, x := range of {
		sum += mix(hashOf(name), math.Float64bits(x))
	}
	return mix(h, sum)
}

func flag(on bool) uint64 {
	if on {
		return 1
	}
	return 0
}
