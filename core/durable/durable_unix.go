//go:build unix

package durable

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
)

const foldersAreSynced = true

func cannotSyncFolders(err error) bool {
	return errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.ENOTSUP)
}

// isOurs tells of what belongs to the user of this process.
func isOurs(info fs.FileInfo) bool {
	of, known := info.Sys().(*syscall.Stat_t)
	return known && int(of.Uid) == os.Geteuid()
}

func isAlive(process int) bool { return !errors.Is(syscall.Kill(process, 0), syscall.ESRCH) }
