package compose

import (
	"math"

	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/strata"
)

// leastZ bounds how steep a normal of a layer can be: some 87°.
const leastZ = 0.05

// lean reads a normal map on a tile of a canvas. What it leans towards turns with how it is laid: right and up of the picture
// become directions on the model, and these parts along tangent and bitangent. Where box planes meet, slopes are mixed
// (Mikkelsen, Surface Gradient–Based Bump Mapping Framework, JCGT 9, 2020).
func (s *source) lean(k *scratch, g *ground, t int, out [][]float32) {
	g.widen(k, t, field.NeedPlace|field.NeedNormal)
	b, l, p := &k.block, &s.lay, s.pic
	lod := p.Level(g.pitch * l.perMetre)
	var squares [2][]float32
	if l.by == strata.ByUV {
		squares = g.laid(k, t, l.channel)
		if set := g.setAt(t, 0); set >= 0 {
			lod = l.levelOn(p, g, set)
		}
	}
	var shares [3][]float32
	if l.by == strata.ByBox {
		for from := range shares {
			shares[from] = k.lie[2+from][:len(out[0])]
		}
		boxed(b.NX, b.NY, b.NZ, l.rim, &shares)
	}
	up := float32(1)
	if s.of == strata.NormalOf[1] {
		up = -1
	}
	read := func(x, y float32) (right, down float32) {
		var v [4]float32
		p.Read(x, y, lod, &v)
		nx, ny := level8(v[0]), up*level8(v[min(1, p.Channels-1)])
		nz := float32(math.Sqrt(float64(max(leastZ*leastZ, 1-nx*nx-ny*ny))))
		return l.turned(nx/nz, -ny/nz)
	}
	g.each(t, func(from, to int, tri int32) {
		pu, pv := along(g.body.model, tri)
		tan := pu.Norm()
		bit := pv.Sub(tan.Mul(pv.Dot(tan))).Norm()
		// Of another channel the frame is its own.
		var right, above geom.Vec3
		uvs := g.body.channelOf(l.channel)
		if l.by == strata.ByUV && uvs != nil {
			qu, qv := alongUVs(g.body.model, uvs, tri)
			right = qu.Norm()
			above = qv.Sub(right.Mul(qv.Dot(right))).Norm()
		}
		for i := from; i < to; i++ {
			var sx, sy float32
			at := geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]}
			lie := func(from int, side, share float32) {
				right, down := read(l.plane(from, at, side))
				on := planeAxes(from, side)
				way := on[0].Mul(right * share).Add(on[1].Mul(down * share))
				sx, sy = sx+way.Dot(tan), sy+way.Dot(bit)
			}
			switch {
			case l.whole != nil:
				right, down := read(l.whole.at(g.body.piece, at))
				way := g.body.piece.U.Norm().Mul(right).Sub(g.body.piece.V.Norm().Mul(down))
				sx, sy = way.Dot(tan), way.Dot(bit)
			case l.by == strata.ByUV:
				x, y := l.onto((squares[0][i]-0.5)*l.repeats, (squares[1][i]-0.5)*l.repeats*l.tall)
				sx, sy = read(x+0.5, y+0.5)
				if sy = -sy; uvs != nil {
					way := right.Mul(sx).Add(above.Mul(sy))
					sx, sy = way.Dot(tan), way.Dot(bit)
				}
			case l.by == strata.ByPlane:
				lie(l.from, 1, 1)
			default:
				n := [3]float32{b.NY[i], b.NX[i], b.NZ[i]}
				for from := range shares {
					if share := shares[from][i]; share > 0 {
						lie(from, n[from], share)
					}
				}
			}
			n := unit(sx, sy, 1)
			out[0][i], out[1][i] = (n[0]*32767+32768)/65535, (n[1]*32767+32768)/65535
		}
	})
}

// level8 is a component of a normal from its encoded value. Pictures of 8 bits have no middle: 127 and 128 are both level.
func level8(v float32) float32 {
	n := 2*v - 1
	if n > -1.01/255 && n < 1.01/255 {
		return 0
	}
	return n
}

// turned turns a direction of the picture, to the right and down, to one of the plane that it is laid on.
func (l *laying) turned(right, down float32) (u, v float32) {
	u, v = right*l.cos-down*l.sin, right*l.sin+down*l.cos
	if l.mirror {
		u = -u
	}
	return u, v
}

// planeAxes are the directions to the right and down on a plane, see laying.plane.
func planeAxes(from int, side float32) [2]geom.Vec3 {
	sign := float32(1)
	if side < 0 {
		sign = -1
	}
	switch from {
	case 0:
		return [2]geom.Vec3{{X: 1}, {Z: sign}}
	case 1:
		return [2]geom.Vec3{{Z: -sign}, {Y: -1}}
	}
	return [2]geom.Vec3{{X: sign}, {Y: -1}}
}

// bends turns normals, as sources give them, to slopes.
func bends(x, y []float32, p, q []uint16, strength float32) {
	for i := range x {
		nx, ny := (float32(p[i])-32768)/32767, (float32(q[i])-32768)/32767
		z := float32(math.Sqrt(float64(max(leastZ*leastZ, 1-nx*nx-ny*ny))))
		x[i], y[i] = nx/z*strength, ny/z*strength
	}
}
