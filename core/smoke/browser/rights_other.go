//go:build !linux && !windows

package browser

import "syscall"

// dieWithUs is not to be had here: the browser ends when the pipe to it does.
func dieWithUs(*syscall.SysProcAttr) {}
