//go:build !goexperiment.simd || !amd64 || plain

package pixel

func shape(v []float32, c *curve) { shapePlain(v, c) }

func layLine(below []float32, slope, lift float32, alpha []float32) {
	layLinePlain(below, slope, lift, alpha)
}

func fade(below, own, alpha []float32) { fadePlain(below, own, alpha) }

func layOver(below, own, mixed, alpha, cover []float32) {
	layOverPlain(below, own, mixed, alpha, cover)
}

func between(v, under, share []float32) { betweenPlain(v, under, share) }

func times(out, a, b []float32) { timesPlain(out, a, b) }

func scale(out, a []float32, by float32) { scalePlain(out, a, by) }

func layFour(_ *[4][]float32, _ *FourLines, _ []uint16, _ float32) int { return 0 }
