package pixel

import "math"

// Turned changes a colour, sRGB-encoded, in hue by degrees, and in saturation and lightness by −1 to 1, as shares of the way
// to nothing or to all (CSS Color Module Level 4, 7: HSL).
func Turned(r, g, b, hue, saturation, lightness float32) (float32, float32, float32) {
	high, low := max(r, g, b), min(r, g, b)
	l := (high + low) / 2
	h, s := float32(0), float32(0)
	if d := high - low; d > 0 {
		s = d / (1 - abs(2*l-1))
		switch high {
		case r:
			h = (g - b) / d
		case g:
			h = (b-r)/d + 2
		default:
			h = (r-g)/d + 4
		}
	}
	h += hue / 60
	s, l = towards(min(s, 1), saturation), towards(l, lightness)
	a := s * min(l, 1-l)
	f := func(n float32) float32 {
		k := n + h*2
		k -= 12 * float32(math.Floor(float64(k/12)))
		return l - a*max(-1, min(k-3, 9-k, 1))
	}
	return f(0), f(8), f(4)
}

// towards moves a value by a share of what lies between it and 0 or 1.
func towards(v, share float32) float32 {
	if share < 0 {
		return v * (1 + share)
	}
	return v + (1-v)*share
}

// Contrasted draws a value away from the middle, or towards it when share is negative: by slope tan((1 + share)·45°), common
// practice.
func Contrasted(v, share float32) float32 {
	slope := float32(math.Tan(float64(1+share) * math.Pi / 4))
	return min(1, max(0, (v-0.5)*slope+0.5))
}

// Levelled stretches low to high over 0 to 1 and raises what lies between to 1/gamma, common practice.
func Levelled(v, low, high, gamma float32) float32 {
	width := high - low
	if width > -1e-4 && width < 1e-4 {
		width = 1e-4
	}
	v = min(1, max(0, (v-low)/width))
	if gamma != 1 {
		v = float32(math.Pow(float64(v), 1/float64(gamma)))
	}
	return v
}

func abs(v float32) float32 { return max(v, -v) }
