//go:build !goexperiment.simd || !amd64 || plain

package pixel

func joinRun(j Join, acc, v []float32, s float32) { joinPlain(j, acc, v, s) }

func widenRun(dst []float32, q []uint16, scale, low float32) { widenPlain(dst, q, scale, low) }

func signedRun(dst []float32, q []int16, scale float32) int { return 0 }

func narrowRun(dst []uint16, v []float32) { narrowPlain(dst, v) }

func bytesRun([]uint8, *[3][]float32, *[3]float32, *[3]float32) int { return 0 }

func countRun([]uint16, uint16) (at int, any uint16, n int) { return 0, 0, 0 }

func sameRun([]float32, float32) (at, n int) { return 0, 0 }
