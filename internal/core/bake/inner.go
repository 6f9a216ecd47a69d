package bake

import (
	"math/bits"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
	"crust/internal/core/sobol"
)

// What a part's occlusion rays may meet.
const (
	SeesAll    = "everything"
	SeesPaired = "paired" // the parts that have a partner of their name, when there is a high-poly
	SeesOwn    = "own"    // its own part alone
)

// SeesChoices lists them in the order in which they are offered.
var SeesChoices = []string{SeesAll, SeesPaired, SeesOwn}

// of is the hierarchy that the rays of a pair of parts are cast in, built when it is first asked for.
func (s *Source) of(pair int32) *accel.BVH {
	key := int32(-1)
	switch s.Settings.Sees {
	case SeesOwn:
		key = pair
	case SeesPaired:
		if s.High == nil {
			return s.bvh
		}
		key = -2
	default:
		return s.bvh
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	if b := s.byPair[key]; b != nil {
		return b
	}
	seen, of := s.seen(), s.pairs.low
	if s.High != nil {
		of = s.pairs.high
	}
	var tris [][3]uint32
	for t, p := range seen.Part {
		if key >= 0 && of[p] == key || key == -2 && s.pairs.whole[of[p]] {
			tris = append(tris, seen.Tris[t])
		}
	}
	b := accel.Build(accel.Mesh{Positions: seen.Positions, Tris: tris})
	s.byPair[key] = b
	return b
}

// ground is a bit for each ray of a stream that falls on the floor under the model within far.
func ground(o geom.Vec3, dirs []geom.Vec3, floor, far float32) (mask uint64) {
	for i, d := range dirs {
		if d.Y < 0 && (o.Y-floor) <= -d.Y*far {
			mask |= 1 << i
		}
	}
	return mask
}

// settled tells whether a texel's occlusion is known as well as it will ever be asked for: its variance is a
// fraction of what a half-open texel has left when all rays are cast. (hits + 1) / (n + 2) is the mean of what the
// share may be after so many (Laplace's rule of succession).
func settled(n, hits, all int) bool {
	if n < max(16, all/8) {
		return false
	}
	p := (float64(hits) + 1) / (float64(n) + 2)
	return p*(1-p)/float64(n) <= settledShare/float64(all)
}

const settledShare = 0.1

// fillOcclusion adds the cosine-weighted rays of one sample, those that see open air and how many there were.
// Texels that are settled stop early.
func fillOcclusion(k *block) {
	s, b := k.b.s, k.b
	far := unlimited
	if s.Settings.Far > 0 {
		far = float32(s.Settings.Far)
	}
	lift := 4 * s.bvh.Epsilon()
	all := k.outer.c.dirs.rays
	cast := int64(0)
	for i := range k.pts {
		if k.skip[i] {
			continue
		}
		pt, at := &k.pts[i], k.surf.Texel[k.from+i]
		j := int(at) - k.l.base
		n := int(k.l.rays[j])
		hits := n - int(k.l.sum[j]+0.5)
		o, bvh := pt.p.Add(pt.face.Mul(lift)), s.of(pt.pair)
		seed, end := b.seed^at*0x9e3779b9, (k.spot+1)*b.perOuter
		for from := k.spot * b.perOuter; from < end; from += accel.StreamSize {
			if n > 0 && settled(n, hits, all) {
				break
			}
			run := k.outer.dirs[:min(end-from, accel.StreamSize)]
			b.outer.dirs.around(pt.n, seed, from, run)
			k.outer.stream.SetAround(run, pt.n)
			mask := bvh.Occluded(o, far, &k.outer.stream)
			if s.Settings.Ground {
				mask |= ground(o, run, s.box.Min.Y, far)
			}
			hits += bits.OnesCount64(mask)
			n += len(run)
			cast += int64(len(run))
		}
		k.l.rays[j], k.l.sum[j] = uint16(n), float32(n-hits)
	}
	k.l.total.Add(cast)
}

// innerRays is how many rays thickness takes of a texel: its values vary less than those of occlusion.
func (s *Source) innerRays() int { return max(4, min(256, s.Settings.Rays/4)) }

// fillThickness adds how far cosine-weighted rays go inwards before they leave the body, as a share of the
// limit Deep; rays that do not leave count as the limit. In a slab the mean is twice its thickness, in a
// ball 4/3 of its radius.
func fillThickness(k *block) {
	s, b := k.b.s, k.b
	deep := float32(s.Settings.Deep)
	lift := 4 * s.bvh.Epsilon()
	cast := int64(0)
	for i := range k.pts {
		if k.skip[i] {
			continue
		}
		pt, at := &k.pts[i], k.surf.Texel[k.from+i]
		o := pt.base.Sub(pt.face.Mul(lift))
		sum := float32(0)
		seed, end := b.seed^sobol.Hash(at), (k.spot+1)*b.perInner
		for from := k.spot * b.perInner; from < end; from += accel.StreamSize {
			run := k.inner.dirs[:min(end-from, accel.StreamSize)]
			b.inner.dirs.around(pt.n.Neg(), seed, from, run)
			k.inner.stream.Set(run)
			s.bvh.Distances(o, deep, &k.inner.stream, k.inner.far[:len(run)])
			for _, t := range k.inner.far[:len(run)] {
				sum += t
			}
		}
		k.l.sum[int(at)-k.l.base] += sum / deep
		k.l.rays[int(at)-k.l.base] += uint16(b.perInner)
		cast += int64(b.perInner)
	}
	k.l.total.Add(cast)
}

// fillHeight adds the signed distance from the low-poly to the high-poly along the cage's direction, 0.5 for
// none, over ± the map's range.
func fillHeight(k *block) {
	s := k.b.s
	span := 2 * float32(s.heightRange())
	for i := range k.pts {
		v, j := float32(0.5), k.from+i
		if pt := &k.pts[i]; s.High != nil && !pt.miss {
			dir := s.outward(int(k.surf.Tri[j]), k.surf.U[j], k.surf.V[j])
			v += pt.base.Sub(k.surf.Position(j)).Dot(dir) / span
		}
		k.one(i, v)
	}
}

// heightRange is how far height reaches each way, in metres: as far as any part looks for its high-poly.
func (s *Source) heightRange() float64 {
	most := float64(s.box.Diagonal()) * reachLeast
	for _, r := range s.reach {
		most = max(most, r.Front, r.Rear)
	}
	return most
}
