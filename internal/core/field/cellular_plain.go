//go:build !goexperiment.simd || !amd64 || plain

package field

func (s *strew) nearRun(_, _, _ []float32, _ float32, _ uint32) int { return 0 }
