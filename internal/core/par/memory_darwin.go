package par

import "golang.org/x/sys/unix"

// machineMemory is how many bytes of memory the machine has; 0 where that is not known.
func machineMemory() uint64 {
	n, _ := unix.SysctlUint64("hw.memsize")
	return n
}
