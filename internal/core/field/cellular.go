package field

// Points are strewn through space, one at random in each cell of a lattice (Worley, A Cellular Texture Basis Function, 1996).
// Cells are looked at one to each side, so that a nearest point that lies further off than a cell's size may be missed; with
// one point a cell that is rare, and the distance is then too long, never too short.

// strew is what cellular noise finds for some places: how far the nearest two points lie, in cells, and a hash of the nearest.
type strew struct {
	first, second []float32
	mark          []uint32
}

// cellHash stirs a cell's hash until all of its bits may be used.
func cellHash(h uint32) uint32 {
	h *= hashM
	h ^= h >> 15
	h *= hashM
	return h ^ h>>13
}

// share is 0–1 from ten bits of a hash.
func share(h uint32, from uint) float32 { return float32(h>>from&1023) * (1. / 1024) }

// near fills s for places in cells of 1/freq.
func (s *strew) near(x, y, z []float32, freq float32, seed uint32) {
	for i := s.nearRun(x, y, z, freq, seed); i < len(x); i++ {
		s.nearPlain(i, x[i]*freq, y[i]*freq, z[i]*freq, seed)
	}
}

func (s *strew) nearPlain(i int, x, y, z float32, seed uint32) {
	fx, fy, fz := floor(x), floor(y), floor(z)
	x, y, z = x-fx, y-fy, z-fz
	first, second, mark := float32(8), float32(8), uint32(0)
	for dx := int32(-1); dx <= 1; dx++ {
		hx := uint32(int32(fx)+dx) * hashX
		for dy := int32(-1); dy <= 1; dy++ {
			hy := hx ^ uint32(int32(fy)+dy)*hashY
			for dz := int32(-1); dz <= 1; dz++ {
				h := cellHash(hy ^ uint32(int32(fz)+dz)*hashZ ^ seed)
				qx := float32(dx) + share(h, 22) - x
				qy := float32(dy) + share(h, 12) - y
				qz := float32(dz) + share(h, 2) - z
				d := qx*qx + qy*qy + qz*qz
				if d < first {
					first, second, mark = d, first, h
				} else if d < second {
					second = d
				}
			}
		}
	}
	s.first[i], s.second[i], s.mark[i] = sqrt(first), sqrt(second), mark
}
