package files

import (
	"errors"
	"fmt"
	"os"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// noOpenat2 is set once the system has refused openat2 (Linux before 5.6, or a sandbox).
var noOpenat2 atomic.Bool

// toPass opens folders for passing through alone.
const toPass = unix.O_PATH

// openBelow opens a folder below an open one, without following a link anywhere on the way: in
// one call where the system has it (openat2(2)).
func openBelow(top handle, name string) (handle, error) {
	if noOpenat2.Load() {
		return walkTo(top, name, toPass)
	}
	how := unix.OpenHow{Flags: toPass | unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS}
	for {
		fd, err := unix.Openat2(top.fd(), name, &how)
		switch {
		case err == nil:
			return handle{os.NewFile(uintptr(fd), name)}, nil
		case errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EPERM):
			noOpenat2.Store(true)
			return walkTo(top, name, toPass)
		case !errors.Is(err, unix.EINTR) && !errors.Is(err, unix.EAGAIN): // a rename on the way
			return handle{}, err
		}
	}
}

// openUnreadable opens what may not be read: for the calls below that is enough.
func openUnreadable(folder handle, name string) (handle, error) {
	return openAt(folder, name, unix.O_PATH, 0)
}

// byProc is the name of what a handle of O_PATH stands for: such handles are refused by the
// calls that take a descriptor. It leads to what was opened, whatever its name is by now
// (proc(5), /proc/pid/fd).
func byProc(h handle) string { return fmt.Sprintf("/proc/self/fd/%d", h.fd()) }

func changeOwner(h handle, owner, group int) error {
	return unix.Fchownat(h.fd(), "", owner, group, unix.AT_EMPTY_PATH)
}

func changeMode(h handle, mode uint32) error {
	err := unix.Fchmod(h.fd(), mode)
	if errors.Is(err, unix.EBADF) {
		return unix.Chmod(byProc(h), mode)
	}
	return err
}

func changeTimes(h handle, modified time.Time) error {
	times, err := timesOf(modified)
	if err != nil {
		return err
	}
	// futimens(3): no name means the descriptor itself.
	_, _, code := unix.Syscall6(unix.SYS_UTIMENSAT, uintptr(h.fd()), 0, uintptr(unsafe.Pointer(&times[0])), 0, 0, 0)
	switch code {
	case 0:
		return nil
	case unix.EBADF:
		return unix.UtimesNanoAt(unix.AT_FDCWD, byProc(h), times[:], 0)
	}
	return code
}

func timesOf(modified time.Time) ([2]unix.Timespec, error) {
	at, err := unix.TimeToTimespec(modified)
	return [2]unix.Timespec{{Nsec: unix.UTIME_OMIT}, at}, err
}

func modifiedTime(stat *unix.Stat_t) time.Time { return time.Unix(stat.Mtim.Unix()) }

// changeTime is when anything of an entry changed last. Nobody can set it.
func changeTime(stat *unix.Stat_t) time.Time { return time.Unix(stat.Ctim.Unix()) }

// ownLink gives a link that was just made its owner: what stands there by now may be another
// entry.
func ownLink(folder handle, name string, with Attributes) error {
	link, err := openAt(folder, name, unix.O_PATH, 0)
	if err != nil {
		return err
	}
	defer link.Close()
	stat, err := link.stat()
	if err != nil {
		return err
	}
	if stat.Mode&unix.S_IFMT != unix.S_IFLNK || int(stat.Uid) != os.Geteuid() {
		return errChanged
	}
	return changeOwner(link, with.Owner, with.Group)
}

func exchangeAt(folderA handle, a string, folderB handle, b string) error {
	err := again(func() error { return unix.Renameat2(folderA.fd(), a, folderB.fd(), b, unix.RENAME_EXCHANGE) })
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EXDEV) || errors.Is(err, unix.EOPNOTSUPP) {
		return fmt.Errorf("%w (%w)", ErrUnsupported, err)
	}
	return err
}

const canExchange = true
