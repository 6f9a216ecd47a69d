package still

import (
	"fmt"
	"math"
	"strings"

	"crust/internal/core/geom"
	"crust/internal/core/pixel"
)

// Channel is one of the surface's channels as a still shows it: what its texels hold, without light.
type Channel struct {
	Name        string `json:"name"`
	Label       string `json:"label"`
	colour      bool   // sRGB; the others are plain values
	value       func(at *texel) geom.Vec3
	scale, lift float32 // bring a value to 0–1 for the screen
}

func grey(v float32) geom.Vec3 { return geom.Vec3{X: v, Y: v, Z: v} }

// Channels lists them in the order in which they are offered. An EXR holds the values themselves: linear colours, metres of height, the
// letters of the normal from -1 to 1. On a screen the height is grey in the middle, black and white as far below and above as it goes.
var Channels = []Channel{
	{"base", "Base colour", true, func(at *texel) geom.Vec3 { return at.base }, 1, 0},
	{"roughness", "Roughness", false, func(at *texel) geom.Vec3 { return grey(at.rough) }, 1, 0},
	{"metallic", "Metallic", false, func(at *texel) geom.Vec3 { return grey(at.metal) }, 1, 0},
	{"normal", "Normal", false, func(at *texel) geom.Vec3 { return at.normal }, 0.5, 0.5},
	{"height", "Height", false, func(at *texel) geom.Vec3 { return grey(at.height) }, 0.5, 0.5},
	{"occlusion", "Occlusion", false, func(at *texel) geom.Vec3 { return grey(at.occlusion) }, 1, 0},
	{"emissive", "Emissive", true, func(at *texel) geom.Vec3 { return at.emissive }, 1, 0},
	{"opacity", "Opacity", false, func(at *texel) geom.Vec3 { return grey(at.opacity) }, 1, 0},
}

// ChannelOf finds a channel by its name; the empty name is the surface in its light, which is nil.
func ChannelOf(name string) (*Channel, error) {
	if name == "" {
		return nil, nil
	}
	var names []string
	for i := range Channels {
		if Channels[i].Name == name {
			return &Channels[i], nil
		}
		names = append(names, Channels[i].Name)
	}
	return nil, fmt.Errorf("“%s” is not a channel that stills show; use %s", name, strings.Join(names, ", "))
}

// flat is what a channel holds where a ray meets the model, and 1, or nothing and 0.
func (t *Tracer) flat(o, d geom.Vec3, s *sampler, k *walker) (geom.Vec3, float32) {
	chance := func() float32 { a, _ := s.two(); return a }
	if t.set.Show.Name == "opacity" {
		chance = nil // also what is cut away has an opacity
	}
	var m met
	if !t.scene.meet(o, d, math.MaxFloat32, true, k, chance, &m) {
		return geom.Vec3{}, 0
	}
	var x texel
	m.maps.read(m.uv, &x)
	m.maps.readRest(m.uv, &x)
	return t.set.Show.value(&x), 1
}

// highest is how far up or down the height goes anywhere, at least a tenth of a millimetre.
func (s *Scene) highest() float32 {
	most := float32(1e-4)
	for _, m := range s.maps {
		if m != nil {
			for _, h := range m.Height {
				most = max(most, h, -h)
			}
		}
	}
	return most
}

// screen is a pixel of a channel as a screen shows it, before it is encoded; alpha says how much of it the model covers, and most is what stands
// for 1.
func (c *Channel) screen(v geom.Vec3, alpha, most float32, back geom.Vec3, clear bool) (geom.Vec3, float32) {
	if alpha > 0 {
		v = v.Mul(1 / alpha)
	}
	v = v.Mul(c.scale / most).Add(grey(c.lift))
	if clear {
		return v, alpha
	}
	if back = Tone(back); !c.colour {
		back = geom.Vec3{X: pixel.ToSRGB(back.X), Y: pixel.ToSRGB(back.Y), Z: pixel.ToSRGB(back.Z)}
	}
	return v.Mul(alpha).Add(back.Mul(1 - alpha)), 1
}
