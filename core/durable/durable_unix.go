//go:build unix

package durable

import (
	"errors"
	"syscall"
)

const foldersAreSynced = true

func cannotSyncFolders(err error) bool {
	return errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.ENOTSUP)
}
