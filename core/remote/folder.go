package remote

import (
	"bufio"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"wetland/core/files"
	"wetland/core/wire"
)

// root is a folder that was opened there.
type root struct {
	host *Host
	is   opened
}

var _ interface {
	files.Able
	files.TreeReader
	files.TreeWriter
	files.StepTaker
	files.Duplicator
} = (*root)(nil)

func (r *root) on(name string) request { return request{Root: r.is.Root, Name: []byte(name)} }

func (r *root) do(ctx context.Context, method, name string) error {
	return r.host.desk.Do(ctx, method, r.on(name), nil)
}

func (r *root) Lstat(ctx context.Context, name string) (files.Entry, error) {
	var e entry
	if err := r.host.desk.Do(ctx, methodLstat, r.on(name), &e); err != nil {
		return files.Entry{}, err
	}
	return e.entry(), nil
}

// isName tells whether a name can be that of something in a folder. A helper that is not what it should
// be could lead whoever joins names out of it.
func isName(name string) bool {
	return name != "." && !strings.ContainsRune(name, '/') && files.CheckName(name) == nil
}

func (r *root) List(ctx context.Context, name string) ([]files.Entry, error) {
	s, err := r.host.desk.Call(ctx, methodList, r.on(name))
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
		if !isName(string(e.Name)) {
			return nil, fmt.Errorf("%w: %q in a folder", wire.ErrProtocol, e.Name)
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

// file is one that is open there, until stop is called or its context ends.
type file struct {
	ctx    context.Context
	stream *wire.Stream
	stop   context.CancelFunc
}

// begin has the helper open a file.
func (h *Host) begin(ctx context.Context, method string, args request) (file, error) {
	inner, stop := context.WithCancel(ctx)
	s, err := h.begun(inner, method, args)
	if err != nil {
		stop()
	}
	return file{ctx, s, stop}, err
}

// reading is a file that is read there.
type reading struct{ file }

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
	args.Number = offset
	f, err := r.host.begin(ctx, methodRead, args)
	if err != nil {
		return nil, err
	}
	return reading{f}, nil
}

// writing is a file that is written there.
type writing struct{ file }

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
	f, err := r.host.begin(ctx, methodCreate, args)
	if err != nil {
		return nil, err
	}
	return writing{f}, nil
}

func (r *root) Mkdir(ctx context.Context, name string, with files.Attributes) error {
	args := r.on(name)
	args.With = with
	return r.host.desk.Do(ctx, methodMkdir, args, nil)
}

func (r *root) Symlink(ctx context.Context, target, name string, with files.Attributes) error {
	args := r.on(name)
	args.Other, args.With = []byte(target), with
	return r.host.desk.Do(ctx, methodSymlink, args, nil)
}

func (r *root) Settle(ctx context.Context, name string, with files.Attributes) error {
	args := r.on(name)
	args.With = with
	return r.host.desk.Do(ctx, methodSettle, args, nil)
}

func (r *root) Remove(ctx context.Context, name string) error { return r.do(ctx, methodRemove, name) }

func (r *root) RemoveAll(ctx context.Context, name string) error {
	return r.do(ctx, methodRemoveAll, name)
}

func (r *root) two(ctx context.Context, method, a, b string) error {
	args := r.on(a)
	args.Other = []byte(b)
	return r.host.desk.Do(ctx, method, args, nil)
}

func (r *root) Rename(ctx context.Context, old, new string) error {
	return r.two(ctx, methodRename, old, new)
}

// Duplicate makes a new file in another folder of the same machine out of one of this folder.
func (r *root) Duplicate(ctx context.Context, name string, to files.FS, at string, with files.Attributes) error {
	into, ok := to.(*root)
	if !ok || into.host != r.host {
		return fmt.Errorf("duplicate %s: it is not of the same machine: %w", name, errors.ErrUnsupported)
	}
	args := r.on(name)
	args.Into, args.Other, args.With = into.is.Root, []byte(at), with
	return r.host.desk.Do(ctx, methodDuplicate, args, nil)
}

func (r *root) SyncFolder(ctx context.Context, name string) error { return r.do(ctx, methodSync, name) }

func (r *root) Writable(ctx context.Context, name string) error {
	return r.do(ctx, methodWritable, name)
}

// Close waits for nothing: what the helper says of it changes nothing any more.
func (r *root) Close() error {
	s, err := r.host.desk.Call(context.Background(), methodClose, r.on("."))
	if err == nil {
		go func() { _ = s.Wait(context.Background(), nil) }()
	}
	return nil
}

func (r *root) Distant() bool { return true }

func (r *root) CanExchange() bool { return r.is.CanExchange }

func (r *root) Exchange(ctx context.Context, a, b string) error {
	return r.two(ctx, methodExchange, a, b)
}

// CanOwn believes that it can where the helper does not answer: what cannot be given is told then.
func (r *root) CanOwn(owner, group int) bool {
	args := r.on(".")
	args.With.Owner, args.With.Group = owner, group
	can := true
	_ = r.host.desk.Do(context.Background(), methodCanOwn, args, &can)
	return can
}

func (r *root) CopyMarks(ctx context.Context, from, to string) error {
	return r.two(ctx, methodMarks, from, to)
}

func (r *root) MountedAt(ctx context.Context, name string) (mounted bool, err error) {
	err = r.host.desk.Do(ctx, methodMounted, r.on(name), &mounted)
	return mounted, err
}

func (r *root) FreeSpace(ctx context.Context, name string) (free uint64, err error) {
	err = r.host.desk.Do(ctx, methodFree, r.on(name), &free)
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
	args.Ask = counts != nil
	s, err := r.host.desk.Call(held, methodLock, args)
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
