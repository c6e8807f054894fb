//go:build !windows

package cli

import (
	"os/exec"
	"syscall"
)

// apart lets a process live on when this one, or its group, is killed.
func apart(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }
