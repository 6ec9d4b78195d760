//go:build !windows

package cli

import (
	"errors"
	"os"
	"os/exec"
	"syscall"
)

// handDown gives a command two more files, and tells how they are called there.
func handDown(command *exec.Cmd, lifeline, report *os.File) string {
	command.ExtraFiles = []*os.File{lifeline, report} // 3 and 4, by the contract of os/exec
	return "3,4"
}

// childPipes opens what handDown handed down. They do not go on to what the child starts.
func childPipes(names string) (lifeline, report *os.File, err error) {
	if names != "3,4" {
		return nil, nil, errors.New("it names no pipes")
	}
	lifeline, report = os.NewFile(3, "lifeline"), os.NewFile(4, "report")
	for n, file := range []*os.File{lifeline, report} {
		info, err := file.Stat()
		if err != nil || info.Mode()&os.ModeNamedPipe == 0 {
			return nil, nil, errors.New("it names no pipes")
		}
		syscall.CloseOnExec(3 + n)
	}
	return lifeline, report, nil
}
