package packs

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/durable"
)

// Bytes is where a store keeps its data: a folder now, object storage later. What
// is once written never changes. Names are slash-separated.
type Bytes interface {
	// Put begins a new entry. It is visible, whole and safe, once Commit returned nil.
	// Where the name is taken, one of both wraps fs.ErrExist.
	Put(name string) (Writer, error)
	// Get reads length bytes from offset on; length -1 is to the end.
	Get(name string, offset, length int64) (io.ReadCloser, error)
	// Size returns how many bytes an entry has.
	Size(name string) (int64, error)
	// List returns the names that begin with prefix, sorted.
	List(prefix string) ([]string, error)
	Delete(name string) error
	// Clear takes away what writers that died left over. Call it while nobody writes.
	Clear() error
}

// Writer takes the bytes of a new entry.
type Writer interface {
	io.Writer
	Commit() error
	Abort() error // of no effect after Commit
}

// DiskBytes keeps the store in a folder, readable by its owner only.
type DiskBytes struct{ Dir string }

const PartSuffix = ".part"

type diskWriter struct {
	*os.File
	final string
	done  bool
}

// Put begins an entry.
func (d DiskBytes) Put(name string) (Writer, error) {
	final := filepath.Join(d.Dir, filepath.FromSlash(name))
	if _, err := os.Lstat(final); err == nil {
		return nil, fmt.Errorf("%s is in the store already: %w", name, fs.ErrExist)
	}
	if err := durable.MkdirAll(filepath.Dir(final)); err != nil {
		return nil, err
	}
	file, err := os.CreateTemp(filepath.Dir(final), "*"+PartSuffix) // 0600
	if err != nil {
		return nil, err
	}
	return &diskWriter{File: file, final: final}, nil
}

// Commit makes the entry safe, and visible.
func (w *diskWriter) Commit() error {
	w.done = true
	if err := errors.Join(durable.Sync(w.File), w.Close()); err != nil {
		return errors.Join(err, os.Remove(w.Name()))
	}
	if err := renameNew(w.Name(), w.final); err != nil {
		return errors.Join(err, os.Remove(w.Name()))
	}
	return durable.SyncFolder(filepath.Dir(w.final))
}

// Abort leaves nothing behind.
func (w *diskWriter) Abort() error {
	if w.done {
		return nil
	}
	w.done = true
	return errors.Join(w.Close(), os.Remove(w.Name()))
}

// renameNew moves a file to a name that must not be taken, by whatever process.
func renameNew(from, to string) error {
	err := os.Link(from, to)
	if err == nil {
		return os.Remove(from)
	}
	if errors.Is(err, fs.ErrExist) {
		return err
	}
	// A file system without hard links: the name is looked at first.
	if _, err := os.Lstat(to); err == nil {
		return &fs.PathError{Op: "make", Path: to, Err: fs.ErrExist}
	}
	return os.Rename(from, to)
}

// PutWhole writes an entry that must not be there yet; else its error wraps
// fs.ErrExist.
func PutWhole(to Bytes, name string, data []byte) error {
	w, err := to.Put(name)
	if err != nil {
		return err
	}
	if _, err := w.Write(data); err != nil {
		return errors.Join(fmt.Errorf("write %s: %w", path.Base(name), err), w.Abort())
	}
	return w.Commit()
}

// rangeReader reads a stretch of a file.
type rangeReader struct {
	io.Reader
	io.Closer
}

// Get reads a part of an entry.
func (d DiskBytes) Get(name string, offset, length int64) (io.ReadCloser, error) {
	file, err := os.Open(filepath.Join(d.Dir, filepath.FromSlash(name)))
	if err != nil {
		return nil, err
	}
	if length < 0 {
		info, err := file.Stat()
		if err != nil {
			return nil, errors.Join(err, file.Close())
		}
		length = max(0, info.Size()-offset)
	}
	return rangeReader{io.NewSectionReader(file, offset, length), file}, nil
}

// Size is that of an entry.
func (d DiskBytes) Size(name string) (int64, error) {
	info, err := os.Stat(filepath.Join(d.Dir, filepath.FromSlash(name)))
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// List names the entries of a folder.
func (d DiskBytes) List(prefix string) ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(d.Dir, filepath.FromSlash(path.Dir(prefix+"x"))))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	var names []string
	for _, entry := range entries {
		name := path.Join(path.Dir(prefix+"x"), entry.Name())
		if strings.HasPrefix(name, prefix) && !strings.HasSuffix(name, PartSuffix) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names, err
}

// Clear removes what crashes left.
func (d DiskBytes) Clear() error {
	left, err := filepath.Glob(filepath.Join(d.Dir, "*", "*"+PartSuffix))
	for _, name := range left {
		err = errors.Join(err, os.Remove(name))
	}
	return err
}

// Delete removes an entry.
func (d DiskBytes) Delete(name string) error {
	return os.Remove(filepath.Join(d.Dir, filepath.FromSlash(name)))
}
