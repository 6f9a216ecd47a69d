package still

import (
	"math"

	"crust/internal/core/geom"
)

// Turned is the tracer with the model turned by an angle in radians about an upright axis through where the camera looks: the eye and all
// lights go round it instead, so that the scene serves for all pictures of a turntable.
func (t *Tracer) Turned(angle float64) *Tracer {
	if angle == 0 {
		return t
	}
	sin, cos := math.Sincos(-angle)
	way := func(v geom.Vec3) geom.Vec3 {
		return geom.Vec3{X: float32(cos)*v.X + float32(sin)*v.Z, Y: v.Y, Z: float32(cos)*v.Z - float32(sin)*v.X}
	}
	axis := t.cam.At
	place := func(p geom.Vec3) geom.Vec3 { return axis.Add(way(p.Sub(axis))) }
	out := &Tracer{scene: t.scene, of: t.of, set: t.set, cam: t.cam, below: t.below, bare: t.bare, wide: t.wide, most: t.most}
	out.cam.Eye = place(t.cam.Eye)
	for i := range t.frame {
		out.frame[i] = way(t.frame[i])
	}
	if t.of.Sky != nil {
		out.of.Sky = t.of.Sky.Turned(-angle)
	}
	for _, l := range t.lamps {
		l.at, l.way, l.right, l.up = place(l.at), way(l.way), way(l.right), way(l.up)
		out.lamps = append(out.lamps, l)
	}
	return out
}
