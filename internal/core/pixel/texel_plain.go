//go:build !goexperiment.simd || !amd64 || plain

package pixel

func spreadRun(_, _ []uint8, _ []int32) int { return 0 }

func cover16Run(_ []uint16, _ []float32, _ bool) int { return 0 }
