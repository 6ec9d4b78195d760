//go:build unix

package site

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
)

// What wetland.toml says is obeyed: commands are run, passwords read, a browser started. So it
// must be the word of who runs Wetland, or of root.

// checkWhose refuses a workspace that others own, or may write.
func checkWhose(dir string) error {
	var problems []error
	for _, name := range []string{dir, filepath.Join(dir, ConfigName)} {
		info, err := os.Stat(name)
		if err != nil {
			return err
		}
		problems = append(problems, whose(name, info, os.Geteuid(), os.Getegid()))
	}
	return errors.Join(problems...)
}

// whose tells what is wrong with the owner and the mode of a file, for a user and a group.
func whose(name string, info fs.FileInfo, runner, group int) error {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return nil
	}
	owner, mode := int(stat.Uid), info.Mode()
	switch {
	case owner != runner && owner != 0:
		return fmt.Errorf("%s belongs to %s, and you run Wetland as %s: what it says would be done with your rights. Run Wetland as its owner (sudo -u %s wetland ...), or, if you trust all that is in it, make it yours: chown %s %s", name, accountName(owner), accountName(runner), accountName(owner), accountName(runner), name)
	case mode&0o002 != 0 && mode&fs.ModeSticky == 0:
		return fmt.Errorf("%s can be written by everybody on this machine: what they write there would be done with your rights. Look at what is in it, then: chmod o-w %s", name, name)
	case mode&0o020 != 0 && int(stat.Gid) != group:
		return fmt.Errorf("%s can be written by the group #%d, which is not your own: what they write there would be done with your rights. Look at what is in it, then: chmod g-w %s", name, stat.Gid, name)
	}
	return nil
}

func accountName(id int) string {
	if found, err := user.LookupId(strconv.Itoa(id)); err == nil {
		return found.Username
	}
	return "#" + strconv.Itoa(id)
}
