package main

import (
	"fmt"
	"syscall"
)

// mountSmall makes a disk in memory, which root may.
func mountSmall(at string, bytes int) error {
	return syscall.Mount("tmpfs", at, "tmpfs", 0, fmt.Sprintf("size=%d,mode=755", bytes))
}

func unmount(at string) { _ = syscall.Unmount(at, syscall.MNT_DETACH) }

func remount(at string, readOnly bool) error {
	flags := uintptr(syscall.MS_REMOUNT)
	if readOnly {
		flags |= syscall.MS_RDONLY
	}
	return syscall.Mount("", at, "", flags, "")
}
