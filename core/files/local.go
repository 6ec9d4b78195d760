package files

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"wetland/core/durable"
)

// Local is the disk of this machine. On Unix it works by handles: every part of a path is
// opened from the handle of the part before, and no symbolic link is followed, so that
// nobody who may write to a site's folders can lead a call out of them. Names must be free of
// links, then: ask Real once. On Windows calls go by names.
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

// The reasons why a name is left alone. A *fs.PathError around them says which one it is.
var (
	// ErrNoFile is returned for pipes, sockets and devices where a file or folder is wanted.
	ErrNoFile = errors.New("it is neither a file nor a folder")
	// ErrManyNames is returned for a file of somebody else's that has further names (hard
	// links): what is done to it would be done there, too.
	ErrManyNames = errors.New("it belongs to somebody else and has further names elsewhere (hard links)")
	// ErrLink is returned where a symbolic link is in the way.
	ErrLink    = errors.New("a symbolic link is in the way, which is not followed")
	errChanged = errors.New("somebody exchanged it meanwhile")
	errMounted = errors.New("something is mounted there")
)

// specialModes are the bits that set user, group and the sticky one.
var specialModes = [...]struct {
	bit   uint32
	goBit fs.FileMode
}{{0o4000, fs.ModeSetuid}, {0o2000, fs.ModeSetgid}, {0o1000, fs.ModeSticky}}

func goMode(mode uint32) fs.FileMode {
	m := fs.FileMode(mode & 0o777)
	for _, one := range specialModes {
		if mode&one.bit != 0 {
			m |= one.goBit
		}
	}
	return m
}

// newFile is a file that is safe on disk once it is closed. Long stretches of zeros take no
// room, as in the sparse files that they mostly come from.
type newFile struct {
	*os.File
	holes   bool
	setTime func() error
}

var zeros [64 << 10]byte

// Write writes p, or leaves a hole of its length.
func (f *newFile) Write(p []byte) (int, error) {
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
func (f *newFile) ReadFrom(r io.Reader) (int64, error) {
	return io.Copy(struct{ io.Writer }{f}, r)
}

// Close gives the time of modification, syncs and closes.
func (f *newFile) Close() error {
	return errors.Join(f.finish(), f.File.Close())
}

func (f *newFile) finish() error {
	if f.holes { // the last one may be at the end
		end, err := f.Seek(0, io.SeekCurrent)
		if err != nil {
			return err
		}
		if err := f.Truncate(end); err != nil {
			return err
		}
	}
	if err := f.setTime(); err != nil {
		return err
	}
	return durable.Sync(f.File)
}
