//go:build !(goexperiment.simd && amd64)

package field

func octave(x, y, z []float32, freq, amp float32, seed uint32, r *rotation, out []float32) {
	octavePlain(x, y, z, freq, amp, seed, r, out)
}

func rampRun(out, v []float32, from, scale float32) int { return 0 }
