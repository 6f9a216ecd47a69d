package bake

import (
	"math/bits"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
	"crust/internal/core/surface"
)

// What a part's occlusion rays may meet.
const (
	SeesAll    = "everything"
	SeesPaired = "paired" // the parts that have a partner of their name, when there is a high-poly
	SeesOwn    = "own"    // its own part alone
)

// SeesChoices lists them in the order in which they are offered.
var SeesChoices = []string{SeesAll, SeesPaired, SeesOwn}

// of is the hierarchy that the rays of a part are cast in, built when it is first asked for.
func (s *Source) of(part int32) *accel.BVH {
	key := int32(-1)
	switch s.Settings.Sees {
	case SeesOwn:
		key = part
	case SeesPaired:
		if s.High == nil {
			return s.bvh
		}
		key = -2
	default:
		return s.bvh
	}
	s.partLock.Lock()
	defer s.partLock.Unlock()
	if b := s.byPart[key]; b != nil {
		return b
	}
	seen := s.seen()
	paired := make([]bool, len(seen.Parts))
	for _, p := range s.pair {
		if p >= 0 {
			paired[p] = true
		}
	}
	var tris [][3]uint32
	for t, p := range seen.Part {
		if key >= 0 && p == key || key == -2 && paired[p] {
			tris = append(tris, seen.Tris[t])
		}
	}
	b := accel.Build(accel.Mesh{Positions: seen.Positions, Tris: tris})
	if s.byPart == nil {
		s.byPart = map[int32]*accel.BVH{}
	}
	s.byPart[key] = b
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

// occlusion writes the share of cosine-weighted rays that see open air.
func (s *Source) occlusion(pts []point, texel []uint32, seed uint32, k *scratch) {
	far := unlimited
	if s.Settings.Far > 0 {
		far = float32(s.Settings.Far)
	}
	lift := 4 * s.bvh.Epsilon()
	for i := range pts {
		pt := &pts[i]
		o, seed := pt.p.Add(pt.face.Mul(lift)), seed^texel[i]*0x9e3779b9
		if s.Settings.Sees == "" && !s.Settings.Ground {
			k.val[i] = k.rays.Visibility(o, pt.n, far, seed)
			continue
		}
		b := s.of(pt.part)
		k.rays.c.dirs.around(pt.n, seed, k.rays.dirs)
		hits, dirs := 0, k.rays.dirs
		for at := 0; at < len(dirs); at += accel.StreamSize {
			run := dirs[at:min(len(dirs), at+accel.StreamSize)]
			k.rays.stream.Set(run)
			mask := b.Occluded(o, far, &k.rays.stream)
			if s.Settings.Ground {
				mask |= ground(o, run, s.box.Min.Y, far)
			}
			hits += bits.OnesCount64(mask)
		}
		k.val[i] = 1 - float32(hits)/float32(len(dirs))
	}
}

// thicknessRays is the share of the occlusion rays that thickness takes: its values vary less.
const thicknessRays = 4

// thickness writes how far cosine-weighted rays go inwards before they leave the body, as a share of the
// limit Deep; rays that do not leave count as the limit. In a slab the mean is twice its thickness, in a
// ball 4/3 of its radius.
func (s *Source) thickness(pts []point, texel []uint32, seed uint32, k *scratch) {
	deep := float32(s.Settings.Deep)
	lift := 4 * s.bvh.Epsilon()
	for i := range pts {
		pt := &pts[i]
		o := pt.base.Sub(pt.face.Mul(lift))
		k.inner.c.dirs.around(pt.n.Neg(), seed^hash(texel[i]), k.inner.dirs)
		sum := float32(0)
		for _, d := range k.inner.dirs {
			if hit, ok := s.bvh.FirstHit(o, d, deep, &k.inner.stream); ok {
				sum += hit.T
			} else {
				sum += deep
			}
		}
		k.val[i] = sum / (deep * float32(len(k.inner.dirs)))
	}
}

// height is the signed distance from the low-poly to the high-poly along the cage's direction, 0.5 for
// none, over ± the map's range.
func (s *Source) height(surf *surface.Surface, j int, pt *point) float32 {
	if s.High == nil || pt.miss {
		return 0.5
	}
	t := surf.Tri[j]
	i := s.Low.Tris[t]
	dir := geom.Bary(s.cage[i[0]], s.cage[i[1]], s.cage[i[2]], surf.U[j], surf.V[j]).Norm()
	return 0.5 + pt.p.Sub(surf.Position(j)).Dot(dir)/(2*float32(s.heightRange()))
}

// heightRange is how far height reaches each way, in metres.
func (s *Source) heightRange() float64 { return max(s.Settings.Front, s.Settings.Rear) }
