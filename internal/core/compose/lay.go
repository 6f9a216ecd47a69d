package compose

import (
	"slices"

	"crust/internal/core/pixel"
)

// blendPlanes are the planes that are blended; nil for those that are not wanted.
type blendPlanes [blended]*[]float32

// blendRun is how many texels are blended at a time: their planes stay in the nearest cache.
const blendRun = 512

// level is what a group that is being laid has to know of what lies under it.
type level struct {
	under [blended][blendRun]float32 // the planes where it began
	cover [blended][blendRun]float32 // by the first plane of each channel: how much its layers cover, of one that stands alone; else how much was covered round it
	outer *level                     // that stands alone round it
}

// channelPlanes are the first plane and the end of each channel.
var channelPlanes = [...][2]int{{planeBase, planeRoughness}, {planeRoughness, planeMetallic}, {planeMetallic, planeEmissive}, {planeEmissive, planeOpacity}, {planeOpacity, planeOcclusion}, {planeOcclusion, planeWet}, {planeWet, planeHeight}, {planeHeight, planeBend}, {planeBend, blended}}

// lay blends turns over what planes hold of a tile; those that are nil are not wanted.
func (g *ground) lay(k *scratch, run []turn, t int, planes *blendPlanes) {
	masks := g.masksFor(k, run, t)
	sources := g.sourced(k, run, masks, t, planes)
	flats := g.flats(k, run, t, planes)
	n := g.tiles[t].Len()
	for at := 0; at < n; at += blendRun {
		b := blending{k: k, planes: planes, at: at, end: min(n, at+blendRun)}
		b.lay(run, masks, sources, flats)
	}
}

// masksFor are the masks of turns on a tile.
func (g *ground) masksFor(k *scratch, run []turn, t int) []*mask {
	out := make([]*mask, 0, len(run))
	for i := 0; i < len(run); i++ {
		m := g.mask(k, run[i].step, t) // this may lay what the mask depends on
		out = append(out, m)
		if m != nil && m.empty {
			for range run[i].skip {
				out = append(out, m)
				i++
			}
		}
	}
	return out
}

// sourced reads what sources give on a tile, by turn and value; nil where no turn has one.
func (g *ground) sourced(k *scratch, run []turn, masks []*mask, t int, planes *blendPlanes) (out [][][3][]uint16) {
	for i := range run {
		s := &run[i]
		if !s.each || masks[i] != nil && masks[i].empty {
			continue
		}
		if out == nil {
			out = make([][][3][]uint16, len(run))
		}
		out[i] = make([][3][]uint16, len(s.on))
		for j := range s.on {
			if of := s.on[j].source; of != nil && planes[s.on[j].first] != nil {
				out[i][j] = of.read(k, g, t)
			}
		}
	}
	return out
}

// blending lays turns over a run of texels.
type blending struct {
	k       *scratch
	planes  *blendPlanes
	at, end int
	depth   int    // how many groups are open
	alone   *level // the innermost of them that stands alone
}

// of is a plane's run, nil when it is not wanted.
func (b *blending) of(plane int) []float32 {
	if b.planes[plane] == nil {
		return nil
	}
	return (*b.planes[plane])[b.at:b.end]
}

func (b *blending) lay(run []turn, masks []*mask, sources [][][3][]uint16, flats []*flattened) {
	shown, own := b.k.shown[:b.end-b.at], b.k.own[:b.end-b.at]
	for i := 0; i < len(run); i++ {
		s := &run[i]
		if s.flat != nil {
			flats[i].lay(b, s.flat.run)
			continue
		}
		if s.four != nil && !s.full && b.alone == nil && b.planes[planeBase] != nil && b.planes[planeRoughness] != nil {
			if m := masks[i]; !m.empty {
				four := [4][]float32{b.of(planeBase), b.of(planeBase + 1), b.of(planeBase + 2), b.of(planeRoughness)}
				s.four.Lay(&four, m.v[b.at:b.end], s.opacity/65535)
			}
			continue
		}
		if !s.show(shown, masks[i], b.at, s.opacity) {
			i += max(0, s.skip)
			continue
		}
		switch {
		case s.skip > 0 && !slices.ContainsFunc(shown, func(x float32) bool { return x > 0 }):
			i += s.skip
		case s.skip > 0:
			b.begin(s)
		case s.group:
			b.finish(s, shown, own)
		default:
			for j := range s.on {
				v := &s.on[j]
				if b.planes[v.first] == nil {
					continue
				}
				a := v.through(shown, own)
				var each [3][]float32
				switch {
				case v.adjust != nil:
					each = b.adjusted(v)
				case v.source != nil:
					each = b.given(v, sources[i][j])
				}
				blend := b.blendOf(v.first, &v.blend, each)
				if b.alone != nil {
					b.over(v, blend, each, a)
					continue
				}
				for j, x := range v.own {
					plane := b.of(v.first + j)
					if each[j] != nil {
						blend.LayEach(plane, each[j], a, b.k.mixed[:])
					} else {
						blend.Lay(plane, x, a)
					}
					if v.full {
						endAtOne(plane)
					}
				}
			}
		}
	}
}

// given is what a source gives on the run, plane by plane.
func (b *blending) given(v *value, of [3][]uint16) (out [3][]float32) {
	if v.first == planeBend {
		for j := range out[:2] {
			out[j] = b.k.own3[j][:b.end-b.at]
		}
		bends(out[0], out[1], of[0][b.at:b.end], of[1][b.at:b.end], v.high)
		return out
	}
	for j := range v.own {
		out[j] = b.k.own3[j][:b.end-b.at]
		pixel.Widen(out[j], of[j][b.at:b.end], (v.high-v.low)/65535)
		if v.low != 0 {
			for i := range out[j] {
				out[j][i] += v.low
			}
		}
	}
	return out
}

// adjusted is what lies below on the run, changed.
func (b *blending) adjusted(v *value) (out [3][]float32) {
	a := v.adjust
	for j := range v.own {
		out[j] = b.k.own3[j][:b.end-b.at]
		copy(out[j], b.of(v.first+j))
	}
	if len(v.own) == 3 && (a.Hue != 0 || a.Saturation != 0 || a.Lightness != 0) {
		red, green, blue := out[0], out[1], out[2]
		for i := range red {
			red[i], green[i], blue[i] = pixel.Turned(red[i], green[i], blue[i], a.Hue, a.Saturation, a.Lightness)
		}
	}
	for j := range v.own {
		for i, x := range out[j] {
			if a.Low != 0 || a.High != 1 || a.Gamma != 1 {
				x = pixel.Levelled(x, a.Low, a.High, a.Gamma)
			}
			if a.Contrast != 0 {
				x = pixel.Contrasted(x, a.Contrast)
			}
			out[j][i] = x
		}
	}
	return out
}

// blendOf is how values of a channel are laid. Normals that go over others by reoriented mapping become the outcome first,
// where something covers what lies below, and take its place then.
func (b *blending) blendOf(first int, blend *pixel.Blend, each [3][]float32) *pixel.Blend {
	if first != planeBend {
		return blend
	}
	if blend.Name == "add" {
		x, y := b.of(first), b.of(first+1)
		for i := range each[0] {
			if x[i] == 0 && y[i] == 0 {
				continue
			}
			n := Reorient(unit(x[i], y[i], 1), [3]float32{each[0][i], each[1][i], 1})
			z := max(n[2], leastZ)
			to := [2]float32{n[0] / z, n[1] / z}
			share := float32(1)
			if b.alone != nil {
				share = b.alone.cover[first][i]
			}
			for j := range to {
				each[j][i] += (to[j] - each[j][i]) * share
			}
		}
	}
	return &pixel.Blends[0]
}

// over lays a value into a group that stands alone.
func (b *blending) over(v *value, blend *pixel.Blend, each [3][]float32, a []float32) {
	cover := b.alone.cover[v.first][:len(a)]
	for j, x := range v.own {
		own := each[j]
		if own == nil {
			own = b.k.own3[j][:len(a)]
			fill(own, x)
		}
		blend.LayOver(b.of(v.first+j), own, a, cover, b.k.mixed[:])
		if v.full {
			endAtOne(b.of(v.first + j))
		}
	}
	pixel.Cover(cover, a)
}

// begin opens a group.
func (b *blending) begin(s *turn) {
	if b.depth == len(b.k.levels) {
		b.k.levels = append(b.k.levels, new(level))
	}
	l := b.k.levels[b.depth]
	b.depth++
	l.outer = b.alone
	for p := range blended {
		plane := b.of(p)
		if s.lays>>p&1 == 0 || plane == nil {
			continue
		}
		copy(l.under[p][:], plane)
		if s.alone != nil {
			clear(plane)
			clear(l.cover[p][:])
		} else if b.alone != nil {
			l.cover[p] = b.alone.cover[p]
		}
	}
	if s.alone != nil {
		b.alone = l
	}
}

// finish lays what the group's layers made over what lay under it, where it shows.
func (b *blending) finish(s *turn, shown, own []float32) {
	b.depth--
	l := b.k.levels[b.depth]
	b.alone = l.outer
	n := len(shown)
	for _, ch := range channelPlanes {
		first := ch[0]
		if s.lays>>first&1 == 0 || b.of(first) == nil {
			continue
		}
		a := b.k.through[:n]
		if s.alone != nil {
			pixel.Times(a, shown, l.cover[first][:n])
		}
		mode := s.alone
		if mode != nil && first == planeBend {
			// What the group made is laid over what lay under it, which is put back for that.
			var made [3][]float32
			for j := range made[:2] {
				made[j] = b.k.own3[j][:n]
				plane := b.of(first + j)
				copy(made[j], plane)
				copy(plane, l.under[first+j][:n])
			}
			mode = b.blendOf(first, mode, made)
			for j := range made[:2] {
				copy(b.of(first+j), made[j])
			}
		}
		for p := first; p < ch[1]; p++ {
			plane, under := b.of(p), l.under[p][:n]
			switch {
			case s.alone == nil && l.outer == nil:
				pixel.Between(plane, under, shown)
			case s.alone == nil:
				part(plane, under, l.outer.cover[first][:n], l.cover[first][:n], shown)
			default:
				copy(own, plane)
				copy(plane, under)
				if l.outer == nil {
					mode.LayEach(plane, own, a, b.k.mixed[:])
				} else {
					mode.LayOver(plane, own, a, l.outer.cover[first][:n], b.k.mixed[:])
				}
				if mode.Name == "add" && p < planeHeight {
					endAtOne(plane)
				}
			}
		}
		switch {
		case l.outer == nil:
		case s.alone == nil:
			was, cover := l.cover[first][:n], l.outer.cover[first][:n]
			pixel.Blends[0].LayEach(was, cover, shown, nil)
			copy(cover, was)
		default:
			pixel.Cover(l.outer.cover[first][:n], a)
		}
	}
}

// part leaves a share of what was laid over what covers in part only: under as it was, with its cover.
func part(plane, under, cover, was, share []float32) {
	for i, m := range share {
		a, b := cover[i]*m, was[i]*(1-m)
		if a+b > 0 {
			plane[i] = (plane[i]*a + under[i]*b) / (a + b)
		}
	}
}

// show writes how much of a step shows through its mask, and a share besides, from texel at on; false where nothing does.
func (s *step) show(shown []float32, m *mask, at int, share float32) bool {
	if s.full {
		fill(shown, share)
		return true
	}
	if m.empty {
		return false
	}
	pixel.Widen(shown, m.v[at:], share/65535)
	return true
}

// through is how much of a value shows where so much of its step does; scratch may be used for it.
func (v *value) through(shown, scratch []float32) []float32 {
	if v.alpha == 1 {
		return shown
	}
	pixel.Scale(scratch[:len(shown)], shown, v.alpha)
	return scratch[:len(shown)]
}

func endAtOne(v []float32) {
	for i, x := range v {
		v[i] = min(x, 1)
	}
}
