package filestest

import (
	"context"
	"io"
	"sync/atomic"
	"syscall"

	"wetland/core/files"
)

// Failing is a place whose call number At, counted from 1, answers EIO instead of doing
// anything; 0 is none. Writes and reads of an open file are calls, too.
type Failing struct {
	files.Place
	At    int64
	calls atomic.Int64
}

// Calls is how many were made.
func (f *Failing) Calls() int64 { return f.calls.Load() }

// Failed tells whether the call that fails was made.
func (f *Failing) Failed() bool { return f.At > 0 && f.calls.Load() >= f.At }

func (f *Failing) fail() error {
	if f.calls.Add(1) == f.At {
		return syscall.EIO
	}
	return nil
}

// try makes a call that returns an error alone.
func (f *Failing) try(call func() error) error {
	if err := f.fail(); err != nil {
		return err
	}
	return call()
}

// Lstat and all others are those of the place, or fail.
func (f *Failing) Lstat(name string) (files.Entry, error) {
	if err := f.fail(); err != nil {
		return files.Entry{}, err
	}
	return f.Place.Lstat(name)
}

func (f *Failing) List(name string) ([]files.Entry, error) {
	if err := f.fail(); err != nil {
		return nil, err
	}
	return f.Place.List(name)
}

func (f *Failing) Open(name string, offset int64) (io.ReadCloser, error) {
	if err := f.fail(); err != nil {
		return nil, err
	}
	file, err := f.Place.Open(name, offset)
	if err != nil {
		return nil, err
	}
	return &failingReader{file, f}, nil
}

type failingReader struct {
	io.ReadCloser
	of *Failing
}

func (r *failingReader) Read(p []byte) (int, error) {
	if err := r.of.fail(); err != nil {
		return 0, err
	}
	return r.ReadCloser.Read(p)
}

func (f *Failing) Create(name string, with files.Attributes) (io.WriteCloser, error) {
	if err := f.fail(); err != nil {
		return nil, err
	}
	file, err := f.Place.Create(name, with)
	if err != nil {
		return nil, err
	}
	return &failingWriter{file, f}, nil
}

type failingWriter struct {
	io.WriteCloser
	of *Failing
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

func (f *Failing) Mkdir(name string, with files.Attributes) error {
	return f.try(func() error { return f.Place.Mkdir(name, with) })
}

func (f *Failing) Symlink(target, name string, with files.Attributes) error {
	return f.try(func() error { return f.Place.Symlink(target, name, with) })
}

func (f *Failing) Settle(name string, with files.Attributes) error {
	return f.try(func() error { return f.Place.Settle(name, with) })
}

func (f *Failing) CopyMarks(from, to string) error {
	return f.try(func() error { return f.Place.CopyMarks(from, to) })
}

func (f *Failing) Remove(name string) error {
	return f.try(func() error { return f.Place.Remove(name) })
}

func (f *Failing) RemoveAll(ctx context.Context, name string) error {
	return f.try(func() error { return f.Place.RemoveAll(ctx, name) })
}

func (f *Failing) Rename(old, new string) error {
	return f.try(func() error { return f.Place.Rename(old, new) })
}

func (f *Failing) Exchange(a, b string) error {
	return f.try(func() error { return f.Place.Exchange(a, b) })
}

func (f *Failing) SyncFolder(name string) error {
	return f.try(func() error { return f.Place.SyncFolder(name) })
}
