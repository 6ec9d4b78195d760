//go:build unix

package testenv

import (
	"os/exec"
	"syscall"
)

// ownGroup lets a server and its workers be ended together.
func ownGroup(command *exec.Cmd) { command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

func killGroup(command *exec.Cmd) { _ = syscall.Kill(-command.Process.Pid, syscall.SIGKILL) }
