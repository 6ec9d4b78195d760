package browser

import "syscall"

// dieWithUs has the system end a browser whose starter was killed.
func dieWithUs(attributes *syscall.SysProcAttr) { attributes.Pdeathsig = syscall.SIGKILL }
