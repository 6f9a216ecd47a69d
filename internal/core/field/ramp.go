package field

import "crust/internal/core/geom"

// ramp writes (v − from) · scale, limited to 0–1.
func ramp(out, v []float32, from, scale float32) {
	v = v[:len(out)]
	for i := rampRun(out, v, from, scale); i < len(out); i++ {
		out[i] = geom.Clamp01((v[i] - from) * scale)
	}
}

// apart writes (a − b) · scale, limited to 0–1.
func apart(out, a, b []float32, scale float32) {
	for i := range out {
		out[i] = a[i] - b[i]
	}
	ramp(out, out, 0, scale)
}
