package compose

import (
	"math"
	"slices"

	"crust/internal/core/brush"
	"crust/internal/core/strata"
)

// kindTint is the kind of source that strokes with values of their own are.
const kindTint = "tint"

// tinting is a channel of strokes' own values: how many planes it has, and what a stroke gives for them, in 0–1.
type tinting struct {
	planes int
	of     func(v *brush.Values) (rgb [3]float32, own bool)
}

// heightRange is what 0 and 1 of a stroke's height are, in metres each way.
const heightRange = brush.HeightLimit / 1000.

func number(of func(v *brush.Values) *float32, from, to float32) tinting {
	return tinting{1, func(v *brush.Values) (rgb [3]float32, own bool) {
		if x := of(v); x != nil {
			return [3]float32{(*x - from) / (to - from)}, true
		}
		return rgb, false
	}}
}

// tintings are the channels that strokes may have values of their own for, by their names.
var tintings = map[string]tinting{
	"colour": {3, func(v *brush.Values) (rgb [3]float32, own bool) {
		rgb, err := strata.ParseHex(v.Colour)
		return rgb, err == nil
	}},
	"roughness": number(func(v *brush.Values) *float32 { return v.Roughness }, 0, 1),
	"metallic":  number(func(v *brush.Values) *float32 { return v.Metallic }, 0, 1),
	"normal":    {2, func(*brush.Values) (rgb [3]float32, own bool) { return rgb, false }}, // from their pictures alone
	"height":    number(func(v *brush.Values) *float32 { return v.Height }, -brush.HeightLimit, brush.HeightLimit),
}

// upright is a component of a normal that does not lean, as sources give it.
const upright = 32768. / 65535

// tint is the source of a channel where some strokes of a layer have values of their own; nil where none has.
func (p *plan) tint(l *strata.Layer, channel string, own []float32) *source {
	way, ok := tintings[channel]
	if !ok {
		return nil
	}
	for k := range l.Where {
		c := &l.Where[k]
		if c.Off || len(c.Strokes) == 0 || c.Kind != "brush" {
			continue
		}
		of := p.strokes(c)
		for _, i := range of.apart {
			k := of.laid[i].stroke
			tints := channel == "colour" && k.Coloured() || channel == "normal" && k.Leans()
			if k.Own != nil && !tints {
				_, tints = way.of(k.Own)
			}
			if tints {
				s := &source{plan: p, planes: way.planes, kind: kindTint, of: channel, tint: of, key: mix(keptSource, hashOf(kindTint+channel))}
				copy(s.own[:], own)
				if channel == "normal" {
					s.own[0], s.own[1] = upright, upright
				}
				if channel == "height" {
					s.own[0] = (own[0] + heightRange) / (2 * heightRange)
				}
				for _, x := range s.own {
					s.key = mix(s.key, bits(x))
				}
				return s
			}
		}
	}
	return nil
}

// keyAt names what a source gives on a tile.
func (s *source) keyAt(g *ground, t int) uint64 {
	if s.tint == nil {
		return s.key
	}
	h := s.key
	s.tint.near(g, t, func(_ *struck, hash uint64) { h = mix(h, hash) })
	return h
}

// tinted is what strokes gave so far on a tile: how much they cover, and the values there.
type tinted struct {
	cover  []float32
	values [][]float32
}

// tints writes the values of strokes on a tile: each mixes its own, or the layer's, with what those before it left, by how much of
// what shows is its (the colour of W3C's source-over, Compositing and Blending Level 1, not multiplied by its alpha).
func (s *source) tints(k *scratch, g *ground, t int, out [][]float32) {
	way := tintings[s.of]
	var list []*struck
	keys := []uint64{mix(s.key, keptPaint)}
	s.tint.near(g, t, func(l *struck, hash uint64) {
		list = append(list, l)
		keys = append(keys, mix(keys[len(keys)-1], hash))
	})
	n := g.tiles[t].Len()
	is, done := &tinted{cover: make([]float32, n)}, 0
	for i := range out {
		fill(out[i], s.own[i])
	}
	if len(list) == 0 {
		return
	}
	starts := resumes(list)
	for _, i := range starts {
		if have, ok := g.body.cache.get(cacheKey{g.id, int32(t), keys[i]}).(*tinted); ok {
			copy(is.cover, have.cover)
			for j := range out {
				copy(out[j], have.values[j])
			}
			done = i
			break
		}
	}
	at := g.places(k, t)
	cover := k.cover[:n]
	tint := &tintOf{way, s.own, s.of}
	all := &strokesAt{cover: is.cover, values: out}
	for i := done; i < len(list); i++ {
		l := list[i]
		if l.stroke.Work != "" {
			first := i
			i = runOf(list, i) - 1
			g.worked(k, list[:first], list[first:i+1], t, &strewn{at: at}, tint, 0, all)
			l = list[i]
		} else {
			g.struck(k, t, l, cover)
			all.lay(g, t, l, &strewn{at: at}, cover, tint)
		}
		if last := i + 1; !l.wet && (last == len(list)-1 || slices.Contains(starts, last)) {
			kept := &tinted{cover: append([]float32(nil), is.cover...)}
			for j := range out {
				kept.values = append(kept.values, append([]float32(nil), out[j]...))
			}
			g.body.cache.put(cacheKey{g.id, int32(t), keys[last]}, kept, 4*n*(1+len(out)))
		}
	}
	for j := range out {
		for x, v := range out[j] {
			out[j][x] = float32(math.Min(1, math.Max(0, float64(v))))
		}
	}
}
