package geom

import "unsafe"

// Eights is a run's whole vectors of eight: loops over them need no checks of bounds. What is left over is not in it.
func Eights[T any](v []T) [][8]T {
	return unsafe.Slice((*[8]T)(unsafe.Pointer(unsafe.SliceData(v))), len(v)/8)
}
