package remote

import (
	"bufio"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"wetland/core/files"
	"wetland/core/wire"
)

// Disk is that of the machine that a helper runs on.
type Disk struct{ desk *wire.Desk }

// Dial speaks to a helper over the two directions of streams, and owns them.
func Dial(ctx context.Context, streams io.ReadWriteCloser) (*Disk, error) {
	desk, err := wire.Dial(ctx, streams, wire.Options{Errors: known})
	if err != nil {
		return nil, err
	}
	return &Disk{desk}, nil
}

// Close ends the line, and with it the helper.
func (d *Disk) Close() error { return d.desk.Close() }

// do asks the helper for something; into is the result, or nil.
func (d *Disk) do(ctx context.Context, method string, r request, into any) error {
	return d.desk.Do(ctx, method, r, into)
}

// Real resolves the links in a name there.
func (d *Disk) Real(ctx context.Context, name string) (string, error) {
	var real []byte
	err := d.do(ctx, methodReal, request{Name: []byte(name)}, &real)
	return string(real), err
}

// Open opens a folder there.
func (d *Disk) Open(ctx context.Context, folder string) (files.FS, error) {
	var is opened
	if err := d.do(ctx, methodOpen, request{Name: []byte(folder)}, &is); err != nil {
		return nil, err
	}
	return &root{d, is}, nil
}

// root is a folder that was opened there.
type root struct {
	disk *Disk
	is   opened
}

var _ interface {
	files.FS
	files.Exchanger
	files.OwnerGiver
	files.Marker
	files.Mounter
	files.Locker
	files.Measurer
} = (*root)(nil)

func (r *root) on(name string) request { return request{Root: r.is.Root, Name: []byte(name)} }

func (r *root) do(ctx context.Context, method, name string) error {
	return r.disk.do(ctx, method, r.on(name), nil)
}

func (r *root) Lstat(ctx context.Context, name string) (files.Entry, error) {
	var e entry
	if err := r.disk.do(ctx, methodLstat, r.on(name), &e); err != nil {
		return files.Entry{}, err
	}
	return e.entry(), nil
}

func (r *root) List(ctx context.Context, name string) ([]files.Entry, error) {
	s, err := r.disk.desk.Call(ctx, methodList, r.on(name))
	if err != nil {
		return nil, err
	}
	var all []files.Entry
	lines := json.NewDecoder(bufio.NewReader(s))
	for {
		var e entry
		if err = lines.Decode(&e); err != nil {
			break
		}
		all = append(all, e.entry())
	}
	if ended := s.Wait(ctx, nil); ended != nil {
		return nil, ended
	}
	if !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("list %s: %w", name, err)
	}
	return all, nil
}

// begun waits until the helper says by a byte that it has what was asked for.
func (r *root) begun(ctx context.Context, method string, args request) (*wire.Stream, error) {
	s, err := r.disk.desk.Call(ctx, method, args)
	if err != nil {
		return nil, err
	}
	if _, err := io.ReadFull(s, make([]byte, 1)); err != nil {
		if ended := s.Wait(ctx, nil); ended != nil {
			err = ended
		}
		return nil, err
	}
	return s, nil
}

// reading is a file that is read there.
type reading struct {
	ctx    context.Context
	stream *wire.Stream
	stop   context.CancelFunc
}

func (f reading) Read(p []byte) (int, error) {
	if err := f.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := f.stream.Read(p)
	if errors.Is(err, io.EOF) {
		if ended := f.stream.Wait(f.ctx, nil); ended != nil {
			err = ended
		}
	}
	return n, err
}

func (f reading) Close() error {
	f.stop()
	return nil
}

func (r *root) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	args := r.on(name)
	args.Offset = offset
	inner, stop := context.WithCancel(ctx)
	s, err := r.begun(inner, methodRead, args)
	if err != nil {
		stop()
		return nil, err
	}
	return reading{ctx, s, stop}, nil
}

// writing is a file that is written there.
type writing struct {
	ctx    context.Context
	stream *wire.Stream
	stop   context.CancelFunc
}

func (f writing) Write(p []byte) (int, error) {
	if err := f.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := f.stream.Write(p)
	if err != nil { // the helper knows why
		if ended := f.stream.Wait(f.ctx, nil); ended != nil {
			err = ended
		}
	}
	return n, err
}

func (f writing) Close() error {
	defer f.stop()
	if err := f.ctx.Err(); err != nil {
		return err
	}
	if err := f.stream.CloseWrite(); err != nil {
		return err
	}
	return f.stream.Wait(f.ctx, nil)
}

func (r *root) Create(ctx context.Context, name string, with files.Attributes) (io.WriteCloser, error) {
	args := r.on(name)
	args.With = with
	inner, stop := context.WithCancel(ctx)
	s, err := r.begun(inner, methodCreate, args)
	if err != nil {
		stop()
		return nil, err
	}
	return writing{ctx, s, stop}, nil
}

func (r *root) Mkdir(ctx context.Context, name string, with files.Attributes) error {
	args := r.on(name)
	args.With = with
	return r.disk.do(ctx, methodMkdir, args, nil)
}

func (r *root) Symlink(ctx context.Context, target, name string, with files.Attributes) error {
	args := r.on(name)
	args.Other, args.With = []byte(target), with
	return r.disk.do(ctx, methodSymlink, args, nil)
}

func (r *root) Settle(ctx context.Context, name string, with files.Attributes) error {
	args := r.on(name)
	args.With = with
	return r.disk.do(ctx, methodSettle, args, nil)
}

func (r *root) Remove(ctx context.Context, name string) error { return r.do(ctx, methodRemove, name) }

func (r *root) RemoveAll(ctx context.Context, name string) error {
	return r.do(ctx, methodRemoveAll, name)
}

func (r *root) two(ctx context.Context, method, a, b string) error {
	args := r.on(a)
	args.Other = []byte(b)
	return r.disk.do(ctx, method, args, nil)
}

func (r *root) Rename(ctx context.Context, old, new string) error {
	return r.two(ctx, methodRename, old, new)
}

func (r *root) SyncFolder(ctx context.Context, name string) error { return r.do(ctx, methodSync, name) }

func (r *root) Writable(ctx context.Context, name string) error {
	return r.do(ctx, methodWritable, name)
}

func (r *root) Close() error { return r.do(context.Background(), methodClose, ".") }

func (r *root) CanExchange() bool { return r.is.CanExchange }

func (r *root) Exchange(ctx context.Context, a, b string) error {
	if !r.is.Able.Exchange {
		return files.ErrUnsupported
	}
	return r.two(ctx, methodExchange, a, b)
}

// CanOwn believes that it can where the helper does not answer: what cannot be given is told then.
func (r *root) CanOwn(owner, group int) bool {
	args := r.on(".")
	args.With.Owner, args.With.Group = owner, group
	can := true
	_ = r.disk.do(context.Background(), methodCanOwn, args, &can)
	return can
}

func (r *root) CopyMarks(ctx context.Context, from, to string) error {
	return r.two(ctx, methodMarks, from, to)
}

func (r *root) MountedAt(ctx context.Context, name string) (mounted bool, err error) {
	err = r.disk.do(ctx, methodMounted, r.on(name), &mounted)
	return mounted, err
}

func (r *root) FreeSpace(ctx context.Context, name string) (free uint64, err error) {
	err = r.disk.do(ctx, methodFree, r.on(name), &free)
	return free, err
}

// What a helper says while it locks.
const (
	sayCounts byte = iota + 1 // and a user, as 8 bytes: does a holder of this user count
	sayLocked
)

// Lock holds the folder as long as the call is under way: it is given up when the line ends.
func (r *root) Lock(ctx context.Context, name string, counts func(user int) bool) (unlock func() error, err error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	held, giveUp := context.WithCancel(context.WithoutCancel(ctx))
	args := r.on(name)
	if counts != nil {
		args.Offset = 1 // asked for each holder
	}
	s, err := r.disk.desk.Call(held, methodLock, args)
	if err != nil {
		giveUp()
		return nil, err
	}
	for {
		var said [9]byte
		if _, err := io.ReadFull(s, said[:]); err != nil {
			if ended := s.Wait(ctx, nil); ended != nil {
				err = ended
			}
			giveUp()
			return nil, err
		}
		if said[0] == sayLocked {
			return func() error {
				err := s.CloseWrite()
				if err == nil {
					err = s.Wait(context.WithoutCancel(ctx), nil)
				}
				giveUp()
				return err
			}, nil
		}
		answer := []byte{0}
		if counts != nil && counts(int(int64(binary.BigEndian.Uint64(said[1:])))) {
			answer[0] = 1
		}
		if _, err := s.Write(answer); err != nil {
			giveUp()
			return nil, err
		}
	}
}
