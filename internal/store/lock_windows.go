package store

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// tryLock takes the lock of an open file, false when another process has it. It lies beyond what the file holds, which others may read.
func tryLock(f *os.File) (bool, error) {
	at := &windows.Overlapped{OffsetHigh: 1}
	err := windows.LockFileEx(windows.Handle(f.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0, at)
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) {
		return false, nil
	}
	return err == nil, err
}
