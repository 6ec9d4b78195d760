package files

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wetland/core/durable"

	"golang.org/x/sys/unix"
)

// Marks are extended attributes: access lists, security labels, and what users set. The
// names are those of acl(5) and xattr(7).
const (
	accessList  = "system.posix_acl_access"
	defaultList = "system.posix_acl_default" // what is made in a folder gets it
)

// carried tells of the attributes that go with the name of a file, and not with its bytes
// (signatures of contents) or with the system alone.
func carried(name string) bool {
	return name == accessList || name == defaultList || name == "security.selinux" || name == "security.SMACK64" || strings.HasPrefix(name, "user.")
}

func readMarks(file handle) (map[string][]byte, error) {
	marks := map[string][]byte{}
	names := make([]byte, 4<<10)
	n, err := listMarks(file, names)
	for errors.Is(err, unix.ERANGE) {
		names = make([]byte, 4*len(names))
		n, err = listMarks(file, names)
	}
	if errors.Is(err, unix.ENOTSUP) {
		return marks, nil
	}
	if err != nil {
		return nil, err
	}
	for one := range bytes.SplitSeq(bytes.TrimSuffix(names[:n], []byte{0}), []byte{0}) {
		if len(one) == 0 || !carried(string(one)) {
			continue
		}
		value := make([]byte, 64<<10) // the kernel's own bound
		size, err := readMark(file, string(one), value)
		if errors.Is(err, unix.ENODATA) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", one, err)
		}
		marks[string(one)] = slices.Clone(value[:size])
	}
	return marks, nil
}

// Handles of O_PATH are refused by these calls, and take the way by their name in /proc.

func listMarks(file handle, into []byte) (int, error) {
	n, err := unix.Flistxattr(file.fd(), into)
	if errors.Is(err, unix.EBADF) {
		n, err = unix.Listxattr(byProc(file), into)
	}
	return n, err
}

func readMark(file handle, name string, into []byte) (int, error) {
	n, err := unix.Fgetxattr(file.fd(), name, into)
	if errors.Is(err, unix.EBADF) {
		n, err = unix.Getxattr(byProc(file), name, into)
	}
	return n, err
}

func giveMark(file handle, name string, value []byte) error {
	err := unix.Fsetxattr(file.fd(), name, value, 0)
	if errors.Is(err, unix.EBADF) {
		err = unix.Setxattr(byProc(file), name, value, 0)
	}
	return err
}

func takeMark(file handle, name string) error {
	err := unix.Fremovexattr(file.fd(), name)
	if errors.Is(err, unix.EBADF) {
		err = unix.Removexattr(byProc(file), name)
	}
	return err
}

func copyMarks(from, to handle) error {
	wanted, err := readMarks(from)
	if err != nil {
		return fmt.Errorf("read the marks: %w", err)
	}
	present, err := readMarks(to)
	if err != nil {
		return fmt.Errorf("read the marks it has: %w", err)
	}
	source, err := from.stat()
	if err != nil {
		return err
	}
	target, err := to.stat()
	if err != nil {
		return err
	}
	if source.Mode&unix.S_IFMT == unix.S_IFDIR && target.Mode&unix.S_IFMT != unix.S_IFDIR {
		wanted = inherited(wanted)
	}
	changed := false
	for name, value := range wanted {
		if bytes.Equal(present[name], value) {
			continue
		}
		if err := giveMark(to, name, value); err != nil {
			return fmt.Errorf("give it the %s: %w", markName(name), err)
		}
		changed = true
	}
	for name := range present {
		if _, ok := wanted[name]; ok {
			continue
		}
		if strings.HasPrefix(name, "security.") {
			continue // the system gave it, and wants one
		}
		if err := takeMark(to, name); err != nil && !errors.Is(err, unix.ENODATA) {
			return fmt.Errorf("take the %s from it: %w", markName(name), err)
		}
		changed = true
	}
	if !changed {
		return nil
	}
	if err := durable.SyncNames(to.File); !errors.Is(err, unix.EBADF) {
		return err
	}
	return nil // not to be read by us: its folder is synced, which is all that can be done
}

// inherited is what a file gets that is made in a folder: its label, and the default list as
// access list, without the right to run it.
func inherited(folder map[string][]byte) map[string][]byte {
	marks := map[string][]byte{}
	for name, value := range folder {
		switch {
		case strings.HasPrefix(name, "security."):
			marks[name] = value
		case name == defaultList:
			marks[accessList] = withoutExecute(value)
		}
	}
	return marks
}

// withoutExecute clears the right in every entry: after a version of 4 bytes, entries of 8,
// with the rights in bytes 2 and 3 (linux/posix_acl_xattr.h).
func withoutExecute(list []byte) []byte {
	list = slices.Clone(list)
	for at := 4; at+8 <= len(list); at += 8 {
		rights := binary.LittleEndian.Uint16(list[at+2:])
		binary.LittleEndian.PutUint16(list[at+2:], rights&^1)
	}
	return list
}

func markName(name string) string {
	switch name {
	case accessList, defaultList:
		return "access list"
	case "security.selinux", "security.SMACK64":
		return "security label"
	}
	return "attribute " + name
}

// mountedAt asks for the mounts of the name and of the folder around it (statx, Linux 5.8).
// Where there is no answer, or sandboxes forbid to ask, devices decide.
func mountedAt(folder handle, name string) (bool, error) {
	var own, outer unix.Statx_t
	const ask = unix.STATX_MNT_ID
	for _, one := range []struct {
		name  string
		flags int
		into  *unix.Statx_t
	}{{name, unix.AT_SYMLINK_NOFOLLOW, &own}, {"", unix.AT_EMPTY_PATH, &outer}} {
		err := unix.Statx(folder.fd(), one.name, one.flags, ask, one.into)
		if errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EPERM) {
			return onAnotherDevice(folder, name)
		}
		if err != nil {
			return false, err
		}
	}
	if own.Mask&ask == 0 || outer.Mask&ask == 0 {
		return onAnotherDevice(folder, name)
	}
	return own.Mnt_id != outer.Mnt_id, nil
}
