package files

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"wetland/core/durable"
)

// Local is the disk of this machine. On Unix it works by handles: every part of a name is
// opened from the handle of the part before, and no symbolic link is followed, so that
// nobody who may write to a site's folders can lead a call out of them. On Windows calls go by
// names.
type Local struct{}

var _ Disk = Local{}

func native(name string) string { return filepath.FromSlash(name) }

// Real resolves the symbolic links in name.
func (Local) Real(ctx context.Context, name string) (string, error) {
	if err := ctx.Err(); err != nil {
		return "", err
	}
	real, err := filepath.EvalSymlinks(native(name))
	return filepath.ToSlash(real), err
}

// TimeGrain is the finest difference in modification times that every file system of this
// machine's kind keeps.
const TimeGrain = time.Microsecond

var (
	errChanged = errors.New("somebody exchanged it meanwhile")
	errMounted = errors.New("something is mounted there")
)

// failed names the call and the file, by its whole name.
func (l *local) failed(op, name string, err error) error {
	if err = asKnown(err); err == nil {
		return nil
	}
	whole := l.whole(name)
	var known *fs.PathError
	if errors.As(err, &known) && known.Path == whole {
		return err
	}
	return &fs.PathError{Op: op, Path: whole, Err: err}
}

func (l *local) whole(name string) string { return path.Join(l.name, name) }

// checked refuses what is no name, and a context that has ended.
func (l *local) checked(ctx context.Context, op, name string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return l.failed(op, name, CheckName(name))
}

// belowRoot refuses the root as well.
func (l *local) belowRoot(ctx context.Context, op, name string) error {
	if name == "." {
		return l.failed(op, name, fs.ErrInvalid)
	}
	return l.checked(ctx, op, name)
}

// reading is an open file that is read as long as its context has not ended.
type reading struct {
	ctx  context.Context
	file *os.File
}

func (r reading) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.file.Read(p)
}

func (r reading) Close() error { return r.file.Close() }

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
	ctx     context.Context
	file    *os.File
	holes   bool
	setTime func() error
}

var zeros [64 << 10]byte

// Write writes p, or leaves a hole of its length.
func (f *newFile) Write(p []byte) (int, error) {
	const page = 4 << 10
	if err := f.ctx.Err(); err != nil {
		return 0, err
	}
	if len(p) < page || len(p) > len(zeros) || !bytes.Equal(p, zeros[:len(p)]) {
		return f.file.Write(p)
	}
	if _, err := f.file.Seek(int64(len(p)), io.SeekCurrent); err != nil {
		return 0, err
	}
	f.holes = true
	return len(p), nil
}

// Close gives the time of modification, syncs and closes.
func (f *newFile) Close() error {
	return errors.Join(f.finish(), f.file.Close())
}

func (f *newFile) finish() error {
	if err := f.ctx.Err(); err != nil {
		return err
	}
	if f.holes { // the last one may be at the end
		end, err := f.file.Seek(0, io.SeekCurrent)
		if err != nil {
			return err
		}
		if err := f.file.Truncate(end); err != nil {
			return err
		}
	}
	if err := f.setTime(); err != nil {
		return err
	}
	return durable.Sync(f.file)
}
