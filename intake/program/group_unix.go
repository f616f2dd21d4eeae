//go:build unix

package program

import (
	"os/exec"
	"syscall"
)

// own gives a program a process group of its own, so that what it has started ends with it.
func own(c *exec.Cmd) {
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.Cancel = func() error { return syscall.Kill(-c.Process.Pid, syscall.SIGTERM) }
}
