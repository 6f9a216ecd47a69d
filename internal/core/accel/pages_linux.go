package accel

import (
	"syscall"
	"unsafe"
)

// Values of madvise(2) that package syscall has no names for.
const (
	adviseHuge     = 14 // MADV_HUGEPAGE
	adviseCollapse = 25 // MADV_COLLAPSE
)

const hugePage = 2 << 20

// LargePages asks the system to keep a long slice in large pages: rays jump about in it, and translating
// small pages' addresses took a third of their time on a million triangles. A refusal does no harm.
func LargePages[T any](s []T) {
	if len(s) == 0 {
		return
	}
	from := uintptr(unsafe.Pointer(&s[0]))
	to := from + uintptr(len(s))*unsafe.Sizeof(s[0])
	skip := -from & (hugePage - 1)
	to &^= hugePage - 1
	if from+skip >= to {
		return
	}
	b := unsafe.Slice((*byte)(unsafe.Pointer(&s[0])), to-from)[skip:]
	if syscall.Madvise(b, adviseHuge) == nil {
		_ = syscall.Madvise(b, adviseCollapse)
	}
}
