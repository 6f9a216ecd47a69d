//go:build !linux && !darwin

package par

// machineMemory is not known here: GOMEMLIMIT sets the limit.
func machineMemory() uint64 { return 0 }
