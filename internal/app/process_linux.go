package app

import (
	"os/exec"
	"syscall"
)

// withUs has a process end with this one, however this one ends.
func withUs(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} }
