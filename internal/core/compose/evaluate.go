package compose

import (
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"sync/atomic"

	"crust/internal/core/field"
	"crust/internal/core/par"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// cacheBytes bounds the finished Wheres that a canvas keeps.
const cacheBytes = 192 << 20

// cache keeps finished Wheres in 16 bits under the hash of all that they depend on, least recently
// used out first.
type cache struct {
	at    map[uint64]*where
	bytes int
	clock int64
}

type where struct {
	v       []uint16
	blocks  []bool // blocks in which something shows
	covered float64
	used    int64
}

func (c *cache) get(key uint64) *where {
	w := c.at[key]
	if w != nil {
		c.clock++
		w.used = c.clock
	}
	return w
}

func (c *cache) put(key uint64, w *where) {
	if c.at == nil {
		c.at = map[uint64]*where{}
	}
	c.clock++
	w.used = c.clock
	c.at[key] = w
	c.bytes += 2 * len(w.v)
}

// trim drops old entries, never those used since mark.
func (c *cache) trim(mark int64) {
	for c.bytes > cacheBytes {
		var oldest uint64
		found := false
		for k, w := range c.at {
			if w.used <= mark && (!found || w.used < c.at[oldest].used) {
				oldest, found = k, true
			}
		}
		if !found {
			return
		}
		c.bytes -= 2 * len(c.at[oldest].v)
		delete(c.at, oldest)
	}
}

// scratch of one worker.
type scratch struct {
	field, acc, alpha, own [blockSize]float32
}

func (c *Canvas) scratch(w int) *scratch {
	if c.work[w] == nil {
		c.work[w] = new(scratch)
	}
	return c.work[w]
}

// whereKey hashes everything that a layer's Where depends on besides the canvas.
func whereKey(l *strata.Layer) uint64 {
	h := fnv.New64a()
	for _, t := range l.Targets {
		h.Write([]byte(t))
		h.Write([]byte{0})
	}
	for i := range l.Where {
		k := l.Where[i]
		k.ID = ""
		b, _ := json.Marshal(k)
		h.Write(b)
	}
	return h.Sum64()
}

// clause is a clause resolved against its kind and join.
type clause struct {
	kind   *field.Kind
	mix    func(a, v float32) float32
	join   string
	values []float64
	pick   []bool
	shape  pixel.Shape
}

func (c *Canvas) resolve(cl *strata.Clause) (clause, error) {
	k, err := field.KindOf(cl.Kind)
	if err != nil {
		return clause{}, err
	}
	j, err := strata.JoinOf(cl.Join)
	if err != nil {
		return clause{}, err
	}
	out := clause{kind: k, mix: j.Mix, join: j.Name, values: cl.Values(k), shape: cl.Shape}
	if k.Parts {
		out.pick = make([]bool, len(c.parts))
		for _, p := range cl.Parts {
			if i, ok := c.parts[p]; ok {
				out.pick[i] = true
			}
		}
	}
	return out, nil
}

// part of the input planes.
func (c *Canvas) block(from, to int) field.Block {
	b := &c.in
	part := func(v []float32) []float32 {
		if v == nil {
			return nil
		}
		return v[from:to]
	}
	return field.Block{X: b.X[from:to], Y: b.Y[from:to], Z: b.Z[from:to], NX: b.NX[from:to], NY: b.NY[from:to], NZ: b.NZ[from:to],
		AO: b.AO[from:to], Curve: b.Curve[from:to], Tight: part(b.Tight), Soft: part(b.Soft), Part: b.Part[from:to], Floor: b.Floor}
}

// run writes the joined clauses for a block into acc. The first clause stands alone; strength fades
// a clause towards having no say.
func run(cs []clause, b *field.Block, k *scratch, acc []float32) {
	for i := range acc {
		acc[i] = 1
	}
	v := k.field[:len(acc)]
	for i := range cs {
		cl := &cs[i]
		cl.kind.Fill(b, cl.values, cl.pick, v)
		cl.shape.Apply(v)
		s := cl.shape.Strength
		switch {
		case i == 0 || cl.join == "and":
			for j, x := range v {
				acc[j] *= 1 - s + s*x
			}
		default:
			for j, x := range v {
				acc[j] += (cl.mix(acc[j], x) - acc[j]) * s
			}
		}
	}
}

// Where evaluates a layer's finished Where, from the cache when it can.
func (c *Canvas) where(ctx context.Context, l *strata.Layer) (*where, error) {
	key := whereKey(l)
	if w := c.wheres.get(key); w != nil {
		return w, nil
	}
	cs := make([]clause, len(l.Where))
	for i := range l.Where {
		var err error
		if cs[i], err = c.resolve(&l.Where[i]); err != nil {
			return nil, fmt.Errorf("layer “%s”: %w", l.Name, err)
		}
	}
	n, aim := c.Len(), c.target(l)
	w := &where{v: make([]uint16, n), blocks: make([]bool, (n+blockSize-1)/blockSize)}
	var shown atomic.Int64
	err := par.Blocks(ctx, n, blockSize, func(worker, from, to int) {
		k := c.scratch(worker)
		acc := k.acc[:to-from]
		b := c.block(from, to)
		run(cs, &b, k, acc)
		aim.keep(from, acc)
		some := int64(0)
		any := uint16(0)
		for i, v := range acc {
			q := pixel.Q16(v)
			w.v[from+i] = q
			any |= q
			if q >= coverageStep {
				some++
			}
		}
		w.blocks[from/blockSize] = any != 0
		shown.Add(some)
	})
	if err != nil {
		return nil, err
	}
	w.covered = float64(shown.Load()) / float64(max(1, n))
	c.wheres.put(key, w)
	return w, nil
}

// coverageStep is 5 % in 16 bits: from there on a layer counts as showing.
const coverageStep = 3277

// Coverage is the share of the set's texels where the layer's Where is 5 % or more, and the share that
// the layer may touch at all.
func (c *Canvas) Coverage(ctx context.Context, l *strata.Layer) (covered, targeted float64, err error) {
	if targeted = c.target(l).share; targeted == 0 {
		return 0, 0, nil
	}
	w, err := c.where(ctx, l)
	if err != nil {
		return 0, 0, err
	}
	return w.covered, targeted, nil
}

// Field writes one clause's shaped field, or the joined Where when clauseID is empty, for every
// covered texel.
func (c *Canvas) Field(ctx context.Context, l *strata.Layer, clauseID string) ([]float32, error) {
	out := make([]float32, c.Len())
	var cs []clause
	for i := range l.Where {
		if clauseID != "" && l.Where[i].ID != clauseID {
			continue
		}
		k, err := c.resolve(&l.Where[i])
		if err != nil {
			return nil, err
		}
		cs = append(cs, k)
	}
	aim := c.target(l)
	if aim.share == 0 {
		return out, nil
	}
	err := par.Blocks(ctx, c.Len(), blockSize, func(worker, from, to int) {
		b := c.block(from, to)
		run(cs, &b, c.scratch(worker), out[from:to])
		aim.keep(from, out[from:to])
	})
	return out, err
}

// The bare surface under the lowest layer: mid grey, fairly rough, not metal.
const (
	bareColour    = 0.55
	bareRoughness = 0.7
)

// lay is a layer resolved for blending.
type lay struct {
	where   *where
	opacity float32
	on      []value
}

type value struct {
	planes [][]float32
	own    []float32
	blend  pixel.Blend
	alpha  float32
	full   bool // sums end at 1
}

// Evaluate computes all channels of the document on this canvas. The result is valid until the
// next call.
func (c *Canvas) Evaluate(ctx context.Context, d *strata.Document) (*Channels, error) {
	mark := c.wheres.clock
	var lays []lay
	relief := false
	for i := range d.Layers {
		l := &d.Layers[i]
		if l.Hidden || l.Opacity == 0 || !c.Touches(l) {
			continue
		}
		w, err := c.where(ctx, l)
		if err != nil {
			return nil, err
		}
		on, err := c.values(l)
		if err != nil {
			return nil, err
		}
		relief = relief || l.What.Height.On
		lays = append(lays, lay{w, l.Opacity, on})
	}
	c.wheres.trim(mark)
	err := par.Blocks(ctx, c.Len(), blockSize, func(worker, from, to int) {
		c.blend(lays, from, to, c.scratch(worker))
	})
	if err != nil {
		return nil, err
	}
	return &c.ch, c.normals(ctx, relief)
}

func (c *Canvas) values(l *strata.Layer) (out []value, err error) {
	for i, ch := range strata.Channels {
		v := ch.Of(&l.What)
		if !v.On || v.Opacity == 0 {
			continue
		}
		b, err := pixel.BlendOf(v.Blend)
		if err != nil {
			return nil, err
		}
		// W3C, Compositing and Blending Level 1, plus-lighter: Co = min(1, αs·Cs + αb·Cb). Later modes need
		// what is in range; height alone has no end.
		k := value{blend: b, alpha: v.Opacity, full: b.Name == "add" && ch.Name != "height"}
		switch i {
		case 0:
			rgb, err := strata.ParseHex(v.Hex)
			if err != nil {
				return nil, err
			}
			k.planes, k.own = c.ch.Base[:], rgb[:]
		case 1:
			k.planes, k.own = [][]float32{c.ch.Roughness}, []float32{v.Number}
		case 2:
			k.planes, k.own = [][]float32{c.ch.Metallic}, []float32{v.Number}
		case 3:
			k.planes, k.own = [][]float32{c.ch.Height}, []float32{v.Number / 1000}
		}
		out = append(out, k)
	}
	return out, nil
}

func (c *Canvas) blend(lays []lay, from, to int, k *scratch) {
	for p := range 3 {
		fill(c.ch.Base[p][from:to], bareColour)
	}
	fill(c.ch.Roughness[from:to], bareRoughness)
	fill(c.ch.Metallic[from:to], 0)
	fill(c.ch.Height[from:to], 0)
	shown, alpha := k.alpha[:to-from], k.own[:to-from]
	for i := range lays {
		l := &lays[i]
		if !l.where.blocks[from/blockSize] {
			continue
		}
		scale := l.opacity / 65535
		for j, q := range l.where.v[from:to] {
			shown[j] = float32(q) * scale
		}
		for _, v := range l.on {
			a := shown
			if v.alpha != 1 {
				for j, s := range shown {
					alpha[j] = s * v.alpha
				}
				a = alpha
			}
			for p, plane := range v.planes {
				v.blend.Lay(plane[from:to], v.own[p], a)
				if v.full {
					endAtOne(plane[from:to])
				}
			}
		}
	}
}

func endAtOne(v []float32) {
	for i, x := range v {
		v[i] = min(x, 1)
	}
}

func fill(v []float32, x float32) {
	for i := range v {
		v[i] = x
	}
}

// normals lays the slopes of the height over the baked normal by reoriented mapping
// (Barré-Brisebois & Hill, Blending in Detail, 2012).
func (c *Canvas) normals(ctx context.Context, relief bool) error {
	if !relief {
		for p := range 3 {
			copy(c.ch.Normal[p], c.baseN[p])
		}
		return nil
	}
	s := c.Surf
	half := float32(s.Size) / 2
	return par.Blocks(ctx, c.Len(), blockSize, func(_, from, to int) {
		for i := from; i < to; i++ {
			at := int(s.Texel[i])
			x, y := at%s.Size, at/s.Size
			h := c.ch.Height[i]
			left, right := c.near(x-1, y, i), c.near(x+1, y, i)
			up, down := c.near(x, y-1, i), c.near(x, y+1, i)
			du := across(c.ch.Height, left, i, right, h) * half
			dv := across(c.ch.Height, down, i, up, h) * half
			if du == 0 && dv == 0 {
				c.ch.Normal[0][i], c.ch.Normal[1][i], c.ch.Normal[2][i] = c.baseN[0][i], c.baseN[1][i], c.baseN[2][i]
				continue
			}
			k := &c.slope[c.slopeOf[i]]
			dx, dy := -(k.tu * du), -(k.bu*du + k.bv*dv)
			n := Reorient([3]float32{c.baseN[0][i], c.baseN[1][i], c.baseN[2][i]}, unit(dx, dy, 1))
			c.ch.Normal[0][i], c.ch.Normal[1][i], c.ch.Normal[2][i] = n[0], n[1], n[2]
		}
	})
}

// near returns the packed index of the texel at (x, y) when it is covered, else i.
func (c *Canvas) near(x, y, i int) int {
	s := c.Surf
	if x < 0 || y < 0 || x >= s.Size || y >= s.Size {
		return i
	}
	at := y*s.Size + x
	j := int(s.Nearest[at])
	if int(s.Texel[j]) != at {
		return i
	}
	return j
}

// across is the difference over two texels; at an island's rim one side counts twice.
func across(v []float32, a, i, b int, mid float32) float32 {
	switch {
	case a == i && b == i:
		return 0
	case a == i:
		return 2 * (v[b] - mid)
	case b == i:
		return 2 * (mid - v[a])
	}
	return v[b] - v[a]
}

// Reorient lays the detail normal over the base normal; flat on either side changes nothing.
func Reorient(base, detail [3]float32) [3]float32 {
	t := [3]float32{base[0], base[1], base[2] + 1}
	u := [3]float32{-detail[0], -detail[1], detail[2]}
	d := (t[0]*u[0] + t[1]*u[1] + t[2]*u[2]) / t[2]
	return unit(t[0]*d-u[0], t[1]*d-u[1], t[2]*d-u[2])
}
