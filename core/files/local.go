package files

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"
)

// Local is the disk of this machine.
type Local struct{}

var _ Place = Local{}

func native(name string) string { return filepath.FromSlash(name) }

// Abilities tells what the operating system offers; a file system below may
// still refuse an exchange.
func (Local) Abilities() Abilities {
	return Abilities{Exchange: canExchange, Owners: hasOwners, Links: true, TimeGrain: time.Microsecond}
}

// Real resolves the symbolic links in name.
func (Local) Real(name string) (string, error) {
	real, err := filepath.EvalSymlinks(native(name))
	return filepath.ToSlash(real), err
}

// Lstat describes what is at name.
func (Local) Lstat(name string) (Entry, error) {
	info, err := os.Lstat(native(name))
	if err != nil {
		return Entry{}, err
	}
	return entryOf(name, info)
}

func entryOf(name string, info fs.FileInfo) (Entry, error) {
	entry := Entry{Name: filepath.Base(name), Mode: posixMode(info.Mode()), Modified: info.ModTime(), Owner: Unowned, Group: Unowned}
	describeOwner(&entry, info)
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
	default:
		entry.Kind = Other
	}
	return entry, nil
}

// specialModes are the bits that set user, group and the sticky one.
var specialModes = [...]struct {
	bit   uint32
	goBit fs.FileMode
}{{0o4000, fs.ModeSetuid}, {0o2000, fs.ModeSetgid}, {0o1000, fs.ModeSticky}}

func posixMode(m fs.FileMode) uint32 {
	mode := uint32(m.Perm())
	for _, one := range specialModes {
		if m&one.goBit != 0 {
			mode |= one.bit
		}
	}
	return mode
}

func goMode(mode uint32) fs.FileMode {
	m := fs.FileMode(mode & 0o777)
	for _, one := range specialModes {
		if mode&one.bit != 0 {
			m |= one.goBit
		}
	}
	return m
}

// List returns the entries of a folder by name. What vanished meanwhile is left out.
func (Local) List(name string) ([]Entry, error) {
	listed, err := os.ReadDir(native(name))
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
	slices.SortFunc(entries, func(a, b Entry) int { return cmp.Compare(a.Name, b.Name) })
	return entries, nil
}

// Open reads a regular file from offset on.
func (Local) Open(name string, offset int64) (io.ReadCloser, error) {
	file, err := os.OpenFile(native(name), os.O_RDONLY|noFollow, 0)
	if err != nil {
		return nil, err
	}
	if offset > 0 {
		if _, err := file.Seek(offset, io.SeekStart); err != nil {
			return nil, errors.Join(err, file.Close())
		}
	}
	return file, nil
}

// syncedFile is safe on disk once it is closed. Long stretches of zeros take no room,
// as in the sparse files that they mostly come from.
type syncedFile struct {
	*os.File
	with  Attributes
	holes bool
}

var zeros [64 << 10]byte

// Write writes p, or leaves a hole of its length.
func (f *syncedFile) Write(p []byte) (int, error) {
	const page = 4 << 10
	if len(p) < page || len(p) > len(zeros) || !bytes.Equal(p, zeros[:len(p)]) {
		return f.File.Write(p)
	}
	if _, err := f.Seek(int64(len(p)), io.SeekCurrent); err != nil {
		return 0, err
	}
	f.holes = true
	return len(p), nil
}

// ReadFrom copies through Write.
func (f *syncedFile) ReadFrom(r io.Reader) (int64, error) {
	return io.Copy(struct{ io.Writer }{f}, r)
}

// Close syncs, closes and gives the time of modification.
func (f *syncedFile) Close() error {
	if f.holes { // the last one may be at the end
		end, err := f.Seek(0, io.SeekCurrent)
		if err == nil {
			err = f.Truncate(end)
		}
		if err != nil {
			return errors.Join(err, f.File.Close())
		}
	}
	if err := f.Sync(); err != nil {
		return errors.Join(err, f.File.Close())
	}
	if err := f.File.Close(); err != nil {
		return err
	}
	return setTime(f.Name(), f.with.Modified)
}

func setTime(name string, modified time.Time) error {
	if modified.IsZero() {
		return nil
	}
	return os.Chtimes(name, time.Time{}, modified)
}

// Create makes a new file.
func (l Local) Create(name string, with Attributes) (io.WriteCloser, error) {
	file, err := os.OpenFile(native(name), os.O_WRONLY|os.O_CREATE|os.O_EXCL|noFollow, 0o600)
	if err != nil {
		return nil, err
	}
	if err := l.own(name, with); err != nil {
		return nil, errors.Join(err, file.Close(), os.Remove(native(name)))
	}
	return &syncedFile{File: file, with: with}, nil
}

// own gives owner and mode, in this order: a change of owner clears bits.
func (l Local) own(name string, with Attributes) error {
	if with.Owner != Unowned || with.Group != Unowned {
		if err := chown(native(name), with.Owner, with.Group); err != nil {
			return fmt.Errorf("give %s its owner: %w", name, err)
		}
	}
	return os.Chmod(native(name), goMode(with.Mode))
}

// Mkdir makes a folder.
func (l Local) Mkdir(name string, with Attributes) error {
	if err := os.Mkdir(native(name), 0o700); err != nil {
		return err
	}
	return l.own(name, with)
}

// Symlink makes a symbolic link; its mode is the system's.
func (Local) Symlink(target, name string, with Attributes) error {
	if err := os.Symlink(target, native(name)); err != nil {
		return err
	}
	if with.Owner == Unowned && with.Group == Unowned {
		return nil
	}
	return chown(native(name), with.Owner, with.Group)
}

// Settle changes owner, mode and time of an entry that is no link.
func (l Local) Settle(name string, with Attributes) error {
	if err := l.own(name, with); err != nil {
		return err
	}
	return setTime(native(name), with.Modified)
}

// CopyMarks gives one entry the marks of another.
func (Local) CopyMarks(from, to string) error { return copyMarks(native(from), native(to)) }

// MountedAt tells whether something is mounted at name.
func (Local) MountedAt(name string) (bool, error) {
	return mountedAt(native(name), filepath.Dir(native(name)))
}

func onAnotherDevice(name, above string) (bool, error) {
	own, err := Local{}.Lstat(name)
	if err != nil {
		return false, err
	}
	outer, err := Local{}.Lstat(above)
	return own.Device != outer.Device, err
}

// Remove takes away a file, a link or an empty folder.
func (Local) Remove(name string) error { return os.Remove(native(name)) }

// Rename moves a name.
func (Local) Rename(old, new string) error { return os.Rename(native(old), native(new)) }

// Exchange swaps two names in one step.
func (Local) Exchange(a, b string) error { return exchange(native(a), native(b)) }

// SyncFolder makes the folder's names safe.
func (Local) SyncFolder(name string) error {
	if !hasOwners { // Windows has no such call and needs none
		return nil
	}
	folder, err := os.Open(native(name))
	if err != nil {
		return err
	}
	return errors.Join(folder.Sync(), folder.Close())
}

// FreeSpace returns the bytes an ordinary user may still write below name.
func (Local) FreeSpace(name string) (uint64, error) { return freeSpace(native(name)) }

// Writable tells whether entries can be made in the folder name.
func (Local) Writable(name string) error { return writable(native(name)) }

// CanOwn tells whether this process may give files to the owner and group.
func (Local) CanOwn(owner, group int) bool { return canOwn(owner, group) }

// Lock takes the folder name until unlock is called or this process ends.
func (Local) Lock(name string) (func() error, error) { return lockFolder(native(name)) }
