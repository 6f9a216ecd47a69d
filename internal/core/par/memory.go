package par

import (
	"math"
	"os"
	"runtime/debug"
	"runtime/metrics"
)

// share of a machine's memory that a program may take before it would rather collect than grow.
const memoryShare = 0.75

// limitMemory has a program keep below its share of the machine's memory, or of the part of it that a container was given.
// GOMEMLIMIT in the environment goes before.
func limitMemory() {
	if os.Getenv("GOMEMLIMIT") != "" {
		return
	}
	if all := machineMemory(); all > 0 {
		debug.SetMemoryLimit(int64(memoryShare * float64(all)))
	}
}

// MemoryLimit is how many bytes the program may take; 0 where no limit is known.
func MemoryLimit() int64 {
	if limit := debug.SetMemoryLimit(-1); limit < math.MaxInt64 {
		return limit
	}
	return 0
}

// Pressed tells how much of the memory that the program may take is in use: 1 is all of it. It is 0 where no limit is known.
func Pressed() float64 {
	limit := MemoryLimit()
	if limit == 0 {
		return 0
	}
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(live)
	return float64(live[0].Value.Uint64()) / float64(limit)
}
