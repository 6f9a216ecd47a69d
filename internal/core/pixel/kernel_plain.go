//go:build !(goexperiment.simd && amd64)

package pixel

func shape(v []float32, c *curve) { shapePlain(v, c) }

func layOver(below []float32, own float32, alpha []float32) { layOverPlain(below, own, alpha) }
