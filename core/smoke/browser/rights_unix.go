//go:build !windows

package browser

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
)

// fewRights is the account that a browser gets where we are root: pages run programs in it.
const fewRights = "nobody"

// lower returns what makes the browser's command run with few rights, and as which user, and gives
// that account the browser's own folder. There is no such command where we have none to spare.
func lower(folder string) (command func(*exec.Cmd), as int, err error) {
	if os.Geteuid() != 0 {
		return nil, os.Geteuid(), nil
	}
	account, err := user.Lookup(fewRights)
	if err != nil {
		return nil, 0, err
	}
	uid, err1 := strconv.ParseUint(account.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(account.Gid, 10, 32)
	if err := errors.Join(err1, err2, os.Chown(folder, int(uid), int(gid))); err != nil {
		return nil, 0, fmt.Errorf("give the browser the rights of %s: %w", fewRights, err)
	}
	return func(command *exec.Cmd) {
		if command.SysProcAttr == nil {
			command.SysProcAttr = &syscall.SysProcAttr{}
		}
		dieWithUs(command.SysProcAttr)
		command.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}, int(uid), nil
}
