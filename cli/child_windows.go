package cli

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"syscall"
)

// handDown gives a command two more files, and tells how they are called there.
func handDown(command *exec.Cmd, lifeline, report *os.File) string {
	handles := []syscall.Handle{syscall.Handle(lifeline.Fd()), syscall.Handle(report.Fd())}
	for _, handle := range handles {
		_ = syscall.SetHandleInformation(handle, syscall.HANDLE_FLAG_INHERIT, syscall.HANDLE_FLAG_INHERIT)
	}
	command.SysProcAttr = &syscall.SysProcAttr{AdditionalInheritedHandles: handles}
	return fmt.Sprintf("%d,%d", handles[0], handles[1])
}

// childPipes opens what handDown handed down.
func childPipes(names string) (lifeline, report *os.File, err error) {
	var handles [2]uintptr
	if n, err := fmt.Sscanf(names, "%d,%d", &handles[0], &handles[1]); n != 2 || err != nil {
		return nil, nil, errors.New("it names no pipes")
	}
	for _, handle := range handles {
		if kind, err := syscall.GetFileType(syscall.Handle(handle)); err != nil || kind != syscall.FILE_TYPE_PIPE {
			return nil, nil, errors.New("it names no pipes")
		}
		_ = syscall.SetHandleInformation(syscall.Handle(handle), syscall.HANDLE_FLAG_INHERIT, 0)
	}
	return os.NewFile(handles[0], "lifeline"), os.NewFile(handles[1], "report"), nil
}
