package still

import "crust/internal/core/geom"

// Tone brings light into what a screen shows, 0–1 linear: Khronos PBR Neutral, which leaves base colours up to 0.8 as they are and bends
// what is brighter (Khronos Group, PBR Neutral Tone Mapper specification, 2024).
func Tone(c geom.Vec3) geom.Vec3 {
	const start, desaturation = 0.8 - 0.04, 0.15
	x := min(c.X, c.Y, c.Z)
	off := float32(0.04)
	if x < 0.08 {
		off = x - 6.25*x*x
	}
	c = c.Sub(geom.Vec3{X: off, Y: off, Z: off})
	peak := max(c.X, c.Y, c.Z)
	if peak < start {
		return c
	}
	const d = 1 - start
	top := 1 - d*d/(peak+d-start)
	c = c.Mul(top / peak)
	g := 1 - 1/(desaturation*(peak-top)+1)
	return c.Lerp(geom.Vec3{X: top, Y: top, Z: top}, g)
}
