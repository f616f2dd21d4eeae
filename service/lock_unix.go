//go:build !windows

package service

import (
	"os"
	"syscall"
)

// lockFile takes a lock on a file, which the system lets go of when the process ends.
func lockFile(f *os.File) error { return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) }
