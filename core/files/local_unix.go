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

// local is a folder of this machine's disk, opened.
type local struct {
	top  handle
	name string
}

var _ Able = (*local)(nil)

// Open opens a folder as the root of an FS.
func (Local) Open(ctx context.Context, folder string) (FS, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	l := &local{name: path.Clean(folder)}
	if !path.IsAbs(folder) {
		return nil, l.failed("open", ".", errNotAbsolute)
	}
	top, err := openTop(l.name)
	if err != nil {
		return nil, l.failed("open", ".", err)
	}
	l.top = top
	return l, nil
}

var errNotAbsolute = errors.New("it is not an absolute path")

// Close closes the root.
func (l *local) Close() error { return l.top.Close() }

// entry opens the folder that name is in, and returns it with the last part of name.
func (l *local) entry(name string) (folder handle, base string, err error) {
	above, base := path.Dir(name), path.Base(name)
	folder, err = openBelow(l.top, above)
	return folder, base, l.failed("open", above, err)
}

// in does something with the folder that name is in.
func (l *local) in(ctx context.Context, op, name string, do func(folder handle, base string) error) error {
	if err := l.checked(ctx, op, name); err != nil {
		return err
	}
	folder, base, err := l.entry(name)
	if err != nil {
		return err
	}
	defer folder.Close()
	return l.failed(op, name, do(folder, base))
}

// inAbove is in for what is done to a name, which the root has not.
func (l *local) inAbove(ctx context.Context, op, name string, do func(folder handle, base string) error) error {
	if err := l.belowRoot(ctx, op, name); err != nil {
		return err
	}
	return l.in(ctx, op, name, do)
}

// Lstat describes what is at name.
func (l *local) Lstat(ctx context.Context, name string) (entry Entry, err error) {
	err = l.in(ctx, "lstat", name, func(folder handle, base string) error {
		entry, err = statAt(folder, base)
		return err
	})
	entry.Name = path.Base(l.whole(name))
	return entry, err
}

// List returns the entries of a folder by name. What vanished meanwhile is left out.
func (l *local) List(ctx context.Context, name string) (entries []Entry, err error) {
	err = l.inFolder(ctx, "list", name, func(folder handle) error {
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
func (l *local) inFolder(ctx context.Context, op, name string, do func(folder handle) error) error {
	return l.in(ctx, op, name, func(above handle, base string) error {
		folder, err := openAt(above, base, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			return err
		}
		defer folder.Close()
		return do(folder)
	})
}

// Open reads a regular file from offset on.
func (l *local) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	var file handle
	err := l.in(ctx, "open", name, func(folder handle, base string) (err error) {
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
	return reading{ctx, file.File}, nil
}

// Create makes a new file.
func (l *local) Create(ctx context.Context, name string, with Attributes) (io.WriteCloser, error) {
	var file handle
	err := l.inAbove(ctx, "create", name, func(folder handle, base string) (err error) {
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
	return &newFile{ctx: ctx, file: file.File, setTime: func() error { return file.setTime(with.Modified) }}, nil
}

// Mkdir makes a folder.
func (l *local) Mkdir(ctx context.Context, name string, with Attributes) error {
	return l.inAbove(ctx, "mkdir", name, func(folder handle, base string) error {
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
func (l *local) Symlink(ctx context.Context, target, name string, with Attributes) error {
	return l.inAbove(ctx, "symlink", name, func(folder handle, base string) error {
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
func (l *local) Settle(ctx context.Context, name string, with Attributes) error {
	return l.toChange(ctx, "change", name, func(file handle) error {
		if err := file.own(with); err != nil {
			return err
		}
		return file.setTime(with.Modified)
	})
}

// toChange opens what is to be changed, and does it.
func (l *local) toChange(ctx context.Context, op, name string, do func(file handle) error) error {
	return l.in(ctx, op, name, func(folder handle, base string) error {
		file, err := openToChange(folder, base)
		if err != nil {
			return err
		}
		defer file.Close()
		return do(file)
	})
}

// CopyMarks gives one entry the marks of another.
func (l *local) CopyMarks(ctx context.Context, from, to string) error {
	return l.toChange(ctx, "read the marks of", from, func(source handle) error {
		return l.toChange(ctx, "give marks to", to, func(target handle) error { return copyMarks(source, target) })
	})
}

// MountedAt tells whether something is mounted at name.
func (l *local) MountedAt(ctx context.Context, name string) (mounted bool, err error) {
	err = l.in(ctx, "ask what is mounted at", name, func(folder handle, base string) error {
		mounted, err = mountedAt(folder, base)
		return err
	})
	return mounted, err
}

// Remove takes away a file, a link or an empty folder.
func (l *local) Remove(ctx context.Context, name string) error {
	return l.inAbove(ctx, "remove", name, func(folder handle, base string) error {
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
func (l *local) RemoveAll(ctx context.Context, name string) error {
	err := l.inAbove(ctx, "remove", name, func(above handle, base string) error {
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
func (l *local) Rename(ctx context.Context, old, new string) error {
	return l.twoNames(ctx, "rename", old, new, func(from handle, a string, to handle, b string) error {
		return again(func() error { return unix.Renameat(from.fd(), a, to.fd(), b) })
	})
}

// CanExchange is what the operating system offers.
func (l *local) CanExchange() bool { return canExchange }

// Exchange swaps two names in one step.
func (l *local) Exchange(ctx context.Context, a, b string) error {
	return l.twoNames(ctx, "exchange", a, b, exchangeAt)
}

// twoNames does something with two names, each in its folder.
func (l *local) twoNames(ctx context.Context, op, a, b string, do func(folderA handle, a string, folderB handle, b string) error) error {
	return l.inAbove(ctx, op, a, func(first handle, baseA string) error {
		return l.inAbove(ctx, op, b, func(second handle, baseB string) error { return do(first, baseA, second, baseB) })
	})
}

// SyncFolder makes the folder's names safe.
func (l *local) SyncFolder(ctx context.Context, name string) error {
	return l.inFolder(ctx, "sync", name, func(folder handle) error { return durable.SyncNames(folder.File) })
}

// FreeSpace returns the bytes an ordinary user may still write below name.
func (l *local) FreeSpace(ctx context.Context, name string) (free uint64, err error) {
	err = l.inFolder(ctx, "ask for the free space at", name, func(folder handle) error {
		var stat unix.Statfs_t
		err := unix.Fstatfs(folder.fd(), &stat)
		free = uint64(stat.Bavail) * uint64(stat.Bsize)
		return err
	})
	return free, err
}

// Writable tells whether entries can be made in the folder name.
func (l *local) Writable(ctx context.Context, name string) error {
	if err := l.checked(ctx, "write in", name); err != nil {
		return err
	}
	folder, err := openBelow(l.top, name) // which need not be readable
	if err != nil {
		return l.failed("write in", name, err)
	}
	defer folder.Close()
	return l.failed("write in", name, unix.Faccessat(folder.fd(), ".", unix.W_OK|unix.X_OK, unix.AT_EACCESS))
}

// CanOwn tells whether this process may give files to the owner and group.
func (l *local) CanOwn(owner, group int) bool {
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
