package compose

import "crust/internal/core/pixel"

// A surface that is wet lies under a film of water. What has left a matt ground is partly thrown back by the film's upper side and takes
// another turn in the ground, which so grows darker: of what a dry one reflects, ρ, a wet one reflects 1 − (1 − r)·a / (1 − p·(1 − a)) with
// a = 1 − ρ (Lekner & Dorf, Why some things are darker when wet, Applied Optics 27, 1988).
const (
	filmMirrors = 0.02  // r: what water of index 1.33 mirrors, seen straight on
	filmKeeps   = 0.475 // p: the share of even light from below that its upper side throws back; from memory
	filmRough   = 0.04  // of the film itself
)

// wetter is what a matt ground reflects under water.
func wetter(dry float32) float32 {
	a := 1 - dry
	return max(0, 1-filmMirrors-(1-filmMirrors)*a/(1-filmKeeps*(1-a)))
}

// soak makes a tile darker and smoother where it is wet. Metals keep their colour: they have no ground that light goes into.
func soak(ch *Channels) {
	for i, w := range ch.Wet {
		if w <= 0 {
			continue
		}
		w = min(1, w)
		matt := w * (1 - min(1, max(0, ch.Metallic[i])))
		for k := range ch.Base {
			dry := pixel.FromSRGB(ch.Base[k][i])
			ch.Base[k][i] = pixel.ToSRGB(dry + (wetter(dry)-dry)*matt)
		}
		ch.Roughness[i] += (filmRough - ch.Roughness[i]) * w
	}
}
