package service

import (
	"os"

	"golang.org/x/sys/windows"
)

// lockFile takes a lock on a file, which the system lets go of when the process ends.
// It covers a byte behind what is written there, so that others can read that.
func lockFile(f *os.File) error {
	return windows.LockFileEx(windows.Handle(f.Fd()),
		windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0,
		&windows.Overlapped{Offset: 1 << 20})
}
