package journal

import (
	"os/exec"
	"syscall"
)

// endWithUs lets a program end when this one does, however that ends.
func endWithUs(c *exec.Cmd) {
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
}
