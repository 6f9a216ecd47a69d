//go:build !goexperiment.simd || !amd64 || plain

package field

func octave(x, y, z []float32, freq, amp float32, seed uint32, r *rotation, out []float32) {
	octavePlain(x, y, z, freq, amp, seed, r, out)
}

func rampRun(out, v []float32, from, scale float32) int { return 0 }

func (c *carpet) weaveRun(_, _ []float32, _ *[3]float32, _ float32, _ uint32, _ []float32) int {
	return 0
}

func (c *carpet) nearRun(_ *strew, _, _ []float32, _ *[3]float32, _ uint32) int { return 0 }

func (l *laidOut) run(_ *Block, _ int, _ *measure, _ []float32) int { return 0 }
