package remote

import (
	"bufio"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"wetland/core/boundary"
	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/wire"
)

// mostRoots bounds how many folders a desk may have open.
const mostRoots = 1000

// Keeper keeps a machine to the site that a desk names when it begins, as boundary.Keep does.
type Keeper func(ctx context.Context, s boundary.Site) (host.Host, error)

// helper does what a desk asks for.
type helper struct {
	keep      Keeper
	on        host.Host
	lock      sync.Mutex
	last      uint64
	open      map[uint64]files.FS
	held      []func() error // locks of a line that ended
	databases map[string]database.Database
}

// Both joins the two directions of a line.
func Both(in io.ReadCloser, out io.WriteCloser) io.ReadWriteCloser { return both{in, out} }

type both struct {
	io.ReadCloser
	out io.WriteCloser
}

func (b both) Write(p []byte) (int, error) { return b.out.Write(p) }
func (b both) Close() error                { return errors.Join(b.ReadCloser.Close(), b.out.Close()) }

// Serve does what a desk asks for on a machine, until the line ends, and returns why it did. The desk
// says which site it works on once, before all else.
func Serve(ctx context.Context, streams io.ReadWriteCloser, keep Keeper) error {
	h := &helper{keep: keep, open: map[uint64]files.FS{}, databases: map[string]database.Database{}}
	alive := newHeart()
	defer alive.stop()
	err := wire.Serve(ctx, streams, wire.Options{Errors: known, Packed: true, Heard: alive.beat}, h.handle)
	for _, unlock := range h.held { // nothing is under way any more
		err = errors.Join(err, unlock())
	}
	for _, fsys := range h.open {
		err = errors.Join(err, fsys.Close())
	}
	for _, db := range h.databases {
		err = errors.Join(err, db.Close())
	}
	return err
}

func (h *helper) handle(ctx context.Context, r *wire.Request) (any, error) {
	var args request
	if err := r.Args(&args); err != nil {
		return nil, err
	}
	if r.Method == methodBegin {
		if err := h.begin(ctx, args.Site); err != nil {
			return nil, err
		}
		return beginning{time.Now(), h.on.Accounts().Self(ctx)}, nil
	}
	if !h.begun() {
		return nil, errNotBegun
	}
	switch r.Method {
	case methodReal:
		real, err := h.on.Real(ctx, atHome(string(args.Name)))
		return []byte(real), err
	case methodOpen:
		return h.openFolder(ctx, string(args.Name))
	case methodDial:
		return nil, h.dial(ctx, r, args)
	case methodRun:
		return nil, h.run(ctx, r, args)
	case methodTemporary:
		return nil, h.putTemporary(ctx, r, args)
	case methodMachine, methodConfine:
		return h.onGround(ctx, r, args)
	case methodEngine, methodSize, methodQuery, methodMoment, methodApply, methodLeftover, methodSweep, methodCreateDatabase:
		return h.onDatabase(ctx, r, args)
	case methodUser:
		return h.on.Accounts().UserName(ctx, int(args.Number)), nil
	case methodGroup:
		return h.on.Accounts().GroupName(ctx, int(args.Number)), nil
	case methodMayWrite:
		return h.on.Accounts().MayWrite(ctx, int(args.Number), files.Entry{Owner: args.With.Owner, Group: args.With.Group, Mode: args.With.Mode}), nil
	}
	fsys, err := h.folder(args.Root)
	if err != nil {
		return nil, err
	}
	if r.Method == methodClose {
		h.lock.Lock()
		delete(h.open, args.Root)
		h.lock.Unlock()
		return nil, fsys.Close()
	}
	if r.Method == methodDuplicate {
		into, err := h.folder(args.Into)
		if err != nil {
			return nil, err
		}
		return nil, files.Duplicate(ctx, fsys, string(args.Name), into, string(args.Other), args.With)
	}
	if r.Method == methodLock {
		return nil, h.holdLock(ctx, fsys, r, args)
	}
	return in(ctx, fsys, r, args)
}

var errNotBegun = fmt.Errorf("%w: no site was named yet", wire.ErrProtocol)

// begin keeps the machine to a site, once.
func (h *helper) begin(ctx context.Context, s *boundary.Site) error {
	h.lock.Lock()
	defer h.lock.Unlock()
	if h.on != nil || s == nil {
		return fmt.Errorf("%w: a site is named once", wire.ErrProtocol)
	}
	named := *s
	named.Root = atHome(named.Root)
	kept, err := h.keep(ctx, named)
	if err == nil {
		h.on = kept
	}
	return err
}

// atHome puts the account's home in the place of "/~".
func atHome(name string) string {
	if rest, ok := strings.CutPrefix(name, "/~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return path.Join(home, rest)
		}
	}
	return name
}

func (h *helper) begun() bool {
	h.lock.Lock()
	defer h.lock.Unlock()
	return h.on != nil
}

func (h *helper) folder(number uint64) (files.FS, error) {
	h.lock.Lock()
	defer h.lock.Unlock()
	fsys, ok := h.open[number]
	if !ok {
		return nil, fmt.Errorf("the folder %d is not open: %w", number, fs.ErrClosed)
	}
	return fsys, nil
}

func (h *helper) openFolder(ctx context.Context, name string) (opened, error) {
	fsys, err := h.on.Open(ctx, name)
	if err != nil {
		return opened{}, err
	}
	h.lock.Lock()
	defer h.lock.Unlock()
	if len(h.open) >= mostRoots {
		return opened{}, errors.Join(fmt.Errorf("more than %d folders are open", mostRoots), fsys.Close())
	}
	h.last++
	h.open[h.last] = fsys
	return opened{Root: h.last, CanExchange: files.CanExchange(fsys)}, nil
}

// in does something in a folder that is open.
func in(ctx context.Context, fsys files.FS, r *wire.Request, args request) (any, error) {
	name, other := string(args.Name), string(args.Other)
	switch r.Method {
	case methodLstat:
		found, err := fsys.Lstat(ctx, name)
		return toEntry(found), err
	case methodList:
		return nil, list(ctx, fsys, r, name)
	case methodRead:
		return nil, read(ctx, fsys, r, args)
	case methodCreate:
		return nil, create(ctx, fsys, r, args)
	case methodMkdir:
		return nil, fsys.Mkdir(ctx, name, args.With)
	case methodSymlink:
		return nil, fsys.Symlink(ctx, other, name, args.With)
	case methodSettle:
		return nil, fsys.Settle(ctx, name, args.With)
	case methodRemove:
		return nil, fsys.Remove(ctx, name)
	case methodRemoveAll:
		return nil, fsys.RemoveAll(ctx, name)
	case methodRename:
		return nil, fsys.Rename(ctx, name, other)
	case methodExchange:
		return nil, files.Exchange(ctx, fsys, name, other)
	case methodSync:
		return nil, fsys.SyncFolder(ctx, name)
	case methodWritable:
		return nil, fsys.Writable(ctx, name)
	case methodCanOwn:
		return files.CanOwn(fsys, args.With.Owner, args.With.Group), nil
	case methodMarks:
		return nil, files.CopyMarks(ctx, fsys, name, other)
	case methodMounted:
		return files.MountedAt(ctx, fsys, name)
	case methodWalk:
		return nil, walk(ctx, fsys, r, args)
	case methodReadTree:
		return nil, readTree(ctx, fsys, r, args)
	case methodSteps:
		return takeSteps(ctx, fsys, r)
	case methodHash:
		return nil, hashAll(ctx, fsys, r, args)
	case methodPutTree:
		return nil, putTree(ctx, fsys, r, args)
	case methodReadAll:
		return nil, readAll(ctx, fsys, r, args)
	case methodFree:
		return files.FreeSpace(ctx, fsys, name)
	}
	return nil, fmt.Errorf("%q is nothing that this helper does: %w", r.Method, errors.ErrUnsupported)
}

// dial connects, and passes on what comes from either side.
func (h *helper) dial(ctx context.Context, r *wire.Request, args request) error {
	connection, err := h.on.Dial(ctx, string(args.Other), string(args.Name))
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { _ = connection.Close() })
	defer stop()
	if _, err := r.Write([]byte{1}); err != nil {
		return errors.Join(err, connection.Close())
	}
	go func() {
		_, _ = io.Copy(connection, r)
		if half, ok := connection.(interface{ CloseWrite() error }); ok {
			_ = half.CloseWrite()
		}
	}()
	_, err = io.Copy(r, connection)
	return errors.Join(err, connection.Close())
}

// onGround does what a private copy needs.
func (h *helper) onGround(ctx context.Context, r *wire.Request, args request) (any, error) {
	ground, ok := h.on.(host.Confiner)
	if !ok || r.Method == methodConfine && args.World == nil {
		return nil, fmt.Errorf("make worlds: %w", errors.ErrUnsupported)
	}
	if r.Method == methodMachine {
		return ground.Machine(ctx)
	}
	return nil, confine(ctx, ground, r, *args.World)
}

// confine makes a world, says where, and passes on what the desk and its keeper say, until the desk says no
// more, or is gone.
func confine(ctx context.Context, ground host.Confiner, r *wire.Request, w host.World) error {
	line, top, err := ground.Confine(ctx, w)
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { _ = line.Close() })
	defer stop()
	if err := writeName(r, top); err != nil {
		return errors.Join(err, line.Close())
	}
	go func() {
		_, _ = io.Copy(line, r)
		_ = line.Close()
	}()
	_, _ = io.Copy(r, line) // how it ends is told by what is said over it
	return line.Close()
}

func (h *helper) run(ctx context.Context, r *wire.Request, args request) error {
	var words []string
	for _, arg := range args.More {
		words = append(words, string(arg))
	}
	said, err := h.on.Run(ctx, string(args.Name), words...)
	if err != nil {
		return err
	}
	_, err = io.WriteString(r, said)
	return err
}

// mostTemporary bounds a temporary file, in bytes.
const mostTemporary = 1 << 20

// putTemporary makes a file, says its name, and takes it away when the desk says no more, or is gone.
func (h *helper) putTemporary(ctx context.Context, r *wire.Request, args request) error {
	if args.Number < 0 || args.Number > mostTemporary {
		return fmt.Errorf("a temporary file of %d bytes; at most %d are allowed: %w", args.Number, mostTemporary, fs.ErrInvalid)
	}
	content := make([]byte, args.Number)
	if _, err := io.ReadFull(r, content); err != nil {
		return err
	}
	name, remove, err := h.on.PutTemporary(ctx, string(args.Name), content)
	if err != nil {
		return err
	}
	if err := writeName(r, name); err == nil {
		_, _ = io.Copy(io.Discard, r)
	}
	return remove()
}

// writeName says a name before all else, and readName hears it.
func writeName(to io.Writer, name string) error {
	_, err := to.Write(append([]byte{byte(len(name) >> 8), byte(len(name))}, name...))
	return err
}

func readName(from io.Reader) (string, error) {
	var length [2]byte
	if _, err := io.ReadFull(from, length[:]); err != nil {
		return "", err
	}
	name := make([]byte, int(length[0])<<8|int(length[1]))
	_, err := io.ReadFull(from, name)
	return string(name), err
}

// list writes each entry as JSON: a folder may hold more than fits a message.
func list(ctx context.Context, fsys files.FS, r *wire.Request, name string) error {
	entries, err := fsys.List(ctx, name)
	if err != nil {
		return err
	}
	room := bufio.NewWriterSize(r, 32<<10)
	to := json.NewEncoder(room)
	for _, one := range entries {
		if err := to.Encode(toEntry(one)); err != nil {
			return err
		}
	}
	return room.Flush()
}

func read(ctx context.Context, fsys files.FS, r *wire.Request, args request) error {
	file, err := fsys.Open(ctx, string(args.Name), args.Number)
	if err != nil {
		return err
	}
	if _, err = r.Write([]byte{1}); err == nil {
		_, err = io.Copy(r, file)
	}
	return errors.Join(err, file.Close())
}

// create writes what comes; a call that is given up leaves a file cut off.
func create(ctx context.Context, fsys files.FS, r *wire.Request, args request) error {
	file, err := fsys.Create(ctx, string(args.Name), args.With)
	if err != nil {
		return err
	}
	if _, err = r.Write([]byte{1}); err == nil {
		_, err = io.Copy(file, r)
	}
	return errors.Join(err, file.Close())
}

// holdLock locks a folder until the desk says no more. When the line ends, the lock stays until all
// that was under way has ended, too.
func (h *helper) holdLock(ctx context.Context, fsys files.FS, r *wire.Request, args request) error {
	var counts func(user int) bool
	if args.Ask {
		counts = func(user int) bool {
			answer := []byte{1}
			if _, err := r.Write(binary.BigEndian.AppendUint64([]byte{sayCounts}, uint64(user))); err == nil {
				_, _ = io.ReadFull(r, answer)
			}
			return answer[0] == 1
		}
	}
	unlock, err := lock(ctx, fsys, string(args.Name), counts)
	if err != nil {
		return err
	}
	_, err = r.Write(append([]byte{sayLocked}, make([]byte, 8)...))
	if err == nil {
		_, err = io.Copy(io.Discard, r)
	}
	if err != nil {
		h.lock.Lock()
		defer h.lock.Unlock()
		h.held = append(h.held, unlock)
		return err
	}
	return unlock()
}
