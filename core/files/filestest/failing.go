package filestest

import (
	"context"
	"io"
	"sync/atomic"
	"syscall"
	"testing"

	"wetland/core/files"
)

// Failing is an FS whose call number At, counted from 1, answers EIO instead of doing
// anything; 0 is none. Writes and reads of an open file are calls, too.
type Failing struct {
	Able
	*Count
}

// Count is the calls that were made, on all roots of a disk.
type Count struct {
	At    int64
	Dead  bool // all calls after it fail, too
	calls atomic.Int64
}

// NewFailing returns the disk with a count of its calls, of which number at fails.
func NewFailing(disk files.Disk, at int64) (files.Disk, *Count) {
	count := &Count{At: at}
	return Around(disk, func(fsys files.FS) files.FS { return &Failing{Able{fsys}, count} }), count
}

// Calls is how many were made.
func (f *Count) Calls() int64 { return f.calls.Load() }

// Failed tells whether the call that fails was made.
func (f *Count) Failed() bool { return f.At > 0 && f.calls.Load() >= f.At }

func (f *Count) fail() error {
	if n := f.calls.Add(1); n == f.At || f.Dead && f.At > 0 && n > f.At {
		return syscall.EIO
	}
	return nil
}

// try makes a call that returns an error alone.
func (f *Count) try(call func() error) error {
	if err := f.fail(); err != nil {
		return err
	}
	return call()
}

// Lstat and all others are those of the FS, or fail.
func (f *Failing) Lstat(ctx context.Context, name string) (files.Entry, error) {
	if err := f.fail(); err != nil {
		return files.Entry{}, err
	}
	return f.Able.Lstat(ctx, name)
}

func (f *Failing) List(ctx context.Context, name string) ([]files.Entry, error) {
	if err := f.fail(); err != nil {
		return nil, err
	}
	return f.Able.List(ctx, name)
}

func (f *Failing) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	if err := f.fail(); err != nil {
		return nil, err
	}
	file, err := f.Able.Open(ctx, name, offset)
	if err != nil {
		return nil, err
	}
	return &failingReader{file, f.Count}, nil
}

type failingReader struct {
	io.ReadCloser
	of *Count
}

func (r *failingReader) Read(p []byte) (int, error) {
	if err := r.of.fail(); err != nil {
		return 0, err
	}
	return r.ReadCloser.Read(p)
}

func (f *Failing) Create(ctx context.Context, name string, with files.Attributes) (io.WriteCloser, error) {
	if err := f.fail(); err != nil {
		return nil, err
	}
	file, err := f.Able.Create(ctx, name, with)
	if err != nil {
		return nil, err
	}
	return &failingWriter{file, f.Count}, nil
}

type failingWriter struct {
	io.WriteCloser
	of *Count
}

func (w *failingWriter) Write(p []byte) (int, error) {
	if err := w.of.fail(); err != nil {
		return 0, err
	}
	return w.WriteCloser.Write(p)
}

func (w *failingWriter) Close() error {
	if err := w.of.fail(); err != nil {
		_ = w.WriteCloser.Close() // it is closed all the same, and not safe on disk
		return err
	}
	return w.WriteCloser.Close()
}

func (f *Failing) Mkdir(ctx context.Context, name string, with files.Attributes) error {
	return f.try(func() error { return f.Able.Mkdir(ctx, name, with) })
}

func (f *Failing) Symlink(ctx context.Context, target, name string, with files.Attributes) error {
	return f.try(func() error { return f.Able.Symlink(ctx, target, name, with) })
}

func (f *Failing) Settle(ctx context.Context, name string, with files.Attributes) error {
	return f.try(func() error { return f.Able.Settle(ctx, name, with) })
}

func (f *Failing) CopyMarks(ctx context.Context, from, to string) error {
	return f.try(func() error { return f.Able.CopyMarks(ctx, from, to) })
}

func (f *Failing) Remove(ctx context.Context, name string) error {
	return f.try(func() error { return f.Able.Remove(ctx, name) })
}

func (f *Failing) RemoveAll(ctx context.Context, name string) error {
	return f.try(func() error { return f.Able.RemoveAll(ctx, name) })
}

func (f *Failing) Rename(ctx context.Context, old, new string) error {
	return f.try(func() error { return f.Able.Rename(ctx, old, new) })
}

func (f *Failing) Exchange(ctx context.Context, a, b string) error {
	return f.try(func() error { return f.Able.Exchange(ctx, a, b) })
}

func (f *Failing) SyncFolder(ctx context.Context, name string) error {
	return f.try(func() error { return f.Able.SyncFolder(ctx, name) })
}

// Able has all abilities of the FS below it, and none that it has not: what stands in for a
// disk in a test embeds it, and changes what it is about.
type Able struct{ files.FS }

func (a Able) CanExchange() bool { return files.CanExchange(a.FS) }

func (a Able) Exchange(ctx context.Context, first, second string) error {
	return files.Exchange(ctx, a.FS, first, second)
}

func (a Able) CanOwn(owner, group int) bool { return files.CanOwn(a.FS, owner, group) }

func (a Able) CopyMarks(ctx context.Context, from, to string) error {
	return files.CopyMarks(ctx, a.FS, from, to)
}

func (a Able) MountedAt(ctx context.Context, name string) (bool, error) {
	return files.MountedAt(ctx, a.FS, name)
}

func (a Able) Lock(ctx context.Context, name string, counts func(user int) bool) (func() error, error) {
	return files.Lock(ctx, a.FS, name, counts)
}

func (a Able) FreeSpace(ctx context.Context, name string) (uint64, error) {
	return files.FreeSpace(ctx, a.FS, name)
}

// Around returns a disk each of whose roots is wrapped.
func Around(disk files.Disk, wrap func(files.FS) files.FS) files.Disk { return around{disk, wrap} }

type around struct {
	files.Disk
	wrap func(files.FS) files.FS
}

func (a around) Open(ctx context.Context, folder string) (files.FS, error) {
	fsys, err := a.Disk.Open(ctx, folder)
	if err != nil {
		return nil, err
	}
	return a.wrap(fsys), nil
}

// Whole is the whole disk of this machine, by whole names.
func Whole(t testing.TB) *files.Roots {
	t.Helper()
	roots, err := files.NewRoots(context.Background(), files.Local{}, "/")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = roots.Close() })
	return roots
}
