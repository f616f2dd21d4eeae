//go:build !linux

package journal

import "os/exec"

func endWithUs(*exec.Cmd) {}
