package packs

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"wetland/core/durable"
)

// Bytes is where a store keeps its data: a folder now, object storage later. Names are
// slash-separated, and valid as fs.ValidPath says; others are fs.ErrInvalid. What an entry that is not
// there is asked for wraps fs.ErrNotExist. Calls may be made at the same time, by several processes,
// too. A call whose context has ended does nothing, and returns its error. Package bytestest holds a
// Bytes against all of this.
type Bytes interface {
	// Where names the place for people.
	Where() string
	// Put begins a new entry, which never changes once it is written. It is visible, whole and
	// safe, once Commit returned nil, and not at all before. Where the name is taken, Put or
	// Commit wraps fs.ErrExist.
	Put(ctx context.Context, name string) (Writer, error)
	// Get reads length bytes from offset on, fewer where the entry ends; length -1 is to the end.
	Get(ctx context.Context, name string, offset, length int64) (io.ReadCloser, error)
	// Size returns how many bytes an entry has.
	Size(ctx context.Context, name string) (int64, error)
	// List returns the names that begin with prefix and have no more slashes than it, sorted.
	List(ctx context.Context, prefix string) ([]string, error)
	Delete(ctx context.Context, name string) error
	// Replace writes a small entry anew, whole and safe, if it holds just what it held before;
	// else it changes nothing, and wraps ErrChanged. Whoever reads it finds one or the other.
	Replace(ctx context.Context, name string, before, now []byte) error
	// Hold keeps a place for reading and adding, which many may at once, or, alone, for taking
	// away. It waits for whoever has it; release, or the end of the process, gives it up.
	Hold(ctx context.Context, alone bool) (release func() error, err error)
	// Clear takes away what writers that died left over. Call it while nobody writes.
	Clear(ctx context.Context) error
}

// ErrChanged says that an entry is not as it was any more.
var ErrChanged = errors.New("somebody else wrote it meanwhile")

// Writer takes the bytes of a new entry.
type Writer interface {
	io.Writer
	Commit() error
	Abort() error // of no effect after Commit
}

// DiskBytes keeps the store in a folder, readable by its owner only.
type DiskBytes struct{ Dir string }

// PartSuffix ends the names of files that are no entries (yet).
const PartSuffix = ".part"

// at is the file of an entry.
func (d DiskBytes) at(ctx context.Context, op, name string) (string, error) {
	if err := ctx.Err(); err != nil {
		return "", err
	}
	if !fs.ValidPath(name) || strings.HasSuffix(name, PartSuffix) {
		return "", &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	return filepath.Join(d.Dir, filepath.FromSlash(name)), nil
}

// Where is the folder.
func (d DiskBytes) Where() string { return d.Dir }

type diskWriter struct {
	*os.File
	ctx   context.Context // of the entry: it ends what is written
	final string
	done  bool
}

// Put begins an entry.
func (d DiskBytes) Put(ctx context.Context, name string) (Writer, error) {
	final, err := d.at(ctx, "write", name)
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(final); err == nil {
		return nil, fmt.Errorf("%s is in the store already: %w", name, fs.ErrExist)
	}
	return newDiskWriter(ctx, final)
}

func newDiskWriter(ctx context.Context, final string) (*diskWriter, error) {
	if err := durable.MkdirAll(filepath.Dir(final)); err != nil {
		return nil, err
	}
	file, err := os.CreateTemp(filepath.Dir(final), "*"+PartSuffix) // 0600
	if err != nil {
		return nil, err
	}
	return &diskWriter{File: file, ctx: ctx, final: final}, nil
}

// Write adds bytes to the entry.
func (w *diskWriter) Write(data []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	return w.File.Write(data)
}

// Commit makes the entry safe, and visible.
func (w *diskWriter) Commit() error { return w.commit(renameNew) }

func (w *diskWriter) commit(rename func(from, to string) error) error {
	w.done = true
	if err := errors.Join(w.ctx.Err(), durable.Sync(w.File), w.Close()); err != nil {
		return errors.Join(err, os.Remove(w.Name()))
	}
	if err := rename(w.Name(), w.final); err != nil {
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

// Replace writes an entry anew. Whoever else does is kept away by a lock on a file beside the
// entries.
func (d DiskBytes) Replace(ctx context.Context, name string, before, now []byte) error {
	final, err := d.at(ctx, "replace", name)
	if err != nil {
		return err
	}
	lock := flock.New(filepath.Join(d.Dir, "replacing"+PartSuffix), flock.SetFlag(os.O_RDWR|os.O_CREATE),
		flock.SetPermissions(0o600))
	if _, err := lock.TryLockContext(ctx, tryAgain); err != nil {
		return fmt.Errorf("wait for another process that writes %s: %w", name, err)
	}
	defer lock.Close()
	stands, err := os.ReadFile(final)
	if err != nil {
		return err
	}
	if !bytes.Equal(stands, before) {
		return fmt.Errorf("%s: %w", name, ErrChanged)
	}
	w, err := newDiskWriter(ctx, final)
	if err != nil {
		return err
	}
	if _, err := w.Write(now); err != nil {
		return errors.Join(err, w.Abort())
	}
	return w.commit(os.Rename)
}

// tryAgain is how long to wait before a lock is tried again.
const tryAgain = 50 * time.Millisecond

// Hold locks the marker, which every store has.
func (d DiskBytes) Hold(ctx context.Context, alone bool) (release func() error, err error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(d.Dir, MarkerName), flock.SetFlag(os.O_RDONLY))
	try := lock.TryRLockContext
	if alone {
		try = lock.TryLockContext
	}
	if _, err := try(ctx, tryAgain); err != nil {
		return nil, fmt.Errorf("wait for another process that works on the store: %w", err)
	}
	return lock.Close, nil
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

// isForeign tells of a folder that holds something, and is no store.
func (d DiskBytes) isForeign() (bool, error) {
	entries, err := os.ReadDir(d.Dir)
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(entries) == 0 {
		return false, nil
	}
	return !slices.ContainsFunc(entries, func(entry fs.DirEntry) bool { return entry.Name() == MarkerName }), err
}

// getWhole reads a small entry.
func getWhole(ctx context.Context, from Bytes, name string) ([]byte, error) {
	return getUpTo(ctx, from, name, mostMarker)
}

// getUpTo reads so many bytes of an entry.
func getUpTo(ctx context.Context, from Bytes, name string, most int64) ([]byte, error) {
	r, err := from.Get(ctx, name, 0, -1)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, most))
}

// mostMarker bounds what is read of entries that are known to be small, in bytes.
const mostMarker = 1 << 16

// PutWhole writes an entry that must not be there yet; else its error wraps
// fs.ErrExist.
func PutWhole(ctx context.Context, to Bytes, name string, data []byte) error {
	w, err := to.Put(ctx, name)
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
func (d DiskBytes) Get(ctx context.Context, name string, offset, length int64) (io.ReadCloser, error) {
	at, err := d.at(ctx, "read", name)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(at)
	if err != nil {
		return nil, err
	}
	if length < 0 {
		length = math.MaxInt64 - max(0, offset)
	}
	return rangeReader{io.NewSectionReader(file, offset, length), file}, nil
}

// Size is that of an entry.
func (d DiskBytes) Size(ctx context.Context, name string) (int64, error) {
	at, err := d.at(ctx, "look at", name)
	if err != nil {
		return 0, err
	}
	info, err := os.Stat(at)
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// List names the entries of a folder.
func (d DiskBytes) List(ctx context.Context, prefix string) ([]string, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	folder := path.Dir(prefix + "x")
	if !fs.ValidPath(folder) {
		return nil, &fs.PathError{Op: "list", Path: prefix, Err: fs.ErrInvalid}
	}
	entries, err := os.ReadDir(filepath.Join(d.Dir, filepath.FromSlash(folder)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var names []string
	for _, entry := range entries {
		name := path.Join(folder, entry.Name())
		if entry.Type().IsRegular() && strings.HasPrefix(name, prefix) && !strings.HasSuffix(name, PartSuffix) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names, err
}

// Clear removes what crashes left.
func (d DiskBytes) Clear(ctx context.Context) error {
	return filepath.WalkDir(d.Dir, func(name string, entry fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case name == d.Dir && errors.Is(err, fs.ErrNotExist):
			return nil // nothing was ever put there
		case err == nil && entry.Type().IsRegular() && strings.HasSuffix(name, PartSuffix):
			return os.Remove(name)
		}
		return err
	})
}

// Delete removes an entry.
func (d DiskBytes) Delete(ctx context.Context, name string) error {
	at, err := d.at(ctx, "delete", name)
	if err != nil {
		return err
	}
	return os.Remove(at)
}
