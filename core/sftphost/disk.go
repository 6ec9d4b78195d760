// Package sftphost is the files of an account that lets them be moved, and nothing else: by SFTP, version 3
// (draft-ietf-secsh-filexfer-02) with what OpenSSH's server adds to it where that is offered. Begin reading at
// Disk.
//
// It promises what files.Disk and files.FS promise, but for what such a server cannot know or do: there is no
// exchange, times are in whole seconds, no time of change is told, and calls go by names (files.ByName).
package sftphost

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"wetland/core/files"
)

// Grain is the finest difference between two times of modification.
const Grain = time.Second

// together is how many questions are on their way at the same time.
const together = 64

// Disk is the files of an account. Its calls share one line.
type Disk struct {
	client *sftp.Client
	line   *line
	known  known
	lease  lease
	// Lease is that of locks.
	Lease Lease
}

// known is what became known of the account by what was written.
type known struct {
	ahead atomic.Int64 // its clock, of ours, in nanoseconds
	self  atomic.Int64 // as whom files are made; files.Unowned: not known yet
}

// NewDisk speaks SFTP over a server's streams, and owns them.
func NewDisk(streams io.ReadWriteCloser) (*Disk, error) {
	to := newLine(streams)
	client, err := sftp.NewClientPipe(streams, to, sftp.UseConcurrentWrites(true), sftp.MaxConcurrentRequestsPerFile(together))
	if err != nil {
		return nil, errors.Join(fmt.Errorf("speak SFTP: %w", err), streams.Close())
	}
	d := &Disk{client: client, line: to, Lease: Usual}
	d.known.self.Store(files.Unowned)
	return d, nil
}

// Close ends the line.
func (d *Disk) Close() error { return d.client.Close() }

// Real resolves every link in a name. Servers do not all say of the last part whether it is there.
func (d *Disk) Real(ctx context.Context, name string) (string, error) {
	if err := ctx.Err(); err != nil {
		return "", err
	}
	if rest, ok := strings.CutPrefix(name, "/~/"); ok {
		name = rest // which servers take to be in the account's home
	}
	real, err := d.client.RealPath(name)
	if err != nil {
		return "", explain("resolve", name, err)
	}
	real = path.Clean(real)
	info, err := d.client.Lstat(real)
	if err != nil {
		return "", explain("resolve", name, err)
	}
	if info.Mode()&fs.ModeSymlink != 0 { // a server that resolves no links
		return "", &fs.PathError{Op: "resolve", Path: name, Err: files.ErrLink}
	}
	return real, nil
}

// Open opens a folder in whose name there is no link.
func (d *Disk) Open(ctx context.Context, folder string) (files.FS, error) {
	if !path.IsAbs(folder) {
		return nil, &fs.PathError{Op: "open", Path: folder, Err: fs.ErrInvalid}
	}
	r := &root{d, path.Clean(folder)}
	if err := r.check(ctx, "open", above(r.name)...); err != nil {
		return nil, err
	}
	return r, nil
}

// above are a whole name and those of all folders that it is in.
func above(name string) (all []string) {
	for ; name != "/"; name = path.Dir(name) {
		all = append(all, name)
	}
	return append(all, "/")
}

// root is an open folder. Its name is looked at again with each call.
type root struct {
	*Disk
	name string
}

var _ interface {
	files.FS
	files.OwnerGiver
	files.Measurer
	files.Distant
	files.ByName
	files.TreeReader
	files.StepTaker
	files.Locker
} = (*root)(nil)

func (r *root) Distant() bool { return true }
func (r *root) ByName() bool  { return true }

// Close has nothing to do: there is nothing open.
func (r *root) Close() error { return nil }

// explain gives an error of SFTP its place, and those of package fs.
func explain(op, name string, err error) error {
	if err == nil {
		return nil
	}
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	return &fs.PathError{Op: op, Path: name, Err: err}
}

// check fails where one of some names is no folder: no call is made that a link could lead elsewhere.
func (r *root) check(ctx context.Context, op string, names ...string) error {
	group, inner := errgroup.WithContext(ctx)
	for _, name := range names {
		group.Go(func() error {
			if err := inner.Err(); err != nil {
				return err
			}
			info, err := r.client.Lstat(name)
			switch {
			case err != nil:
				return explain(op, name, err)
			case info.Mode()&fs.ModeSymlink != 0:
				return &fs.PathError{Op: op, Path: name, Err: files.ErrLink}
			case !info.IsDir():
				return &fs.PathError{Op: op, Path: name, Err: errNoFolder}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return ctx.Err()
}

var errNoFolder = errors.New("it is no folder")

// whole is the whole name of one below the root.
func (r *root) whole(op, name string) (string, error) {
	if err := files.CheckName(name); err != nil {
		return "", &fs.PathError{Op: op, Path: name, Err: err}
	}
	return path.Join(r.name, name), nil
}

// at is whole, once all folders on the way to it are known to be such.
func (r *root) at(ctx context.Context, op, name string) (string, error) {
	whole, err := r.whole(op, name)
	if err != nil {
		return "", err
	}
	return whole, r.check(ctx, op, r.down(path.Dir(whole))...)
}

// down are the folders from the root to one in it.
func (r *root) down(folder string) []string {
	all := []string{r.name}
	for ; len(folder) > len(r.name); folder = path.Dir(folder) {
		all = append(all, folder)
	}
	return all
}

// below is at for what is changed, and is not the root itself.
func (r *root) below(ctx context.Context, op, name string) (string, error) {
	if name == "." {
		return "", &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	return r.changing(ctx, op, name)
}

// changing is at for what is changed: only as long as a lock that was taken is ours.
func (r *root) changing(ctx context.Context, op, name string) (string, error) {
	whole, err := r.at(ctx, op, name)
	if err != nil {
		return "", err
	}
	if err := r.lease.check(); err != nil {
		return "", &fs.PathError{Op: op, Path: whole, Err: err}
	}
	return whole, nil
}

func (r *root) Lstat(ctx context.Context, name string) (files.Entry, error) {
	whole, info, err := r.look(ctx, "look at", name)
	if err != nil {
		return files.Entry{}, err
	}
	return r.entry(whole, info)
}

// look is at, and tells what the server says of the name: that is asked at the same time, and not believed where a
// link is on the way.
func (r *root) look(ctx context.Context, op, name string) (whole string, info fs.FileInfo, err error) {
	if whole, err = r.whole(op, name); err != nil {
		return "", nil, err
	}
	var apart sync.WaitGroup
	var missing error
	apart.Go(func() { info, missing = r.client.Lstat(whole) })
	_, err = r.at(ctx, op, name)
	apart.Wait()
	if err == nil {
		err = explain(op, whole, missing)
	}
	return whole, info, err
}

// entry describes what the server told about a name.
func (r *root) entry(whole string, info fs.FileInfo) (files.Entry, error) {
	e := files.Entry{Name: path.Base(whole), Kind: files.Other, Owner: files.Unowned, Group: files.Unowned, Modified: info.ModTime()}
	if told, ok := info.Sys().(*sftp.FileStat); ok {
		e.Mode, e.Owner, e.Group = told.Mode&0o7777, int(told.UID), int(told.GID)
	}
	switch {
	case info.Mode().IsRegular():
		e.Kind, e.Size = files.File, info.Size()
	case info.IsDir():
		e.Kind = files.Folder
	case info.Mode()&fs.ModeSymlink != 0:
		e.Kind = files.Link
		target, err := r.client.ReadLink(whole)
		if err != nil {
			return e, explain("read the link", whole, err)
		}
		e.Target = target
	}
	return e, nil
}

func (r *root) List(ctx context.Context, name string) ([]files.Entry, error) {
	whole, err := r.folder(ctx, "list", name)
	if err != nil {
		return nil, err
	}
	infos, err := r.client.ReadDirContext(ctx, whole)
	if err != nil {
		return nil, explain("list", whole, err)
	}
	infos = slices.DeleteFunc(infos, func(one fs.FileInfo) bool {
		return one.Name() == "." || one.Name() == ".." || strings.HasPrefix(one.Name(), lockName)
	})
	entries := make([]files.Entry, len(infos))
	group, inner := errgroup.WithContext(ctx)
	group.SetLimit(together)
	for i, info := range infos {
		if strings.Contains(info.Name(), "/") || files.CheckName(info.Name()) != nil {
			return nil, fmt.Errorf("list %s: the server names %q, which is no name in a folder: %w", whole, info.Name(), fs.ErrInvalid)
		}
		group.Go(func() (err error) {
			if err := inner.Err(); err != nil {
				return err
			}
			entries[i], err = r.entry(path.Join(whole, info.Name()), info)
			return err
		})
	}
	err = group.Wait()
	slices.SortFunc(entries, func(a, b files.Entry) int { return strings.Compare(a.Name, b.Name) })
	return entries, err
}

// folder is at for what has to be a folder.
func (r *root) folder(ctx context.Context, op, name string) (string, error) {
	whole, err := r.whole(op, name)
	if err != nil {
		return "", err
	}
	return whole, r.check(ctx, op, r.down(whole)...)
}

// opened is a file that is open on the server.
type opened struct {
	ctx  context.Context
	file *sftp.File
	name string
}

func (r *root) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	whole, info, err := r.look(ctx, "open", name) // a pipe would be waited for
	switch {
	case err != nil:
		return nil, err
	case info.Mode()&fs.ModeSymlink != 0:
		return nil, &fs.PathError{Op: "open", Path: whole, Err: files.ErrLink}
	case !info.Mode().IsRegular():
		return nil, &fs.PathError{Op: "open", Path: whole, Err: files.ErrNoFile}
	}
	file, err := r.client.Open(whole)
	if err != nil {
		return nil, explain("open", whole, err)
	}
	return &reading{opened{ctx, file, whole}, offset}, nil
}

// SyncFolder does what can be done, which is nothing: SFTP has no word for it.
func (r *root) SyncFolder(ctx context.Context, name string) error {
	_, err := r.folder(ctx, "sync", name)
	return err
}

// Writable tries.
func (r *root) Writable(ctx context.Context, name string) error {
	whole, err := r.folder(ctx, "write in", name)
	if err != nil {
		return err
	}
	_, err = r.try("write in", whole)
	return err
}

// try makes a folder in another one, and takes it away again. It returns what time it is there.
func (r *root) try(op, folder string) (now time.Time, err error) {
	made := path.Join(folder, lockName+"-try-"+strings.ToLower(rand.Text()))
	if err := r.client.Mkdir(made); err != nil {
		return now, explain(op, folder, err)
	}
	now, err = r.learn(made)
	return now, errors.Join(err, gone(explain(op, folder, r.client.RemoveDirectory(made))))
}

// learn learns from what was made just now what time it is there, and as whom files are made.
func (r *root) learn(made string) (now time.Time, err error) {
	info, err := r.client.Lstat(made)
	if err != nil {
		return now, explain("look at", made, err)
	}
	r.known.ahead.Store(int64(time.Until(info.ModTime()).Truncate(Grain)))
	if told, ok := info.Sys().(*sftp.FileStat); ok {
		r.known.self.Store(int64(told.UID))
	}
	return info.ModTime(), nil
}

// CanOwn believes that it can as long as it is not known who we are: what cannot be given is told then. Of groups
// nothing is known.
func (r *root) CanOwn(owner, _ int) bool {
	self := int(r.known.self.Load())
	return self == 0 || self == files.Unowned || owner == files.Unowned || owner == self
}

// FreeSpace is told where the server has OpenSSH's word for it.
func (r *root) FreeSpace(ctx context.Context, name string) (uint64, error) {
	whole, err := r.at(ctx, "ask for the free space at", name)
	if err != nil {
		return 0, err
	}
	if _, can := r.client.HasExtension("statvfs@openssh.com"); !can {
		return 0, fmt.Errorf("ask for the free space at %s: %w", whole, errors.ErrUnsupported)
	}
	is, err := r.client.StatVFS(whole)
	if err != nil {
		return 0, explain("ask for the free space at", whole, err)
	}
	return is.Frsize * is.Bavail, nil
}
