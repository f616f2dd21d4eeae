//go:build unix

package main

import (
	"os"
	"syscall"
)

// mostMemory is the most memory that a process had, in bytes; 0 where that is not known.
func mostMemory(p *os.ProcessState) int64 {
	u, ok := p.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0
	}
	return u.Maxrss << 10
}
