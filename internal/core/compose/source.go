package compose

import (
	"math"
	"slices"
	"sync"

	"crust/internal/core/bake"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/picture"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
)

// source gives each place a value of its own, from 0 to 1: a colour's three parts, or one; or, from a normal map, x and y of
// a normal in the tangent space of the place, as (n + 1)/2.
type source struct {
	plan   *plan
	key    uint64
	planes int // 3, or 2 for normals, or 1
	kind   string
	of     string
	pic    *picture.Picture
	lay    laying
	field  *clause // of kind field
	ramp   []ramp
	ids    [][3]float32 // of kind id
	near   float32      // how far from an ID's colour still counts
	tint   *painted     // of kind tint: the strokes
	own    [3]float32   // and what those give that have no values of their own
}

// kindID is the kind of source that clauses about IDs have.
const kindID = "id"

type ramp struct {
	at  float32
	rgb [3]float32
}

// laying is how a picture is laid.
type laying struct {
	by, from   int
	channel    int     // the model's UV channel that it lies by, from 1 on; 0 for the one in use
	size       float32 // metres
	repeats    float32
	u, v       float32
	sin, cos   float32
	mirror     bool
	rim        float32
	tall       float32 // height against width
	perMetre   float32 // pixels
	perSquare  float32 // pixels across the set's square
	wide, high float32
	whole      *whole
}

// whole is how a picture is laid on a square that repeats: whole repeats along each side. A place s, t of the square from its upper
// left corner, 0–1, lies at x0 + s·right[0] + t·down[0], y0 + s·right[1] + t·down[1] of the picture.
type whole struct {
	x0, y0      float32
	right, down [2]float32
}

// wholly lays a picture in whole repeats, as near to what is asked for as they come.
func (l *laying) wholly(piece *geom.Square) {
	round := func(x float32) float32 { return float32(math.Round(float64(x))) }
	across, along := piece.U.Len()/l.size, piece.V.Len()/l.size
	w := &whole{x0: -l.u, y0: -l.v}
	if l.by == strata.ByUV {
		across, along = l.repeats, l.repeats*l.tall
	}
	mirror := float32(1)
	if l.mirror {
		mirror = -1
	}
	w.right, w.down = [2]float32{round(mirror * across * l.cos), round(-mirror * across * l.sin / l.tall)}, [2]float32{round(along * l.sin), round(along * l.cos / l.tall)}
	if w.right[0]*w.down[1] == w.right[1]*w.down[0] {
		w.right, w.down = [2]float32{mirror * max(1, round(across))}, [2]float32{0, max(1, round(along/l.tall))}
	}
	if l.by == strata.ByUV { // about the middle, as on any other model
		w.x0 += 0.5 - (w.right[0]+w.down[0])/2
		w.y0 += 0.5 - (w.right[1]+w.down[1])/2
	}
	l.whole = w
}

// at is where a place lies on the picture.
func (w *whole) at(piece *geom.Square, p geom.Vec3) (x, y float32) {
	s, t := piece.At(p)
	t = 1 - t
	return w.x0 + s*w.right[0] + t*w.down[0], w.y0 + s*w.right[1] + t*w.down[1]
}

func newLaying(s *strata.Source, p *picture.Picture) laying {
	v := s.Laid()
	sin, cos := math.Sincos(v["turn"] * math.Pi / 180)
	l := laying{by: int(v["by"]), channel: int(v["channel"]), from: int(v["from"]), size: float32(v["size"]), repeats: float32(v["repeats"]), u: float32(v["u"]), v: float32(v["v"]), sin: float32(sin), cos: float32(cos), mirror: v["mirror"] == 1, rim: float32(v["rim"])}
	l.tall = float32(p.Height) / float32(p.Width)
	l.perMetre, l.perSquare = float32(p.Width)/l.size, float32(p.Width)*l.repeats
	return l
}

// onto turns a place on a plane, in widths of the picture, to one of the picture.
func (l *laying) onto(u, v float32) (float32, float32) {
	if l.mirror {
		u = -u
	}
	u, v = u*l.cos+v*l.sin, v*l.cos-u*l.sin
	return u - l.u, v/l.tall - l.v
}

// sourceOf makes a source ready; nil when its picture is gone. It is for a colour or for one value.
func (p *plan) sourceOf(g *ground, layer int, s *strata.Source, planes int) (*source, error) {
	if s == nil {
		return nil, nil
	}
	var err error
	out := &source{plan: p, key: mix(mix(keptSource, digestSource(s)), uint64(planes)), planes: planes, kind: s.Kind, of: s.Of}
	switch s.Kind {
	case "picture":
		if out.pic, err = p.body.picture(s.Picture); out.pic == nil {
			return nil, err
		}
		if out.lay = newLaying(s, out.pic); p.body.piece != nil {
			out.lay.wholly(p.body.piece)
		}
	case "map":
		out.of = s.Map + " " + s.Of
	case "field":
		c, err := p.clauseOf(g, layer, s.Field)
		if err != nil {
			return nil, err
		}
		out.field = &c
	}
	for _, st := range s.Ramp {
		rgb, err := strata.ParseHex(st.Hex)
		if err != nil {
			return nil, err
		}
		out.ramp = append(out.ramp, ramp{st.At, rgb})
	}
	if len(out.ramp) == 0 {
		out.ramp = []ramp{{0, [3]float32{}}, {1, [3]float32{1, 1, 1}}}
	}
	return out, nil
}

// idsOf is the source of a clause about IDs.
func (p *plan) idsOf(c *strata.Clause, values []float64) (*source, error) {
	out := &source{plan: p, planes: 1, kind: kindID, near: float32(values[0])}
	out.key = mix(keptSource, bits(out.near))
	for _, hex := range c.IDs {
		rgb, err := strata.ParseHex(hex)
		if err != nil {
			return nil, err
		}
		out.ids = append(out.ids, rgb)
		out.key = mix(out.key, hashOf(hex))
	}
	return out, nil
}

// picture finds a picture by its mark, nil when it is gone.
func (b *Body) picture(mark string) (*picture.Picture, error) {
	if b.pictures == nil || mark == "" {
		return nil, nil
	}
	if p := b.cache.pictures.find(mark); p != nil {
		return p, nil
	}
	p, err := b.pictures(mark)
	if p != nil && err == nil {
		b.cache.pictures.keep(mark, p)
	}
	return p, err
}

// album keeps pictures that are in use, apart from what is evaluated, which they would push out: those used last, within a
// bound. Its lock is its own.
type album struct {
	mu    sync.Mutex
	of    []kept // the one used last at the end
	bytes int
	bound int // how many are kept, the one used last aside
}

type kept struct {
	mark string
	pic  *picture.Picture
}

// albumBytes bounds the pictures that are kept where there is memory.
const albumBytes = 768 << 20

func (a *album) find(mark string) *picture.Picture {
	a.mu.Lock()
	defer a.mu.Unlock()
	i := slices.IndexFunc(a.of, func(k kept) bool { return k.mark == mark })
	if i < 0 {
		return nil
	}
	k := a.of[i]
	a.of = append(slices.Delete(a.of, i, i+1), k)
	return k.pic
}

func (a *album) keep(mark string, p *picture.Picture) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.of = append(a.of, kept{mark, p})
	a.bytes += p.Bytes()
	a.shrink()
}

// hold changes the bound.
func (a *album) hold(bound int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.bound = bound
	a.shrink()
}

// shrink lets go of what is beyond the bound. mu is held.
func (a *album) shrink() {
	for a.bytes > a.bound && len(a.of) > 1 {
		a.bytes -= a.of[0].pic.Bytes()
		a.of = slices.Delete(a.of, 0, 1)
	}
}

func (a *album) forget(mark string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.of = slices.DeleteFunc(a.of, func(k kept) bool {
		if k.mark == mark {
			a.bytes -= k.pic.Bytes()
		}
		return k.mark == mark
	})
}

// Pictures reads a picture by its mark; nil when there is none.
type Pictures func(mark string) (*picture.Picture, error)

// Show gives the body the pictures that documents lay on it.
func (b *Body) Show(p Pictures) *Body {
	b.pictures = p
	return b
}

// read is a source's values on a tile in 16 bits, plane by plane.
func (s *source) read(k *scratch, g *ground, t int) (out [3][]uint16) {
	at := cacheKey{g.id, int32(t), s.keyAt(g, t)}
	if v, ok := g.body.cache.get(at).([3][]uint16); ok {
		return v
	}
	n := g.tiles[t].Len()
	v := k.read[:s.planes]
	for i := range v {
		v[i] = k.given[i][:n]
	}
	sound := s.fill(k, g, t, v)
	for i := range v {
		out[i] = make([]uint16, n)
		pixel.Narrow(out[i], v[i])
	}
	if sound {
		g.body.cache.put(at, out, 2*n*s.planes)
	}
	return out
}

func (s *source) fill(k *scratch, g *ground, t int, out [][]float32) bool {
	switch s.kind {
	case kindTint:
		s.tints(k, g, t, out)
		return true
	case "field":
		one := out[0]
		sound := g.shaped(k, s.field, t, nil, nil, one)
		if s.planes == 3 {
			for i, x := range one {
				s.colour(x, i, out)
			}
		}
		return sound
	case "picture":
		if s.planes == 2 {
			s.lean(k, g, t, out)
		} else {
			s.lie(k, g, t, out)
		}
		return true
	}
	return s.baked(k, g, t, out)
}

// colour puts the ramp's colour of a value at place i.
func (s *source) colour(x float32, i int, out [][]float32) {
	r := s.ramp
	n := 0
	for n < len(r) && r[n].at < x {
		n++
	}
	var rgb [3]float32
	switch {
	case n == 0:
		rgb = r[0].rgb
	case n == len(r):
		rgb = r[n-1].rgb
	default:
		a, b := r[n-1], r[n]
		f := (x - a.at) / (b.at - a.at)
		for c := range rgb {
			rgb[c] = a.rgb[c] + (b.rgb[c]-a.rgb[c])*f
		}
	}
	for c := range rgb {
		out[c][i] = rgb[c]
	}
}

// one is the value that is read of a picture's channels.
func one(of string, v *[4]float32, channels int, space picture.Space) float32 {
	grey := v[0]
	if channels >= 3 {
		// Rec. ITU-R BT.709, of encoded values.
		grey = 0.2126*v[0] + 0.7152*v[1] + 0.0722*v[2]
	}
	x := grey
	switch of {
	case "red":
		x = v[0]
	case "green":
		x = v[min(1, channels-1)]
	case "blue":
		x = v[min(2, channels-1)]
	case "alpha":
		if channels == 2 || channels == 4 {
			return v[channels-1]
		}
		return 1
	}
	if space == picture.Colour {
		x = pixel.FromSRGB(x)
	}
	return x
}

// lie lays the picture on a tile.
func (s *source) lie(k *scratch, g *ground, t int, out [][]float32) {
	g.widen(k, t, field.NeedPlace|field.NeedNormal)
	n, p := len(out[0]), s.pic
	var read [4][]float32
	for c := range p.Channels {
		read[c] = k.pixels[c][:n]
	}
	s.channels(k, g, t, n, &read)
	if s.planes == 3 && (s.of == "" || s.of == "colour") {
		for c := range 3 {
			from := read[0]
			if p.Channels >= 3 {
				from = read[c]
			}
			copy(out[c], from)
			if p.Space == picture.Data {
				for i, x := range from {
					out[c][i] = pixel.ToSRGB(x)
				}
			}
		}
		return
	}
	if p.Channels == 1 && p.Space == picture.Data && s.planes == 1 && s.of != "alpha" {
		copy(out[0], read[0])
		return
	}
	var v [4]float32
	for i := range n {
		for c := range p.Channels {
			v[c] = read[c][i]
		}
		if x := one(s.of, &v, p.Channels, p.Space); s.planes == 3 {
			s.colour(x, i, out)
		} else {
			out[0][i] = x
		}
	}
}

// channels reads the picture's channels at the n places of a tile.
func (s *source) channels(k *scratch, g *ground, t, n int, read *[4][]float32) {
	b, l, p := &k.block, &s.lay, s.pic
	lod := p.Level(g.pitch * l.perMetre)
	u, v := k.lie[0][:n], k.lie[1][:n]
	if l.whole != nil {
		for i := range u {
			u[i], v[i] = l.whole.at(g.body.piece, geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]})
		}
		p.ReadRun(u, v, lod, read)
		return
	}
	switch l.by {
	case strata.ByUV:
		squares := g.laid(k, t, l.channel)
		for i := range u {
			x, y := l.onto((squares[0][i]-0.5)*l.repeats, (squares[1][i]-0.5)*l.repeats*l.tall)
			u[i], v[i] = x+0.5, y+0.5
		}
		if g.spans != nil {
			if set := g.setAt(t, 0); set >= 0 {
				lod = l.levelOn(p, g, set)
			}
			p.ReadRun(u, v, lod, read)
			return
		}
		for i := range u {
			if set := g.setAt(t, i); set >= 0 {
				lod = l.levelOn(p, g, set)
			}
			var w [4]float32
			p.Read(u[i], v[i], lod, &w)
			for c := range p.Channels {
				read[c][i] = w[c]
			}
		}
	case strata.ByPlane:
		for i := range u {
			u[i], v[i] = l.plane(l.from, geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]}, 1)
		}
		p.ReadRun(u, v, lod, read)
	default:
		for c := range p.Channels {
			clear(read[c])
		}
		var shares [3][]float32
		for from := range shares {
			shares[from] = k.lie[2+from][:n]
		}
		boxed(b.NX[:n], b.NY[:n], b.NZ[:n], l.rim, &shares)
		var got [4][]float32
		for from, side := range [3][]float32{b.NY, b.NX, b.NZ} {
			share, at, m := shares[from], k.open[:n], 0
			if pixel.Same(share, 0) == n {
				continue
			}
			for i, w := range share {
				at[m] = uint16(i)
				if w > 0 {
					m++
				}
			}
			at = at[:m]
			l.planes(b, from, side, at, u, v)
			for c := range p.Channels {
				got[c] = k.pixels[4+c][:m]
			}
			p.ReadRun(u[:m], v[:m], lod, &got)
			for c := range p.Channels {
				to, own := read[c], got[c]
				if m == n {
					for i, x := range share {
						to[i] += own[i] * x
					}
					continue
				}
				for j, i := range at {
					to[i] += own[j] * share[i]
				}
			}
		}
	}
}

// levelOn is how often the picture is halved for places of a set, where it is laid by UV.
func (l *laying) levelOn(p *picture.Picture, g *ground, set int32) float32 {
	return p.Level(l.perSquare * g.pitch * g.body.density(set, l.channel))
}

// planes is plane for some places of a block, or for all when at lists as many.
func (l *laying) planes(b *field.Block, from int, side []float32, at []uint16, u, v []float32) {
	across, along := [3][]float32{b.X, b.Z, b.X}[from], [3][]float32{b.Z, b.Y, b.Y}[from]
	// By whether it is seen from the front or from behind.
	signs := [3][2][2]float32{{{1, 1}, {1, -1}}, {{-1, -1}, {1, -1}}, {{1, -1}, {-1, -1}}}[from]
	c, s := l.cos/l.size, l.sin/l.size
	mirror, tall := float32(1), 1/l.tall
	if l.mirror {
		mirror = -1
	}
	var by [2][4]float32
	for k, sign := range signs {
		x, y := sign[0]*mirror, sign[1]
		by[k] = [4]float32{x * c, y * s, -x * s * tall, y * c * tall}
	}
	across, along, side = across[:len(side)], along[:len(side)], side[:len(side)]
	u, v = u[:len(at)], v[:len(at)]
	if len(at) == len(side) && !slices.ContainsFunc(side, func(x float32) bool { return x < 0 != (side[0] < 0) }) {
		k := by[0]
		if side[0] < 0 {
			k = by[1]
		}
		for i, x := range across {
			y := along[i]
			u[i], v[i] = x*k[0]+y*k[1]-l.u, x*k[2]+y*k[3]-l.v
		}
		return
	}
	for j, i := range at {
		k := &by[0]
		if side[i] < 0 {
			k = &by[1]
		}
		x, y := across[i], along[i]
		u[j], v[j] = x*k[0]+y*k[1]-l.u, x*k[2]+y*k[3]-l.v
	}
}

// plane is where a point lies on the picture as seen from above (0), the side (1) or the front (2), from behind when side is
// negative, so that pictures are never mirrored.
func (l *laying) plane(from int, p geom.Vec3, side float32) (x, y float32) {
	sign := float32(1)
	if side < 0 {
		sign = -1
	}
	switch from {
	case 0:
		x, y = p.X, sign*p.Z
	case 1:
		x, y = -sign*p.Z, -p.Y
	default:
		x, y = sign*p.X, -p.Y
	}
	return l.onto(x/l.size, y/l.size)
}

// boxed writes how much each of the three planes counts for normals: the one that they face most alone, and where others come
// within rim of it, by how near they come.
func boxed(nx, ny, nz []float32, rim float32, shares *[3][]float32) {
	rim = max(rim, 1e-4)
	from := boxedWide(nx, ny, nz, rim, shares)
	above, aside, before := shares[0][:len(nx)], shares[1][:len(nx)], shares[2][:len(nx)]
	for i := from; i < len(nx); i++ {
		x, y, z := nx[i], ny[i], nz[i]
		x, y, z = max(x, -x), max(y, -y), max(z, -z)
		least := max(x, y, z) - rim
		x, y, z = max(0, x-least), max(0, y-least), max(0, z-least)
		scale := 1 / (x + y + z)
		above[i], aside[i], before[i] = y*scale, x*scale, z*scale
	}
}

// baked reads a baked map on a tile.
func (s *source) baked(k *scratch, g *ground, t int, out [][]float32) bool {
	kind, of := bake.ID, ""
	if s.kind != kindID {
		for i := range s.of {
			if s.of[i] == ' ' {
				kind, of = s.of[:i], s.of[i+1:]
				break
			}
		}
	}
	g.widen(k, t, field.NeedPlace)
	squares := g.squares(k, t)
	set, last := int32(-2), (*bake.Map)(nil)
	maps := func(i int) *bake.Map {
		if now := g.setAt(t, i); now != set {
			set, last = now, s.plan.mapOf(now, kind)
		}
		return last
	}
	for i := range out[0] {
		var v [4]float32
		m := maps(i)
		if m == nil {
			for _, o := range out {
				o[i] = 0
			}
			continue
		}
		if s.kind == kindID {
			x, y := min(m.Size-1, max(0, int(squares[0][i]*float32(m.Size)))), min(m.Size-1, max(0, int(squares[1][i]*float32(m.Size))))
			at := m.Pix[(y*m.Size+x)*m.Channels:]
			out[0][i] = 0
			for _, id := range s.ids {
				far := float32(0)
				for c := range min(3, m.Channels) {
					far = max(far, max(float32(at[c])/65535-id[c], id[c]-float32(at[c])/65535))
				}
				if far <= s.near {
					out[0][i] = 1
				}
			}
			continue
		}
		at := bake.QuadAt(squares[0][i], squares[1][i], m.Size)
		for c := range min(4, m.Channels) {
			v[c] = m.Read(&at, c)
		}
		switch {
		case s.planes == 1:
			out[0][i] = one(of, &v, m.Channels, picture.Data)
		case of == "colour" && m.Channels >= 3:
			for c := range 3 {
				out[c][i] = v[c]
			}
		default:
			s.colour(one(of, &v, m.Channels, picture.Data), i, out)
		}
	}
	return true
}

// mapsOf are the maps that sources have read, by set and kind; nil for one that is not there.
type mapsOf struct {
	mu sync.Mutex
	of map[mapKey]*bake.Map
}

type mapKey struct {
	set  int32
	kind string
}

// mapOf is a baked map of a set, nil when there is none.
func (p *plan) mapOf(set int32, kind string) *bake.Map {
	if set < 0 {
		return nil
	}
	p.maps.mu.Lock()
	defer p.maps.mu.Unlock()
	at := mapKey{set, kind}
	m, ok := p.maps.of[at]
	if !ok {
		all, err := p.body.maps(p.body.sets[set].Key)
		if err != nil {
			p.failed.CompareAndSwap(nil, &err)
		}
		if m = all[kind]; p.maps.of == nil {
			p.maps.of = map[mapKey]*bake.Map{}
		}
		p.maps.of[at] = m
	}
	return m
}

// setAt is the set of place i of a tile, −1 for none.
func (g *ground) setAt(t, i int) int32 {
	if g.spans != nil {
		return g.body.setOf[g.spans[t][0].tri]
	}
	return g.body.setOf[g.tri[int(g.tiles[t].From)+i]]
}

// channelOf is the UVs of a channel, nil for the one in use.
func (b *Body) channelOf(channel int) []geom.Vec2 {
	if channel < 1 || channel > len(b.model.Channels) {
		return nil
	}
	return b.model.Channels[channel-1].UVs
}

// density is how many squares of a UV channel a metre of a set is.
func (b *Body) density(set int32, channel int) float32 {
	uvs := b.channelOf(channel)
	if uvs == nil {
		return float32(b.sets[set].Density(1))
	}
	at := [2]int{int(set), channel}
	if d, ok := b.densities.Load(at); ok {
		return d.(float32)
	}
	area, own := 0.0, 0.0
	for _, t := range b.sets[set].Tris {
		i := b.model.Tris[t]
		own += math.Abs(float64(uvs[i[1]].Sub(uvs[i[0]]).Cross(uvs[i[2]].Sub(uvs[i[0]])))) / 2
		p, q, r := b.model.Corners(int(t))
		area += float64(q.Sub(p).Cross(r.Sub(p)).Len()) / 2
	}
	d := float32(math.Sqrt(own / max(area, 1e-12)))
	b.densities.Store(at, d)
	return d
}

// laid is where the places of a tile lie in the square of a UV channel of the model, from the top left; outside of 0–1 the picture
// goes on.
func (g *ground) laid(k *scratch, t, channel int) (out [2][]float32) {
	uvs := g.body.channelOf(channel)
	if uvs == nil {
		return g.squares(k, t)
	}
	n := g.tiles[t].Len()
	for c := range out {
		out[c] = k.square[c][:n]
	}
	b, m := &k.block, g.body.model
	g.each(t, func(from, to int, tri int32) {
		p, q, r := m.Corners(int(tri))
		i := m.Tris[tri]
		e1, e2 := q.Sub(p), r.Sub(p)
		for j := from; j < to; j++ {
			u, v := parts(e1, e2, geom.Vec3{X: b.X[j], Y: b.Y[j], Z: b.Z[j]}.Sub(p))
			// On a sliver the place may come out far beside it.
			u, v = min(max(u, -1), 2), min(max(v, -1), 2)
			at := uvs[i[0]].Add(uvs[i[1]].Sub(uvs[i[0]]).Mul(u)).Add(uvs[i[2]].Sub(uvs[i[0]]).Mul(v))
			out[0][j], out[1][j] = within(at.X), within(1-at.Y)
		}
	})
	return out
}

// within takes whole squares off places that lie thousands of them away, where pictures could not be read any more.
func within(x float32) float32 {
	if x > 1000 || x < -1000 {
		return x - float32(math.Floor(float64(x)))
	}
	return x
}

// squares are where the places of a tile lie in their sets' squares, from the top left, 0–1. Those of scattered places come
// from where these lie on their triangles.
func (g *ground) squares(k *scratch, t int) (out [2][]float32) {
	n := g.tiles[t].Len()
	for c := range out {
		out[c] = k.square[c][:n]
	}
	if g.spans != nil {
		tile, i := &g.tiles[t], 0
		for _, s := range g.spans[t] {
			x, y := int(tile.X)*surface.TileSize+s.column(), int(tile.Y)*surface.TileSize+s.row()
			for j := range int(s.n) {
				out[0][i] = (float32(x+j) + 0.5) / float32(g.side)
				out[1][i] = (float32(y) + 0.5) / float32(g.side)
				i++
			}
		}
		return out
	}
	b := &k.block
	m := g.body.model
	for i, tri := range g.tri[g.tiles[t].From:g.tiles[t].To] {
		p, q, r := m.Corners(int(tri))
		u, v := parts(q.Sub(p), r.Sub(p), geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]}.Sub(p))
		if g.body.setOf[tri] < 0 {
			continue
		}
		out[0][i], out[1][i] = g.body.square(spot{tri, u, v})
	}
	return out
}
