package bake

import (
	"context"
	"math"
	"slices"
	"strings"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/sobol"
)

// DefaultEndings tell the low-poly parts from the high-poly ones (common practice).
var DefaultEndings = []string{"_high", "_low", "_hp", "_lp", ".high", ".low", "-high", "-low", " high", " low"}

// partName drops the first of the endings that a part's name has; case does not matter.
func partName(n string, endings []string) string {
	n = strings.ToLower(strings.TrimSpace(n))
	for _, end := range endings {
		if end = strings.ToLower(end); end != "" && len(n) > len(end) && strings.HasSuffix(n, end) {
			return strings.TrimSuffix(n, end)
		}
	}
	return n
}

// pairs numbers the low-poly parts and their high-poly partners: parts of one number belong together, by name
// or because they were cut from one surface.
type pairs struct {
	low, high []int32 // number by part
	whole     []bool  // by number: it has parts on both sides
}

func newPairs(low, high *mesh.Model, endings []string, lowJoin, highJoin []int32) *pairs {
	if endings == nil {
		endings = DefaultEndings
	}
	p := &pairs{low: make([]int32, len(low.Parts))}
	if high == nil {
		p.low = slices.Clone(lowJoin)
		p.whole = make([]bool, len(low.Parts))
		return p
	}
	p.high = make([]int32, len(high.Parts))
	at := map[string]int32{}
	number := func(name string) int32 {
		name = partName(name, endings)
		i, ok := at[name]
		if !ok {
			i = int32(len(at))
			at[name] = i
		}
		return i
	}
	for i, n := range low.Parts {
		p.low[i] = number(n)
	}
	for i, n := range high.Parts {
		p.high[i] = number(n)
	}
	set := geom.NewGroups(len(at))
	for i, j := range lowJoin {
		set.Join(p.low[i], p.low[j])
	}
	for i, j := range highJoin {
		set.Join(p.high[i], p.high[j])
	}
	var onLow, onHigh = make([]bool, len(at)), make([]bool, len(at))
	for i := range p.low {
		p.low[i] = set.Of(p.low[i])
		onLow[p.low[i]] = true
	}
	for i := range p.high {
		p.high[i] = set.Of(p.high[i])
		onHigh[p.high[i]] = true
	}
	p.whole = make([]bool, len(at))
	for i := range p.whole {
		p.whole[i] = onLow[i] && onHigh[i]
	}
	return p
}

// fit tells whether a pair's low-poly may take from a high-poly part.
func (p *pairs) fit(pair, highPart int32) bool { return !p.whole[pair] || p.high[highPart] == pair }

// joinCos is the cosine of the angle up to which two parts that meet at an edge pass for one cut surface.
const joinCos = 0.64 // 50°

// joined finds the parts that were cut from one surface: they meet along open edges, and go on there without a
// crease. It returns the vertex normals, averaged across such cuts, and for each part the lowest one that it
// is joined with.
func joined(m *mesh.Model) (normals []geom.Vec3, parts []int32) {
	normals = m.Normals
	group := geom.NewGroups(len(m.Parts))
	if len(m.Parts) < 2 {
		return normals, group
	}
	weld := m.Weld()
	e := m.Edges(weld, nil)
	same := geom.NewGroups(len(m.Positions)) // vertices on the two sides of a cut
	cut := false
	for i, first := range e.First {
		if e.Count[i] != 2 {
			continue
		}
		s, o := first, e.Next[first]
		if m.Part[s/3] == m.Part[o/3] {
			continue
		}
		a, b := m.Tris[s/3][s%3], m.Tris[s/3][(s%3+1)%3]
		c, d := m.Tris[o/3][o%3], m.Tris[o/3][(o%3+1)%3]
		if weld[a] != weld[d] || m.Normals[a].Dot(m.Normals[d]) < joinCos || m.Normals[b].Dot(m.Normals[c]) < joinCos {
			continue
		}
		cut = true
		group.Join(m.Part[s/3], m.Part[o/3])
		same.Join(int32(a), int32(d))
		same.Join(int32(b), int32(c))
	}
	if cut {
		normals = across(m, weld, same)
	}
	for i := range group {
		group[i] = group.Of(int32(i))
	}
	return normals, group
}

// across averages the normals of vertices that are one in same, weighted by the angles of their corners.
func across(m *mesh.Model, weld []uint32, same geom.Groups) []geom.Vec3 {
	// Other vertices of the same place, part and normal, as UV seams make them, go with the one at the cut.
	type key struct {
		at   uint32
		part int32
		n    geom.Vec3
	}
	touched := map[uint32]bool{}
	for i := range same {
		if same[i] != int32(i) {
			touched[weld[i]] = true
		}
	}
	part := make([]int32, len(m.Positions))
	for t, k := range m.Tris {
		for _, v := range k {
			part[v] = m.Part[t]
		}
	}
	first := map[key]int32{}
	for i := range m.Positions {
		if !touched[weld[i]] {
			continue
		}
		k := key{weld[i], part[i], m.Normals[i]}
		if j, ok := first[k]; ok {
			same.Join(int32(i), j)
		} else {
			first[k] = int32(i)
		}
	}
	sum := map[int32]geom.Vec3{}
	for _, k := range m.Tris {
		for c, v := range k {
			if !touched[weld[v]] {
				continue
			}
			p, q, r := m.Positions[v], m.Positions[k[(c+1)%3]], m.Positions[k[(c+2)%3]]
			x, y := q.Sub(p).Norm(), r.Sub(p).Norm()
			angle := float32(math.Atan2(float64(x.Cross(y).Len()), float64(x.Dot(y))))
			g := same.Of(int32(v))
			sum[g] = sum[g].Add(m.Normals[v].Mul(angle))
		}
	}
	out := slices.Clone(m.Normals)
	for i := range out {
		if touched[weld[i]] {
			if n := sum[same.Of(int32(i))].Norm(); n != (geom.Vec3{}) {
				out[i] = n
			}
		}
	}
	return out
}

// Pairing tells how one low-poly part found its high-poly.
type Pairing struct {
	Part   string   `json:"part"`
	High   []string `json:"high"`   // names of the high-poly parts that it takes from; none means any that is near
	Joined []string `json:"joined"` // parts that were cut from the same surface
	Reach  Reach    `json:"reach"`  // in use
}

// Pairings lists the low-poly parts with their partners, and the high-poly parts that have none.
func (s *Source) Pairings() (out []Pairing, alone []string) {
	if s.High == nil {
		return nil, nil
	}
	for i, n := range s.Low.Parts {
		p := Pairing{Part: n, High: []string{}, Joined: []string{}, Reach: s.reach[i]}
		for j, h := range s.High.Parts {
			if s.pairs.high[j] == s.pairs.low[i] {
				p.High = append(p.High, h)
			}
		}
		for j, o := range s.Low.Parts {
			if j != i && s.pairs.low[j] == s.pairs.low[i] {
				p.Joined = append(p.Joined, o)
			}
		}
		out = append(out, p)
	}
	for j, h := range s.High.Parts {
		if !s.pairs.whole[s.pairs.high[j]] {
			alone = append(alone, h)
		}
	}
	return out, alone
}

// Unpaired lists the low-poly parts that found no high-poly part of their name.
func (s *Source) Unpaired() (out []string) {
	if s.High == nil {
		return nil
	}
	for i, p := range s.pairs.low {
		if !s.pairs.whole[p] {
			out = append(out, s.Low.Parts[i])
		}
	}
	return out
}

// How reach is suggested: from the distances of many points of the two surfaces.
const (
	reachPoints = 1200  // of each low-poly part
	reachTips   = 40000 // vertices of the high-poly
	reachLimit  = 0.03  // of the diagonal: what is farther off is something else
	reachRoom   = 1.2   // on top of what was seen
	reachLeast  = 0.0005
	reachStray  = 4
)

// measureReach sets the reach of every part: its own, the general one, or what the two shapes suggest.
func (s *Source) measureReach(ctx context.Context) error {
	diag := float64(s.box.Diagonal())
	limit := float32(diag * reachLimit)
	low, err := accel.BuildWithin(ctx, accel.Mesh{Positions: s.Low.Positions, Tris: s.Low.Tris})
	if err != nil {
		return err
	}
	byPart := make([][]int32, len(s.Low.Parts))
	for t, p := range s.Low.Part {
		byPart[p] = append(byPart[p], int32(t))
	}
	type span struct{ front, rear []float32 }
	spans := make([]span, len(s.Low.Parts))
	streams := make([]accel.Stream, par.Slots)
	// From the low-poly, both ways, to the nearer face of its pair.
	err = par.Blocks(ctx, len(byPart), 1, func(w, part, _ int) {
		tris := byPart[part]
		pair := s.pairs.low[part]
		for i := range min(reachPoints, 4*len(tris)) {
			t := int(tris[i*len(tris)/min(reachPoints, 4*len(tris))])
			h := sobol.Hash(uint32(i))
			u, v := float32(h>>16)/65536, float32(h&0xffff)/65536
			if u+v > 1 {
				u, v = 1-u, 1-v
			}
			a, b, c := s.Low.Corners(t)
			p, dir := geom.Bary(a, b, c, u, v), s.outward(t, u, v)
			up, isUp := s.nearest(pair, p, dir, dir, limit, &streams[w])
			down, isDown := s.nearest(pair, p, dir.Neg(), dir, limit, &streams[w])
			switch {
			case isUp && (!isDown || up < down):
				spans[part].front = append(spans[part].front, up)
			case isDown:
				spans[part].rear = append(spans[part].rear, down)
			}
		}
	})
	if err != nil {
		return err
	}
	// From the high-poly, whose rivets and ridges the first points may have missed.
	type tip struct {
		part int32
		d    float32 // above the low-poly
	}
	step := max(1, len(s.High.Tris)/reachTips)
	tips := make([]tip, (len(s.High.Tris)+step-1)/step)
	err = par.Blocks(ctx, len(tips), 256, func(w, from, to int) {
		for i := from; i < to; i++ {
			tips[i].part = -1
			t := s.High.Tris[i*step]
			p, n := s.High.Positions[t[0]], s.highNormal[t[0]]
			back := n.Mul(4 * low.Epsilon())
			up, isUp := low.FirstHit(p.Sub(back), n, limit, &streams[w])
			down, isDown := low.FirstHit(p.Add(back), n.Neg(), limit, &streams[w])
			at, d := down, down.T
			if isUp && (!isDown || up.T < down.T) {
				at, d = up, -up.T
			} else if !isDown {
				continue
			}
			part := s.Low.Part[at.Tri]
			if s.pairs.low[part] == s.pairs.high[s.High.Part[i*step]] && s.Low.FaceNormal(int(at.Tri)).Dot(n) > 0 {
				tips[i] = tip{part, d}
			}
		}
	})
	if err != nil {
		return err
	}
	for _, t := range tips {
		switch {
		case t.part < 0:
		case t.d > 0:
			spans[t.part].front = append(spans[t.part].front, t.d)
		default:
			spans[t.part].rear = append(spans[t.part].rear, -t.d)
		}
	}
	most := func(v []float32) float64 {
		if len(v) == 0 {
			return diag * reachLeast
		}
		slices.Sort(v)
		// A few that lie far beyond the rest have met something else.
		common := float64(v[len(v)*98/100])*reachStray + diag*reachLeast
		i := min(len(v)-1, len(v)*999/1000)
		for i > 0 && float64(v[i]) > common {
			i--
		}
		return max(diag*reachLeast, reachRoom*float64(v[i]))
	}
	s.reach = make([]Reach, len(s.Low.Parts))
	for i, n := range s.Low.Parts {
		r := s.Settings.Parts[n]
		r = Reach{first(r.Front, s.Settings.Front), first(r.Rear, s.Settings.Rear)}
		s.reach[i] = Reach{first(r.Front, most(spans[i].front)), first(r.Rear, most(spans[i].rear))}
	}
	return nil
}

func first(a, b float64) float64 {
	if a != 0 {
		return a
	}
	return b
}

// nearest is how far off the pair's high-poly lies in direction d, on a face that looks the same way as out.
func (s *Source) nearest(pair int32, p, d, out geom.Vec3, limit float32, stream *accel.Stream) (float32, bool) {
	eps := s.bvh.Epsilon()
	// It begins a little behind, so that a face on the spot is met.
	back := 4 * eps
	p, gone := p.Sub(d.Mul(back)), -back
	for range mostLayers {
		hit, ok := s.bvh.FirstHit(p, d, limit-gone, stream)
		if !ok {
			return 0, false
		}
		gone += hit.T
		if s.pairs.fit(pair, s.High.Part[hit.Tri]) && s.High.FaceNormal(int(hit.Tri)).Dot(out) > 0 {
			return max(0, gone), true
		}
		if gone += eps; gone >= limit {
			return 0, false
		}
		p = p.Add(d.Mul(hit.T + eps))
	}
	return 0, false
}

// ReachOf lists the reach of the low-poly's parts, in their order; nil without a high-poly.
func (s *Source) ReachOf() []Reach { return s.reach }

// Shell is the cage: the low-poly's vertices moved out to the front distance and in to the rear one.
func (s *Source) Shell() (front, rear []geom.Vec3) {
	front, rear = slices.Clone(s.Low.Positions), slices.Clone(s.Low.Positions)
	for t, k := range s.Low.Tris {
		r := s.reach[s.Low.Part[t]]
		for _, v := range k {
			p := s.Low.Positions[v]
			front[v], rear[v] = p.Add(s.cage[v].Mul(float32(r.Front))), p.Sub(s.cage[v].Mul(float32(r.Rear)))
		}
	}
	return front, rear
}
