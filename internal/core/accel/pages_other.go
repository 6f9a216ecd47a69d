//go:build !linux

package accel

// large does nothing where large pages cannot be asked for.
func large[T any]([]T) {}
