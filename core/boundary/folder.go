package boundary

import (
	"context"
	"io"
	"path"
	"slices"

	"wetland/core/files"
)

// folderOf is an open folder, in which names are held against what is allowed.
type folderOf struct {
	files.FS
	at      string
	allowed *grants
}

var _ files.Able = (*folderOf)(nil)

// check refuses what may not be done with a name.
func (f *folderOf) check(how use, op, name string) error {
	if err := files.CheckName(name); err != nil {
		return nil // the folder itself says what is wrong with it, and does nothing
	}
	if whole := path.Join(f.at, name); !f.allowed.may(how, whole) {
		return outside(op, whole)
	}
	return nil
}

func (f *folderOf) Lstat(ctx context.Context, name string) (files.Entry, error) {
	if err := f.check(look, "look at", name); err != nil {
		return files.Entry{}, err
	}
	return f.FS.Lstat(ctx, name)
}

// List names what may be looked at alone: what stands beside a site is not told.
func (f *folderOf) List(ctx context.Context, name string) ([]files.Entry, error) {
	if err := f.check(look, "list", name); err != nil {
		return nil, err
	}
	entries, err := f.FS.List(ctx, name)
	return slices.DeleteFunc(entries, func(e files.Entry) bool { return !f.allowed.may(look, path.Join(f.at, name, e.Name)) }), err
}

func (f *folderOf) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	if err := f.check(read, "open", name); err != nil {
		return nil, err
	}
	return f.FS.Open(ctx, name, offset)
}

func (f *folderOf) Create(ctx context.Context, name string, with files.Attributes) (io.WriteCloser, error) {
	if err := f.check(change, "create", name); err != nil {
		return nil, err
	}
	return f.FS.Create(ctx, name, with)
}

func (f *folderOf) Mkdir(ctx context.Context, name string, with files.Attributes) error {
	if err := f.check(change, "make the folder", name); err != nil {
		return err
	}
	return f.FS.Mkdir(ctx, name, with)
}

func (f *folderOf) Symlink(ctx context.Context, target, name string, with files.Attributes) error {
	if err := f.check(change, "make the link", name); err != nil {
		return err
	}
	return f.FS.Symlink(ctx, target, name, with)
}

func (f *folderOf) Settle(ctx context.Context, name string, with files.Attributes) error {
	if err := f.check(change, "change", name); err != nil {
		return err
	}
	return f.FS.Settle(ctx, name, with)
}

func (f *folderOf) Remove(ctx context.Context, name string) error {
	if err := f.check(change, "remove", name); err != nil {
		return err
	}
	return f.FS.Remove(ctx, name)
}

func (f *folderOf) RemoveAll(ctx context.Context, name string) error {
	if err := f.check(change, "remove", name); err != nil {
		return err
	}
	return f.FS.RemoveAll(ctx, name)
}

func (f *folderOf) Rename(ctx context.Context, old, new string) error {
	if err := f.both("rename", old, new); err != nil {
		return err
	}
	return f.FS.Rename(ctx, old, new)
}

func (f *folderOf) both(op, a, b string) error {
	if err := f.check(change, op, a); err != nil {
		return err
	}
	return f.check(change, op, b)
}

func (f *folderOf) SyncFolder(ctx context.Context, name string) error {
	if err := f.check(look, "sync", name); err != nil {
		return err
	}
	return f.FS.SyncFolder(ctx, name)
}

func (f *folderOf) Writable(ctx context.Context, name string) error {
	if err := f.check(look, "write in", name); err != nil {
		return err
	}
	return f.FS.Writable(ctx, name)
}

func (f *folderOf) CanExchange() bool { return files.CanExchange(f.FS) }

func (f *folderOf) Exchange(ctx context.Context, a, b string) error {
	if err := f.both("exchange", a, b); err != nil {
		return err
	}
	return files.Exchange(ctx, f.FS, a, b)
}

func (f *folderOf) CanOwn(owner, group int) bool { return files.CanOwn(f.FS, owner, group) }

func (f *folderOf) CopyMarks(ctx context.Context, from, to string) error {
	if err := f.check(look, "look at the marks of", from); err != nil {
		return err
	}
	if err := f.check(change, "give marks to", to); err != nil {
		return err
	}
	return files.CopyMarks(ctx, f.FS, from, to)
}

func (f *folderOf) MountedAt(ctx context.Context, name string) (bool, error) {
	if err := f.check(look, "ask what is mounted at", name); err != nil {
		return false, err
	}
	return files.MountedAt(ctx, f.FS, name)
}

func (f *folderOf) Lock(ctx context.Context, name string, counts func(user int) bool) (func() error, error) {
	if err := f.check(change, "lock", name); err != nil {
		return nil, err
	}
	return files.Lock(ctx, f.FS, name, counts)
}

func (f *folderOf) FreeSpace(ctx context.Context, name string) (uint64, error) {
	if err := f.check(look, "ask for the free space at", name); err != nil {
		return 0, err
	}
	return files.FreeSpace(ctx, f.FS, name)
}
