//go:build unix

package scratch

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
)

// isOurs tells of what belongs to the user of this process.
func isOurs(info fs.FileInfo) bool {
	of, known := info.Sys().(*syscall.Stat_t)
	return known && int(of.Uid) == os.Geteuid()
}

func isAlive(process int) bool { return !errors.Is(syscall.Kill(process, 0), syscall.ESRCH) }
