//go:build unix && !linux

package files

import (
	"time"

	"golang.org/x/sys/unix"
)

// toPass opens folders for passing through; here they must be readable, too.
const toPass = unix.O_RDONLY

// openBelow opens a folder below an open one, without following a link anywhere on the way.
func openBelow(top handle, name string) (handle, error) { return walkTo(top, name, toPass) }

// openUnreadable opens for writing what may not be read. Folders cannot be opened so.
func openUnreadable(folder handle, name string) (handle, error) {
	return openAt(folder, name, unix.O_WRONLY|unix.O_NONBLOCK, 0)
}

func changeOwner(h handle, owner, group int) error { return unix.Fchown(h.fd(), owner, group) }

func changeMode(h handle, mode uint32) error { return unix.Fchmod(h.fd(), mode) }

// changeTimes counts in microseconds (futimes(2)).
func changeTimes(h handle, modified time.Time) error {
	at := unix.NsecToTimeval(modified.UnixNano())
	return unix.Futimes(h.fd(), []unix.Timeval{at, at})
}

// changeTime is not read here.
func changeTime(*unix.Stat_t) time.Time { return time.Time{} }

// ownLink gives a link that was just made its owner. Here that goes by the name, in the
// folder's handle.
func ownLink(folder handle, name string, with Attributes) error {
	return unix.Fchownat(folder.fd(), name, with.Owner, with.Group, unix.AT_SYMLINK_NOFOLLOW)
}

func exchangeAt(handle, string, handle, string) error { return ErrUnsupported }

const canExchange = false
