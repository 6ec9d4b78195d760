//go:build unix

package files

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Lock takes the folder name until unlock is called or this process ends. It locks the folder
// itself, so that nothing has to be written into it and every name of the same folder meets the
// same lock. But whoever may read a folder can lock it. So there is a second lock, in a folder
// that only this user can enter: it keeps runs of one user apart, whatever others hold; and a
// holder of the first one who does not count is passed over.
func (l *local) Lock(ctx context.Context, name string, counts func(user int) bool) (unlock func() error, err error) {
	err = l.in(ctx, "lock", name, func(above handle, base string) error {
		folder, err := openAt(above, base, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			return err
		}
		own, err := lockBoth(folder, counts)
		if err != nil {
			return errors.Join(err, folder.Close())
		}
		unlock = func() error {
			err := folder.Close()
			if own != nil {
				err = errors.Join(err, own.Close())
			}
			return err
		}
		return nil
	})
	return unlock, err
}

// lockBoth returns the file of the lock that is this user's own; it may be nil.
func lockBoth(folder handle, counts func(user int) bool) (own *os.File, err error) {
	var stat unix.Stat_t
	if err := unix.Fstat(folder.fd(), &stat); err != nil {
		return nil, err
	}
	own, err = lockOwn(stat)
	if errors.Is(err, ErrLocked) {
		return nil, lockedBy(holderOf(stat))
	}
	err = unix.Flock(folder.fd(), unix.LOCK_EX|unix.LOCK_NB)
	if err == nil {
		return own, nil
	}
	if errors.Is(err, unix.EWOULDBLOCK) {
		holder, owner := holderOf(stat)
		if own != nil && holder > 0 && counts != nil && !counts(owner) {
			return own, nil
		}
		err = lockedBy(holder, owner)
	}
	if own != nil {
		_ = own.Close()
	}
	return nil, err
}

// lockedBy is the error that says who holds the lock, if that is known.
func lockedBy(process, user int) error {
	if process == 0 {
		return ErrLocked
	}
	return &LockedError{process, user}
}

// lockOwn takes the lock of a folder that only this user can take. Where this user has no place
// of its own there is none; the error then is not ErrLocked.
func lockOwn(stat unix.Stat_t) (*os.File, error) {
	place, err := OwnPlace()
	if err != nil {
		return nil, err
	}
	file, err := os.OpenFile(filepath.Join(place, fmt.Sprintf("%x-%d.lock", stat.Dev, stat.Ino)), os.O_RDWR|os.O_CREATE|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		if errors.Is(err, unix.EWOULDBLOCK) {
			err = ErrLocked
		}
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}

// OwnPlace is a folder that only this user can enter, the same in each of the user's sessions. A
// user's home is no place for it: that of a web server's user may be what it hands out.
func OwnPlace() (string, error) {
	uid := os.Geteuid()
	places := []string{"/run/wetland", "/var/run/wetland"} // only root can make them
	if uid != 0 {
		places = []string{fmt.Sprintf("/tmp/wetland-locks-%d", uid)}
	}
	var failed error
	for _, place := range places {
		err := os.MkdirAll(place, 0o700)
		var stat unix.Stat_t
		if err == nil {
			err = unix.Lstat(place, &stat)
		}
		if err == nil && (stat.Mode&unix.S_IFMT != unix.S_IFDIR || int(stat.Uid) != uid || stat.Mode&0o077 != 0) {
			err = fmt.Errorf("%s is not a folder of this user alone", place)
		}
		if err == nil {
			return place, nil
		}
		failed = errors.Join(failed, err)
	}
	return "", failed
}

// holderOf finds who holds the lock of a folder: /proc/locks of Linux (proc(5)). Elsewhere, and
// where the system hides it, the process is 0.
func holderOf(stat unix.Stat_t) (process, user int) {
	text, err := os.ReadFile("/proc/locks")
	if err != nil {
		return 0, 0
	}
	place := fmt.Sprintf("%02x:%02x:%d", unix.Major(uint64(stat.Dev)), unix.Minor(uint64(stat.Dev)), stat.Ino)
	for line := range strings.SplitSeq(string(text), "\n") {
		fields := strings.Fields(line) // number, FLOCK, ADVISORY, WRITE, process, place
		if len(fields) < 6 || fields[1] != "FLOCK" || fields[5] != place {
			continue
		}
		process, err := strconv.Atoi(fields[4])
		var of unix.Stat_t
		if err != nil || unix.Stat(fmt.Sprintf("/proc/%d", process), &of) != nil {
			return 0, 0
		}
		return process, int(of.Uid)
	}
	return 0, 0
}
