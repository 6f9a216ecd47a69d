//go:build !linux

package accel

// LargePages does nothing where large pages cannot be asked for.
func LargePages[T any]([]T) {}
