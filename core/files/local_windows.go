package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/sys/windows"
)

// local is a folder of this machine's disk, by its name.
type local struct{ name string }

var _ interface {
	FS
	Locker
	Measurer
} = (*local)(nil)

// Open takes a folder as the root of an FS.
func (Local) Open(ctx context.Context, folder string) (FS, error) {
	l := &local{path.Clean(folder)}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	info, err := os.Stat(l.native("."))
	if err == nil && !info.IsDir() {
		err = &fs.PathError{Op: "open", Path: folder, Err: errors.New("it is not a folder")}
	}
	return l, err
}

// Close has nothing to do.
func (l *local) Close() error { return nil }

func (l *local) native(name string) string { return native(l.name + "/" + name) }

func asKnown(err error) error { return err }

// Lstat describes what is at name.
func (l *local) Lstat(ctx context.Context, name string) (entry Entry, err error) {
	err = l.call(ctx, "lstat", name, func(native string) error {
		info, err := os.Lstat(native)
		if err == nil {
			entry, err = entryOf(native, info)
		}
		return err
	})
	return entry, err
}

// call does something with a name.
func (l *local) call(ctx context.Context, op, name string, do func(native string) error) error {
	if err := l.checked(ctx, op, name); err != nil {
		return err
	}
	return l.failed(op, name, do(l.native(name)))
}

// callAbove is call for what is done to a name, which the root has not.
func (l *local) callAbove(ctx context.Context, op, name string, do func(native string) error) error {
	if err := l.belowRoot(ctx, op, name); err != nil {
		return err
	}
	return l.failed(op, name, do(l.native(name)))
}

func entryOf(native string, info fs.FileInfo) (Entry, error) {
	entry := Entry{Name: info.Name(), Kind: Other, Mode: uint32(info.Mode().Perm()), Modified: info.ModTime(), Owner: Unowned, Group: Unowned}
	switch {
	case info.Mode().IsRegular():
		entry.Kind, entry.Size = File, info.Size()
	case info.IsDir():
		entry.Kind = Folder
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := os.Readlink(native)
		if err != nil {
			return entry, err
		}
		entry.Kind, entry.Target = Link, target
	}
	return entry, nil
}

// List returns the entries of a folder by name. What vanished meanwhile is left out.
func (l *local) List(ctx context.Context, name string) (entries []Entry, err error) {
	err = l.call(ctx, "list", name, func(native string) error {
		listed, err := os.ReadDir(native) // by name
		if err != nil {
			return err
		}
		entries = make([]Entry, 0, len(listed))
		for _, one := range listed {
			info, err := one.Info()
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return err
			}
			entry, err := entryOf(filepath.Join(native, one.Name()), info)
			if err != nil {
				return err
			}
			entries = append(entries, entry)
		}
		return nil
	})
	return entries, err
}

// Open reads a regular file from offset on.
func (l *local) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	var file *os.File
	err := l.call(ctx, "open", name, func(native string) error {
		info, err := os.Lstat(native)
		if err == nil && !info.Mode().IsRegular() {
			err = ErrNoFile
		}
		if err != nil {
			return err
		}
		if file, err = os.Open(native); err != nil || offset == 0 {
			return err
		}
		if _, err = file.Seek(offset, io.SeekStart); err != nil {
			err = errors.Join(err, file.Close())
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return reading{ctx, file}, nil
}

// Create makes a new file.
func (l *local) Create(ctx context.Context, name string, with Attributes) (io.WriteCloser, error) {
	var file *os.File
	err := l.callAbove(ctx, "create", name, func(native string) (err error) {
		file, err = os.OpenFile(native, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		return err
	})
	if err != nil {
		return nil, err
	}
	return &newFile{ctx: ctx, file: file, setTime: func() error { return setTime(file.Name(), with.Modified) }}, nil
}

func setTime(native string, modified time.Time) error {
	if modified.IsZero() {
		return nil
	}
	return os.Chtimes(native, time.Time{}, modified)
}

// Mkdir makes a folder.
func (l *local) Mkdir(ctx context.Context, name string, _ Attributes) error {
	return l.callAbove(ctx, "mkdir", name, func(native string) error { return os.Mkdir(native, 0o700) })
}

// Symlink makes a symbolic link.
func (l *local) Symlink(ctx context.Context, target, name string, _ Attributes) error {
	return l.callAbove(ctx, "symlink", name, func(native string) error { return os.Symlink(target, native) })
}

// Settle changes the time of an entry, and whether it can be written.
func (l *local) Settle(ctx context.Context, name string, with Attributes) error {
	return l.call(ctx, "change", name, func(native string) error {
		if err := os.Chmod(native, goMode(with.Mode)); err != nil {
			return err
		}
		return setTime(native, with.Modified)
	})
}

// Remove takes away a file, a link or an empty folder.
func (l *local) Remove(ctx context.Context, name string) error {
	return l.callAbove(ctx, "remove", name, os.Remove)
}

// RemoveAll takes away name and everything below it. Links are removed, not followed
// (os.RemoveAll).
func (l *local) RemoveAll(ctx context.Context, name string) error {
	return l.callAbove(ctx, "remove", name, os.RemoveAll)
}

// Rename moves a name.
func (l *local) Rename(ctx context.Context, old, new string) error {
	return l.callAbove(ctx, "rename", old, func(from string) error {
		return l.callAbove(ctx, "rename", new, func(to string) error { return os.Rename(from, to) })
	})
}

// SyncFolder has nothing to do: there is no such call, and none is needed.
func (l *local) SyncFolder(ctx context.Context, name string) error {
	return l.checked(ctx, "sync", name)
}

// FreeSpace returns the bytes this user may still write below name.
func (l *local) FreeSpace(ctx context.Context, name string) (free uint64, err error) {
	err = l.call(ctx, "ask for the free space at", name, func(native string) error {
		at, err := windows.UTF16PtrFromString(native)
		if err != nil {
			return err
		}
		return windows.GetDiskFreeSpaceEx(at, &free, nil, nil)
	})
	return free, err
}

// Writable asks by doing: access lists make every other answer a guess.
func (l *local) Writable(ctx context.Context, name string) error {
	return l.call(ctx, "write in", name, func(native string) error {
		probe, err := os.CreateTemp(native, ".wetland-*")
		if err != nil {
			return err
		}
		return errors.Join(probe.Close(), os.Remove(probe.Name()))
	})
}

// Lock takes the folder name until unlock is called or this process ends. It locks a file in
// the system's folder for temporary files, named after the folder: a folder itself cannot be
// locked here.
func (l *local) Lock(ctx context.Context, name string, _ func(user int) bool) (unlock func() error, err error) {
	err = l.call(ctx, "lock", name, func(native string) error {
		sum := sha256.Sum256([]byte(strings.ToLower(filepath.Clean(native))))
		lock := flock.New(filepath.Join(os.TempDir(), "wetland-"+hex.EncodeToString(sum[:8])+".lock"))
		held, err := lock.TryLock()
		if err == nil && !held {
			err = ErrLocked
		}
		unlock = lock.Unlock
		return err
	})
	return unlock, err
}
