package par

import (
	"math"
	"os/exec"
	"runtime/debug"
	"strconv"
	"strings"
	"testing"
)

// MemTotal as proc(5) has it, in kB; free(1) says the same of this machine.
func TestMachineMemory(t *testing.T) {
	if got := memTotal([]byte("MemTotal:        2048 kB\nMemFree:         1024 kB\n")); got != 2<<20 {
		t.Errorf("%d bytes, want %d", got, 2<<20)
	}
	out, err := exec.Command("free", "-b").Output()
	if err != nil {
		t.Skip("free(1) is not here to compare with")
	}
	want, err := strconv.ParseUint(strings.Fields(strings.Split(string(out), "\n")[1])[1], 10, 64)
	if got := machineMemory(); err != nil || got == 0 || got > want {
		t.Errorf("%d bytes, free(1) says %d, %v", got, want, err)
	}
}

// What is in use counts against the limit, whoever set it.
func TestPressedFollowsTheLimit(t *testing.T) {
	was := debug.SetMemoryLimit(math.MaxInt64)
	defer debug.SetMemoryLimit(was)
	if got := Pressed(); got != 0 {
		t.Errorf("%g without a limit, want 0", got)
	}
	t.Setenv("GOMEMLIMIT", "")
	limitMemory()
	if got, want := debug.SetMemoryLimit(-1), int64(memoryShare*float64(machineMemory())); got != want {
		t.Errorf("the limit is %d, want %d", got, want)
	}
	held := make([]byte, 64<<20)
	debug.FreeOSMemory()
	debug.SetMemoryLimit(128 << 20)
	if got := Pressed(); got < 0.5 || got > 1 {
		t.Errorf("%g with 64 MB and a little of 128 MB in use", got)
	}
	held[0] = 1
}
