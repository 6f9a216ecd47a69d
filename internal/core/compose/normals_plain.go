//go:build !goexperiment.simd || !amd64 || plain

package compose

func (s *slopes) differ(from, at, n int) { s.differPlain(from, at, n) }

func (s *slopes) tilt(normal *[3][]float32) { s.tiltPlain(normal, 0) }
