package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/sys/windows"
)

const (
	hasOwners   = false
	canExchange = false
)

// Lstat describes what is at name.
func (Local) Lstat(name string) (Entry, error) {
	info, err := os.Lstat(native(name))
	if err != nil {
		return Entry{}, err
	}
	return entryOf(name, info)
}

func entryOf(name string, info fs.FileInfo) (Entry, error) {
	entry := Entry{Name: filepath.Base(name), Kind: Other, Mode: uint32(info.Mode().Perm()), Modified: info.ModTime(), Owner: Unowned, Group: Unowned}
	switch {
	case info.Mode().IsRegular():
		entry.Kind, entry.Size = File, info.Size()
	case info.IsDir():
		entry.Kind = Folder
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := os.Readlink(native(name))
		if err != nil {
			return entry, err
		}
		entry.Kind, entry.Target = Link, target
	}
	return entry, nil
}

// List returns the entries of a folder by name. What vanished meanwhile is left out.
func (Local) List(name string) ([]Entry, error) {
	listed, err := os.ReadDir(native(name)) // by name
	if err != nil {
		return nil, err
	}
	entries := make([]Entry, 0, len(listed))
	for _, one := range listed {
		info, err := one.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		entry, err := entryOf(name+"/"+one.Name(), info)
		if err != nil {
			return nil, err
		}
		entries = append(entries, entry)
	}
	return entries, nil
}

// Open reads a regular file from offset on.
func (Local) Open(name string, offset int64) (io.ReadCloser, error) {
	if info, err := os.Lstat(native(name)); err == nil && !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: ErrNoFile}
	}
	file, err := os.Open(native(name))
	if err != nil || offset == 0 {
		return file, err
	}
	if _, err := file.Seek(offset, io.SeekStart); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}

// Create makes a new file.
func (Local) Create(name string, with Attributes) (io.WriteCloser, error) {
	file, err := os.OpenFile(native(name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	return &newFile{File: file, setTime: func() error { return setTime(name, with.Modified) }}, nil
}

func setTime(name string, modified time.Time) error {
	if modified.IsZero() {
		return nil
	}
	return os.Chtimes(native(name), time.Time{}, modified)
}

// Mkdir makes a folder.
func (Local) Mkdir(name string, _ Attributes) error { return os.Mkdir(native(name), 0o700) }

// Symlink makes a symbolic link.
func (Local) Symlink(target, name string, _ Attributes) error {
	return os.Symlink(target, native(name))
}

// Settle changes the time of an entry, and whether it can be written.
func (Local) Settle(name string, with Attributes) error {
	if err := os.Chmod(native(name), goMode(with.Mode)); err != nil {
		return err
	}
	return setTime(name, with.Modified)
}

// CopyMarks has nothing to carry over: what is new inherits its access list from the folder.
func (Local) CopyMarks(string, string) error { return nil }

// MountedAt is not known here.
func (Local) MountedAt(string) (bool, error) { return false, nil }

// Remove takes away a file, a link or an empty folder.
func (Local) Remove(name string) error { return os.Remove(native(name)) }

// RemoveAll takes away name and everything below it. Links are removed, not followed
// (os.RemoveAll).
func (Local) RemoveAll(_ context.Context, name string) error { return os.RemoveAll(native(name)) }

// Rename moves a name.
func (Local) Rename(old, new string) error { return os.Rename(native(old), native(new)) }

// Exchange cannot be done here.
func (Local) Exchange(string, string) error { return ErrUnsupported }

// SyncFolder has nothing to do: there is no such call, and none is needed.
func (Local) SyncFolder(string) error { return nil }

// FreeSpace returns the bytes this user may still write below name.
func (Local) FreeSpace(name string) (uint64, error) {
	path, err := windows.UTF16PtrFromString(native(name))
	if err != nil {
		return 0, err
	}
	var free uint64
	err = windows.GetDiskFreeSpaceEx(path, &free, nil, nil)
	return free, err
}

// Writable asks by doing: access lists make every other answer a guess.
func (Local) Writable(name string) error {
	probe, err := os.CreateTemp(native(name), ".wetland-*")
	if err != nil {
		return err
	}
	return errors.Join(probe.Close(), os.Remove(probe.Name()))
}

// CanOwn is always so: files have the owner who makes them.
func (Local) CanOwn(int, int) bool { return true }

// Lock takes the folder name until unlock is called or this process ends. It locks a file in
// the system's folder for temporary files, named after the folder: a folder itself cannot be
// locked here.
func (Local) Lock(name string) (func() error, error) {
	sum := sha256.Sum256([]byte(strings.ToLower(filepath.Clean(native(name)))))
	lock := flock.New(filepath.Join(os.TempDir(), "wetland-"+hex.EncodeToString(sum[:8])+".lock"))
	held, err := lock.TryLock()
	if err != nil {
		return nil, err
	}
	if !held {
		return nil, ErrLocked
	}
	return lock.Unlock, nil
}
