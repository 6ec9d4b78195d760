//go:build unix

package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"

	"wetland/core/durable"

	"golang.org/x/sys/unix"
)

const hasOwners = true

// Lstat describes what is at name.
func (Local) Lstat(name string) (entry Entry, err error) {
	err = in("lstat", name, func(folder handle, base string) error {
		entry, err = statAt(folder, base)
		return err
	})
	entry.Name = path.Base(name)
	return entry, err
}

// List returns the entries of a folder by name. What vanished meanwhile is left out.
func (Local) List(name string) (entries []Entry, err error) {
	err = inFolder("list", name, func(folder handle) error {
		names, err := folder.Readdirnames(-1)
		if err != nil {
			return err
		}
		slices.Sort(names)
		entries = make([]Entry, 0, len(names))
		for _, one := range names {
			entry, err := statAt(folder, one)
			switch {
			case err == nil:
				entries = append(entries, entry)
			case !errors.Is(err, fs.ErrNotExist):
				return fmt.Errorf("%s: %w", one, err)
			}
		}
		return nil
	})
	return entries, err
}

// inFolder does something with the folder name, opened for reading.
func inFolder(op, name string, do func(folder handle) error) error {
	return in(op, name, func(above handle, base string) error {
		folder, err := openAt(above, base, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			return err
		}
		defer folder.Close()
		return do(folder)
	})
}

// Open reads a regular file from offset on.
func (Local) Open(name string, offset int64) (io.ReadCloser, error) {
	var file handle
	err := in("open", name, func(folder handle, base string) (err error) {
		if file, err = openRegular(folder, base); err != nil || offset == 0 {
			return err
		}
		if _, err = file.Seek(offset, io.SeekStart); err != nil {
			file.Close()
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return file.File, nil
}

// Create makes a new file.
func (Local) Create(name string, with Attributes) (io.WriteCloser, error) {
	var file handle
	err := in("create", name, func(folder handle, base string) (err error) {
		if file, err = openAt(folder, base, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL, 0o600); err != nil {
			return err
		}
		if err = file.ownNewFile(with); err != nil {
			err = errors.Join(err, unlinkAt(folder, base, 0))
			file.Close()
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return &newFile{File: file.File, setTime: func() error { return file.setTime(with.Modified) }}, nil
}

// Mkdir makes a folder.
func (Local) Mkdir(name string, with Attributes) error {
	return in("mkdir", name, func(folder handle, base string) error {
		if err := again(func() error { return unix.Mkdirat(folder.fd(), base, 0o700) }); err != nil {
			return err
		}
		made, err := openAt(folder, base, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			return err
		}
		defer made.Close()
		return made.ownNewFolder(with)
	})
}

// Symlink makes a symbolic link; its mode is the system's.
func (Local) Symlink(target, name string, with Attributes) error {
	return in("symlink", name, func(folder handle, base string) error {
		if err := again(func() error { return unix.Symlinkat(target, folder.fd(), base) }); err != nil {
			return err
		}
		if with.Owner == Unowned && with.Group == Unowned {
			return nil
		}
		made, err := statAt(folder, base)
		if err != nil || (made.Owner == with.Owner && made.Group == with.Group) {
			return err
		}
		return ownLink(folder, base, with)
	})
}

// Settle changes owner, mode and time of an entry that is no link.
func (Local) Settle(name string, with Attributes) error {
	return toChange("change", name, func(file handle) error {
		if err := file.own(with); err != nil {
			return err
		}
		return file.setTime(with.Modified)
	})
}

// toChange opens what is to be changed, and does it.
func toChange(op, name string, do func(file handle) error) error {
	return in(op, name, func(folder handle, base string) error {
		file, err := openToChange(folder, base)
		if err != nil {
			return err
		}
		defer file.Close()
		return do(file)
	})
}

// CopyMarks gives one entry the marks of another.
func (Local) CopyMarks(from, to string) error {
	return toChange("read the marks of", from, func(source handle) error {
		return toChange("give marks to", to, func(target handle) error { return copyMarks(source, target) })
	})
}

// MountedAt tells whether something is mounted at name.
func (Local) MountedAt(name string) (mounted bool, err error) {
	err = in("ask what is mounted at", name, func(folder handle, base string) error {
		mounted, err = mountedAt(folder, base)
		return err
	})
	return mounted, err
}

// Remove takes away a file, a link or an empty folder.
func (Local) Remove(name string) error {
	return in("remove", name, func(folder handle, base string) error {
		err := unlinkAt(folder, base, 0)
		if err == nil || errors.Is(err, fs.ErrNotExist) {
			return err
		}
		asFolder := unlinkAt(folder, base, unix.AT_REMOVEDIR)
		if errors.Is(asFolder, unix.ENOTDIR) {
			return err
		}
		return asFolder
	})
}

// RemoveAll takes away name and everything below it, by the handles of its folders.
func (Local) RemoveAll(ctx context.Context, name string) error {
	err := in("remove", name, func(above handle, base string) error {
		stat, err := lstatAt(above, base)
		if err != nil {
			return err
		}
		return removeTree(ctx, above, base, stat)
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// removeTree removes one entry of an open folder, which was as known when it was listed.
func removeTree(ctx context.Context, above handle, name string, known *unix.Stat_t) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if known.Mode&unix.S_IFMT != unix.S_IFDIR {
		return ifThere(unlinkAt(above, name, 0))
	}
	folder, err := openAt(above, name, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return ifThere(err)
	}
	defer folder.Close()
	if err := sameFolder(above, folder, known); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	emptied := emptyFolder(ctx, folder)
	if emptied != nil && !errors.Is(emptied, fs.ErrExist) {
		return emptied
	}
	return ifThere(unlinkAt(above, name, unix.AT_REMOVEDIR))
}

// sameFolder refuses to empty what is not the folder that was listed, or is mounted there.
func sameFolder(above, folder handle, known *unix.Stat_t) error {
	now, err := folder.stat()
	if err != nil {
		return err
	}
	if now.Ino != known.Ino || now.Dev != known.Dev {
		return errChanged
	}
	around, err := above.stat()
	if err == nil && around.Dev != now.Dev {
		err = errMounted
	}
	return err
}

// emptyFolder removes what lies in a folder. What stays because somebody writes there is the
// last thing that it tells.
func emptyFolder(ctx context.Context, folder handle) error {
	names, err := folder.Readdirnames(-1)
	if err != nil {
		return err
	}
	listed := make([]*unix.Stat_t, len(names))
	for i, name := range names {
		if listed[i], err = lstatAt(folder, name); ifThere(err) != nil {
			return err
		}
	}
	var stays error
	for i, name := range names {
		if listed[i] == nil {
			continue
		}
		switch err := removeTree(ctx, folder, name, listed[i]); {
		case errors.Is(err, fs.ErrExist):
			stays = err
		case err != nil:
			return err
		}
	}
	return stays
}

// ifThere passes over what is gone already.
func ifThere(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Rename moves a name.
func (Local) Rename(old, new string) error {
	return twoNames("rename", old, new, func(from handle, a string, to handle, b string) error {
		return again(func() error { return unix.Renameat(from.fd(), a, to.fd(), b) })
	})
}

// Exchange swaps two names in one step.
func (Local) Exchange(a, b string) error { return twoNames("exchange", a, b, exchangeAt) }

// twoNames does something with two names, each in its folder.
func twoNames(op, a, b string, do func(folderA handle, a string, folderB handle, b string) error) error {
	return in(op, a, func(first handle, baseA string) error {
		return in(op, b, func(second handle, baseB string) error { return do(first, baseA, second, baseB) })
	})
}

// SyncFolder makes the folder's names safe.
func (Local) SyncFolder(name string) error {
	return inFolder("sync", name, func(folder handle) error { return durable.SyncNames(folder.File) })
}

// FreeSpace returns the bytes an ordinary user may still write below name.
func (Local) FreeSpace(name string) (free uint64, err error) {
	err = inFolder("ask for the free space at", name, func(folder handle) error {
		var stat unix.Statfs_t
		err := unix.Fstatfs(folder.fd(), &stat)
		free = uint64(stat.Bavail) * uint64(stat.Bsize)
		return err
	})
	return free, err
}

// Writable tells whether entries can be made in the folder name.
func (Local) Writable(name string) error {
	folder, err := folderAt(name) // which need not be readable
	if err != nil {
		return err
	}
	defer folder.Close()
	return failed("write in", name, unix.Faccessat(folder.fd(), ".", unix.W_OK|unix.X_OK, unix.AT_EACCESS))
}

// CanOwn tells whether this process may give files to the owner and group.
func (Local) CanOwn(owner, group int) bool {
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

// Lock takes the folder name until unlock is called or this process ends. It locks the folder
// itself, so that nothing has to be written into it and every name of the same folder meets
// the same lock.
func (Local) Lock(name string) (unlock func() error, err error) {
	err = in("lock", name, func(above handle, base string) error {
		folder, err := openAt(above, base, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			return err
		}
		if err := unix.Flock(folder.fd(), unix.LOCK_EX|unix.LOCK_NB); err != nil {
			if errors.Is(err, unix.EWOULDBLOCK) {
				err = ErrLocked
			}
			return errors.Join(err, folder.Close())
		}
		unlock = folder.Close
		return nil
	})
	return unlock, err
}
