package par

import (
	"bytes"
	"os"
	"strconv"
)

// machineMemory is how many bytes of memory the machine has, or the container if it was given fewer; 0 where that is not known.
func machineMemory() uint64 {
	all := uint64(0)
	if text, err := os.ReadFile("/proc/meminfo"); err == nil {
		all = memTotal(text)
	}
	for _, name := range []string{"/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"} {
		text, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		// “max” is no number and sets no limit.
		if n, err := strconv.ParseUint(string(bytes.TrimSpace(text)), 10, 64); err == nil && (all == 0 || n < all) {
			all = n
		}
	}
	return all
}

// memTotal is the MemTotal of /proc/meminfo, proc(5), in bytes.
func memTotal(text []byte) uint64 {
	for line := range bytes.Lines(text) {
		f := bytes.Fields(line)
		if len(f) >= 2 && string(f[0]) == "MemTotal:" {
			n, _ := strconv.ParseUint(string(f[1]), 10, 64)
			return n << 10
		}
	}
	return 0
}
