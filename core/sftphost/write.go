package sftphost

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"wetland/core/files"
)

// writing is one that is written.
type writing struct {
	opened
	root *root
	with files.Attributes
}

func (f writing) Write(p []byte) (int, error) {
	if err := errors.Join(f.ctx.Err(), f.root.lease.check()); err != nil {
		return 0, err
	}
	n, err := f.file.Write(p)
	if err != nil {
		err = explain("write", f.name, err)
	}
	return n, err
}

// Close makes the bytes safe where the server can, and gives the file its time.
func (f writing) Close() error {
	if err := errors.Join(f.ctx.Err(), f.root.lease.check()); err != nil {
		_ = f.file.Close() // it is left cut off
		return err
	}
	var err error
	if _, can := f.root.client.HasExtension("fsync@openssh.com"); can {
		err = f.file.Sync()
	}
	if err = errors.Join(err, f.file.Close()); err != nil {
		return explain("write", f.name, err)
	}
	return f.root.setTime(f.name, f.with)
}

func (r *root) setTime(whole string, with files.Attributes) error {
	if with.Modified.IsZero() {
		return nil
	}
	if err := r.client.Chtimes(whole, with.Modified, with.Modified); err != nil {
		return explain("set the time of", whole, err)
	}
	return nil
}

// making explains why something could not be made: SFTP has no word for what is there already.
func (r *root) making(op, whole string, err error) error {
	if _, there := r.client.Lstat(whole); there == nil && !errors.Is(err, fs.ErrPermission) {
		return &fs.PathError{Op: op, Path: whole, Err: fs.ErrExist}
	}
	return explain(op, whole, err)
}

func (r *root) Create(ctx context.Context, name string, with files.Attributes) (io.WriteCloser, error) {
	whole, err := r.below(ctx, "create", name)
	if err != nil {
		return nil, err
	}
	file, err := r.client.OpenFile(whole, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return nil, r.making("create", whole, err)
	}
	if err := r.give(whole, with); err != nil { // before there is anything in it
		return nil, errors.Join(err, file.Close(), r.client.Remove(whole))
	}
	return writing{opened{ctx, file, whole}, r, with}, nil
}

// give gives owners and mode, in this order: a change of the owner takes some of the mode away.
func (r *root) give(whole string, with files.Attributes) error {
	if with.Owner != files.Unowned || with.Group != files.Unowned {
		if err := r.own(whole, with); err != nil {
			return explain("give the owner of", whole, err)
		}
	}
	if err := r.client.Chmod(whole, modeOf(with.Mode)); err != nil {
		return explain("give the mode of", whole, err)
	}
	return nil
}

// own gives an owner and a group; what is to stay has to be said, too.
func (r *root) own(whole string, with files.Attributes) error {
	info, err := r.client.Lstat(whole)
	if err != nil {
		return err
	}
	is, ok := info.Sys().(*sftp.FileStat)
	if !ok {
		return errors.ErrUnsupported
	}
	owner, group := int(is.UID), int(is.GID)
	if with.Owner != files.Unowned {
		owner = with.Owner
	}
	if with.Group != files.Unowned {
		group = with.Group
	}
	if owner == int(is.UID) && group == int(is.GID) {
		return nil
	}
	return r.client.Chown(whole, owner, group)
}

// modeOf is a mode of POSIX as package fs writes it.
func modeOf(mode uint32) fs.FileMode {
	m := fs.FileMode(mode & 0o777)
	for bit, is := range map[uint32]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if mode&bit != 0 {
			m |= is
		}
	}
	return m
}

func (r *root) Mkdir(ctx context.Context, name string, with files.Attributes) error {
	whole, err := r.below(ctx, "make the folder", name)
	if err != nil {
		return err
	}
	if err := r.client.Mkdir(whole); err != nil {
		return r.making("make the folder", whole, err)
	}
	return errors.Join(r.give(whole, with), r.setTime(whole, with))
}

func (r *root) Symlink(ctx context.Context, target, name string, _ files.Attributes) error {
	whole, err := r.below(ctx, "make the link", name)
	if err != nil {
		return err
	}
	if err := r.client.Symlink(target, whole); err != nil {
		return r.making("make the link", whole, err)
	}
	return nil
}

func (r *root) Settle(ctx context.Context, name string, with files.Attributes) error {
	whole, err := r.changing(ctx, "change", name)
	if err != nil {
		return err
	}
	info, err := r.client.Lstat(whole)
	switch {
	case err != nil:
		return explain("change", whole, err)
	case info.Mode()&fs.ModeSymlink != 0:
		return &fs.PathError{Op: "change", Path: whole, Err: files.ErrLink}
	case !info.IsDir() && !info.Mode().IsRegular():
		return &fs.PathError{Op: "change", Path: whole, Err: files.ErrNoFile}
	}
	if err := r.give(whole, with); err != nil {
		return err
	}
	return r.setTime(whole, with)
}

func (r *root) Remove(ctx context.Context, name string) error {
	whole, err := r.below(ctx, "remove", name)
	if err != nil {
		return err
	}
	return r.remove(whole)
}

func (r *root) remove(whole string) error {
	info, err := r.client.Lstat(whole)
	if err == nil && info.IsDir() {
		err = r.client.RemoveDirectory(whole)
	} else if err == nil {
		err = r.client.Remove(whole)
	}
	if err != nil {
		return explain("remove", whole, err)
	}
	return nil
}

func (r *root) RemoveAll(ctx context.Context, name string) error {
	whole, err := r.below(ctx, "remove", name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	entry, err := r.Lstat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil && entry.Kind == files.Folder {
		err = r.empty(ctx, name)
	}
	if err != nil {
		return err
	}
	return gone(r.remove(whole))
}

// empty removes what is in a folder.
func (r *root) empty(ctx context.Context, name string) error {
	entries, err := r.List(ctx, name)
	if err != nil {
		return gone(err)
	}
	group, inner := errgroup.WithContext(ctx)
	group.SetLimit(together)
	for _, one := range entries {
		at := path.Join(name, one.Name)
		if one.Kind == files.Folder {
			if err := r.empty(inner, at); err != nil {
				return errors.Join(err, group.Wait())
			}
		}
		group.Go(func() error {
			if err := inner.Err(); err != nil {
				return err
			}
			if err := r.lease.check(); err != nil {
				return &fs.PathError{Op: "remove", Path: at, Err: err}
			}
			return gone(r.remove(path.Join(r.name, at)))
		})
	}
	return group.Wait()
}

// gone is for what is not there any more.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

func (r *root) Rename(ctx context.Context, old, new string) error {
	from, err := r.below(ctx, "rename", old)
	if err != nil {
		return err
	}
	to, err := r.below(ctx, "rename", new)
	if err != nil {
		return err
	}
	if _, can := r.client.HasExtension("posix-rename@openssh.com"); can {
		err = r.client.PosixRename(from, to)
	} else {
		err = r.client.Rename(from, to) // which replaces nothing
	}
	if err != nil {
		return explain("rename", from, err)
	}
	return nil
}
