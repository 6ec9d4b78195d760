//go:build unix

package files

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"
)

const (
	hasOwners = true
	noFollow  = unix.O_NOFOLLOW | unix.O_CLOEXEC
)

func describeOwner(entry *Entry, info fs.FileInfo) {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		entry.Owner, entry.Group, entry.Device = int(stat.Uid), int(stat.Gid), uint64(stat.Dev)
		entry.Changed = changeTime(stat)
	}
}

func chown(name string, owner, group int) error {
	// Nothing to change is no error: an ordinary user may keep what it has.
	var stat unix.Stat_t
	if err := unix.Lstat(name, &stat); err == nil {
		if (owner == Unowned || int(stat.Uid) == owner) && (group == Unowned || int(stat.Gid) == group) {
			return nil
		}
	}
	return os.Lchown(name, owner, group)
}

func freeSpace(name string) (uint64, error) {
	var stat unix.Statfs_t
	if err := unix.Statfs(name, &stat); err != nil {
		return 0, fmt.Errorf("ask for the free space at %s: %w", name, err)
	}
	return uint64(stat.Bavail) * uint64(stat.Bsize), nil
}

func writable(name string) error {
	if err := unix.Access(name, unix.W_OK|unix.X_OK); err != nil {
		return &fs.PathError{Op: "write in", Path: name, Err: err}
	}
	return nil
}

func canOwn(owner, group int) bool {
	uid := os.Geteuid()
	if uid == 0 {
		return true
	}
	if owner != Unowned && owner != uid {
		return false
	}
	groups, err := os.Getgroups()
	return group == Unowned || group == os.Getegid() || (err == nil && slices.Contains(groups, group))
}

// lockFolder locks the folder itself, so that nothing has to be written into it
// and every name of the same folder meets the same lock.
func lockFolder(name string) (func() error, error) {
	folder, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(folder.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		if errors.Is(err, unix.EWOULDBLOCK) {
			err = ErrLocked
		}
		return nil, errors.Join(err, folder.Close())
	}
	return folder.Close, nil
}
