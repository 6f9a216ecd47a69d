package brush

import (
	"math/rand/v2"
	"testing"

	"crust/internal/core/geom"
)

// The vector kernel of a moving ball gives what the plain one does: wide balls and such as are thinner than a texel, hard and soft,
// still and moving, over walls that face away and over what was laid down before.
func TestVectorSweepsAgreeWithThePlainOnes(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	about := func(wide float32) geom.Vec3 {
		return geom.Vec3{X: (r.Float32() - 0.5) * wide, Y: (r.Float32() - 0.5) * wide, Z: (r.Float32() - 0.5) * wide}
	}
	const n = 203
	laid := 0
	for range 400 {
		p := &Places{Pitch: 0.01}
		was := make([]float32, n)
		for i := range n {
			at, normal := about(0.15), about(1).Norm()
			p.X, p.Y, p.Z = append(p.X, at.X), append(p.Y, at.Y), append(p.Z, at.Z)
			p.NX, p.NY, p.NZ = append(p.NX, normal.X), append(p.NY, normal.Y), append(p.NZ, normal.Z)
			was[i] = max(0, r.Float32()-0.6)
		}
		m := &mark{at: about(0.1), n: about(1).Norm(), dn: about(0.4), r: 0.15 * r.Float32() * r.Float32(), hard: r.Float32(), flow: r.Float32()}
		if r.IntN(3) > 0 {
			m.way, m.dr, m.dhard, m.dflow = about(0.2), -m.r*r.Float32(), -m.hard*r.Float32(), -m.flow*r.Float32()
		}
		got, want := append([]float32(nil), was...), append([]float32(nil), was...)
		m.sweep(p, 0, n, got)
		inv := float32(0)
		if long := m.way.Dot(m.way); long > 0 {
			inv = 1 / long
		}
		m.sweepPlain(p, 0, n, inv, want)
		for i := range want {
			if d := got[i] - want[i]; d > 2e-4 || d < -2e-4 || got[i] != got[i] {
				t.Fatalf("%+v at place %d: %g, want %g", m, i, got[i], want[i])
			}
			if want[i] != was[i] {
				laid++
			}
		}
	}
	if laid < 2000 {
		t.Errorf("something was laid down at %d places only", laid)
	}
}
