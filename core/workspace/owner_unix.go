//go:build unix

package workspace

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"wetland/core/accounts"
)

// What wetland.toml says is obeyed: commands are run, passwords read, a browser started. So it
// must be the word of who runs Wetland, or of root.

// checkWhose refuses a workspace that others own, or may write.
func checkWhose(dir string) error {
	var wrong []doubted
	for _, name := range []string{dir, filepath.Join(dir, ConfigName)} {
		info, err := os.Stat(name)
		if err != nil {
			return err
		}
		problem, remedy := whose(info, os.Geteuid(), os.Getegid())
		if problem == "" {
			continue
		}
		i := slices.IndexFunc(wrong, func(d doubted) bool { return d.problem == problem })
		if i < 0 {
			wrong = append(wrong, doubted{problem: problem, remedy: remedy})
			i = len(wrong) - 1
		}
		wrong[i].names = append(wrong[i].names, name)
	}
	if len(wrong) == 0 {
		return nil
	}
	var lines []string
	for _, one := range wrong {
		lines = append(lines, fmt.Sprintf("%s: %s. %s %s", strings.Join(one.names, " and "), one.problem, one.remedy, strings.Join(one.names, " ")))
	}
	return fmt.Errorf("what is written there would be done with your rights: %s", strings.Join(lines, "\n"))
}

// doubted are files of which the same is wrong.
type doubted struct {
	names           []string
	problem, remedy string
}

// whose tells what is wrong with the owner and the mode of a file, for a user and a group, and
// what to do, as a command that wants the file's name; "" is nothing.
func whose(info fs.FileInfo, runner, group int) (problem, remedy string) {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return "", ""
	}
	owner, mode := int(stat.Uid), info.Mode()
	switch {
	case owner != runner && owner != 0:
		return fmt.Sprintf("owned by %s, and you run Wetland as %s", accounts.UserName(owner), accounts.UserName(runner)),
			fmt.Sprintf("Run Wetland as its owner: sudo -u %s wetland ... Or, if you trust all that is in it, make it yours: chown %s", accounts.UserName(owner), accounts.UserName(runner))
	case mode&0o002 != 0 && mode&fs.ModeSticky == 0:
		return "everybody on this machine can write there", "Look at what is in it, then: chmod o-w"
	case mode&0o020 != 0 && int(stat.Gid) != group:
		return fmt.Sprintf("the group %s can write there, and is not your own", accounts.GroupName(int(stat.Gid))), "Look at what is in it, then: chmod g-w"
	}
	return "", ""
}
