//go:build unix

package files

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// handle is an open file or folder. What is done by a handle is done to what was opened,
// whatever stands at its name by then.
type handle struct{ *os.File }

func (h handle) fd() int { return int(h.Fd()) }

func (h handle) stat() (unix.Stat_t, error) {
	var stat unix.Stat_t
	err := unix.Fstat(h.fd(), &stat)
	return stat, err
}

// openAt opens one name in an open folder, without following it.
func openAt(folder handle, name string, flags int, mode uint32) (handle, error) {
	var fd int
	err := again(func() (err error) {
		fd, err = unix.Openat(folder.fd(), name, flags|unix.O_NOFOLLOW|unix.O_CLOEXEC, mode)
		return err
	})
	if err == nil && flags&unix.O_NONBLOCK != 0 { // that was for opening alone
		if err = unix.SetNonblock(fd, false); err != nil {
			err = errors.Join(err, unix.Close(fd))
		}
	}
	if err != nil {
		return handle{}, err
	}
	return handle{os.NewFile(uintptr(fd), name)}, nil
}

// again repeats a call that a signal interrupted.
func again(call func() error) error {
	for {
		if err := call(); !errors.Is(err, unix.EINTR) {
			return err
		}
	}
}

// unlinkAt removes a name of an open folder; flags is unix.AT_REMOVEDIR for folders.
func unlinkAt(folder handle, name string, flags int) error {
	return again(func() error { return unix.Unlinkat(folder.fd(), name, flags) })
}

// walkTo opens a folder below an open one part by part, each from the handle of the one before,
// so that a link put in the place of any part is met and not followed.
func walkTo(top handle, name string, flags int) (handle, error) {
	at, err := openAt(top, ".", flags|unix.O_DIRECTORY, 0)
	if err != nil || name == "." {
		return at, err
	}
	for part := range strings.SplitSeq(name, "/") {
		next, err := openAt(at, part, flags|unix.O_DIRECTORY, 0)
		at.Close()
		if err != nil {
			return handle{}, err
		}
		at = next
	}
	return at, nil
}

// openTop opens a folder by its whole name.
func openTop(name string) (handle, error) {
	fd, err := unix.Open("/", toPass|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return handle{}, err
	}
	all := handle{os.NewFile(uintptr(fd), "/")}
	defer all.Close()
	below := strings.Trim(name, "/")
	if below == "" {
		below = "."
	}
	return openBelow(all, below)
}

// asKnown makes links in the way ErrLink; a link where a folder is wanted says ENOTDIR, and so
// does a file.
func asKnown(err error) error {
	if errors.Is(err, unix.ELOOP) {
		return ErrLink
	}
	return err
}

func lstatAt(folder handle, name string) (*unix.Stat_t, error) {
	var stat unix.Stat_t
	if err := again(func() error { return unix.Fstatat(folder.fd(), name, &stat, unix.AT_SYMLINK_NOFOLLOW) }); err != nil {
		return nil, err
	}
	return &stat, nil
}

// statAt describes a name in an open folder.
func statAt(folder handle, name string) (Entry, error) {
	stat, err := lstatAt(folder, name)
	if err != nil {
		return Entry{}, err
	}
	entry := entryFrom(name, stat)
	if entry.Kind == Link {
		target, err := readLinkAt(folder, name)
		if err != nil {
			return entry, err
		}
		entry.Target = target
	}
	return entry, nil
}

func entryFrom(name string, stat *unix.Stat_t) Entry {
	entry := Entry{
		Name: name, Kind: Other, Mode: uint32(stat.Mode) & 0o7777, Owner: int(stat.Uid), Group: int(stat.Gid),
		Device: uint64(stat.Dev), Modified: modifiedTime(stat), Changed: changeTime(stat),
	}
	switch stat.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		entry.Kind, entry.Size = File, stat.Size
	case unix.S_IFDIR:
		entry.Kind = Folder
	case unix.S_IFLNK:
		entry.Kind = Link
	}
	return entry
}

func readLinkAt(folder handle, name string) (string, error) {
	for size := 256; ; size *= 4 {
		buffer := make([]byte, size)
		n, err := unix.Readlinkat(folder.fd(), name, buffer)
		if err != nil {
			return "", err
		}
		if n < size {
			return string(buffer[:n]), nil
		}
	}
}

// openRegular opens a file for reading. Opening does not wait: a pipe without a writer would
// hold it up for ever. What is no regular file is refused.
func openRegular(folder handle, name string) (handle, error) {
	file, err := openAt(folder, name, unix.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return handle{}, err
	}
	stat, err := file.stat()
	if err == nil && stat.Mode&unix.S_IFMT != unix.S_IFREG {
		err = ErrNoFile
	}
	if err != nil {
		file.Close()
		return handle{}, err
	}
	return file, nil
}

// openToChange opens a file or folder whose owner, mode, times or marks are to be changed.
func openToChange(folder handle, name string) (handle, error) {
	file, err := openAt(folder, name, unix.O_RDONLY|unix.O_NONBLOCK, 0)
	if errors.Is(err, unix.EACCES) { // its owner may change what nobody may read
		file, err = openUnreadable(folder, name)
	}
	if err != nil {
		return handle{}, err
	}
	stat, err := file.stat()
	if kind := stat.Mode & unix.S_IFMT; err == nil && kind != unix.S_IFREG && kind != unix.S_IFDIR {
		err = ErrNoFile
	}
	if err != nil {
		file.Close()
		return handle{}, err
	}
	return file, nil
}

// own gives owner and mode, in this order: a change of owner clears bits. A file with further
// names that belongs to somebody else keeps both: one of its names may be in a place that
// is none of ours.
func (h handle) own(with Attributes) error {
	stat, err := h.stat()
	if err != nil {
		return err
	}
	if stat.Mode&unix.S_IFMT == unix.S_IFREG && stat.Nlink > 1 && !ours(&stat, with) {
		return ErrManyNames
	}
	return h.give(&stat, with)
}

// ownNewFile gives owner and mode to a file that this very handle has made.
func (h handle) ownNewFile(with Attributes) error {
	stat, err := h.stat()
	if err != nil {
		return err
	}
	return h.give(&stat, with)
}

// ownNewFolder gives owner and mode to a folder that was made by its name and opened after
// it: what stands there by now may be somebody else's, which keeps both. Some disks give all
// that is made on them to one user (mount options of FAT and FUSE).
func (h handle) ownNewFolder(with Attributes) error {
	stat, err := h.stat()
	if err != nil {
		return err
	}
	known := int(stat.Uid) == os.Geteuid() || int(stat.Uid) == with.Owner
	if !known && (with.Owner != Unowned || uint32(stat.Mode)&0o7777 != with.Mode) {
		return errChanged
	}
	return h.give(&stat, with)
}

// ours tells whether the file belongs to who it is to belong to; where that is not said, to
// who runs this.
func ours(stat *unix.Stat_t, with Attributes) bool {
	if with.Owner == Unowned {
		return int(stat.Uid) == os.Geteuid()
	}
	return int(stat.Uid) == with.Owner
}

func (h handle) give(stat *unix.Stat_t, with Attributes) error {
	// Nothing to change is no error: an ordinary user may keep what it has.
	sameOwner := with.Owner == Unowned || int(stat.Uid) == with.Owner
	sameGroup := with.Group == Unowned || int(stat.Gid) == with.Group
	if !sameOwner || !sameGroup {
		if err := changeOwner(h, with.Owner, with.Group); err != nil {
			return fmt.Errorf("give it its owner: %w", err)
		}
	}
	return changeMode(h, with.Mode)
}

func (h handle) setTime(modified time.Time) error {
	if modified.IsZero() {
		return nil
	}
	return changeTimes(h, modified)
}

func onAnotherDevice(folder handle, name string) (bool, error) {
	own, err := statAt(folder, name)
	if err != nil {
		return false, err
	}
	outer, err := folder.stat()
	return own.Device != uint64(outer.Dev), err
}
