package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"

	"wetland/core/files"
	"wetland/core/wire"

	"golang.org/x/sync/errgroup"
)

// walk tells of a whole tree, and ends with a step that tells of nothing.
func walk(ctx context.Context, fsys files.FS, r *wire.Request, args request) error {
	t := newTalk(r)
	top := string(args.Name)
	err := files.WalkPast(ctx, fsys, top, args.Scope.scope(), func(at string, found files.Entry) error {
		is := toEntry(found)
		return t.put(sayStep, walked{Path: []byte(at), Entry: &is})
	}, func(name string, err error) error {
		return t.put(sayStep, walked{Path: []byte(below(name, top)), Failed: failure(err)})
	})
	if err != nil {
		return err
	}
	return t.tell(sayStep, walked{})
}

// below is a name relative to the top that it was joined to.
func below(name, top string) string {
	if top = path.Clean(top); top == "." || len(name) <= len(top) {
		return name
	}
	return name[len(top)+1:]
}

// eachName hears names until no more come. The answers go out when more names have to be waited for.
func eachName(t *talk, do func(name string) error) error {
	for {
		if t.in.Buffered() == 0 {
			if err := t.flush(); err != nil {
				return err
			}
		}
		kind, name, err := t.hear()
		if errors.Is(err, io.EOF) {
			return t.flush()
		}
		if err == nil && kind != sayName {
			err = wire.ErrProtocol
		}
		if err == nil {
			err = do(string(name))
		}
		if err != nil {
			return err
		}
	}
}

// joined is a name below a top: joining alone would make good ones of some that lead out.
func joined(args request, name string) (string, error) {
	if err := files.CheckName(name); err != nil {
		return "", &fs.PathError{Op: "read", Path: name, Err: err}
	}
	return path.Join(string(args.Name), name), nil
}

// readTree tells of a whole tree, with its hashes.
func readTree(ctx context.Context, fsys files.FS, r *wire.Request, args request) error {
	tree, err := files.ReadTree(ctx, fsys, string(args.Name), args.Scope.scope())
	if err != nil {
		return err
	}
	return newTalk(r).sayTree(tree)
}

// sayTree says what is in a tree.
func (t *talk) sayTree(tree files.Tree) error {
	for _, one := range tree {
		if err := t.put(sayItem, toItem(one)); err != nil {
			return err
		}
	}
	return errors.Join(t.say(sayNoMore, nil), t.flush())
}

// takeSteps takes steps once all are known: a line that ends before leaves nothing done, and one that
// ends meanwhile stops none.
func takeSteps(ctx context.Context, fsys files.FS, r *wire.Request) (any, error) {
	var steps []files.Step
	for t := newTalk(r); ; {
		kind, payload, err := t.hear()
		switch {
		case err != nil:
			return nil, err
		case kind == sayNoMore:
			did, err := files.TakeSteps(ctx, fsys, steps)
			return taken{did, failure(err)}, nil
		case kind != sayDo || len(steps) >= mostItems:
			return nil, fmt.Errorf("%w: the message %d among steps", wire.ErrProtocol, kind)
		}
		var one step
		if err := json.Unmarshal(payload, &one); err != nil {
			return nil, err
		}
		steps = append(steps, files.Step{Do: one.Do, Name: string(one.Name), Other: string(one.Other), With: one.With, Anyway: one.Anyway})
	}
}

// hashAll hashes the files whose names come.
func hashAll(ctx context.Context, fsys files.FS, r *wire.Request, args request) error {
	t := newTalk(r)
	return eachName(t, func(name string) error {
		name, err := joined(args, name)
		var hash string
		var size int64
		if err == nil {
			hash, size, err = files.HashFile(ctx, fsys, name)
		}
		return t.put(sayResult, result{Hash: hash, Size: size, Failed: failure(err)})
	})
}

// readAll says the bytes of the files whose names come.
func readAll(ctx context.Context, fsys files.FS, r *wire.Request, args request) error {
	t := newTalk(r)
	buffer := make([]byte, 32<<10)
	return eachName(t, func(name string) error {
		name, err := joined(args, name)
		var before files.Entry
		var file io.ReadCloser
		if err == nil {
			before, file, err = open(ctx, fsys, name)
		}
		is := toEntry(before)
		if err := t.put(sayResult, result{Before: &is, Failed: failure(err)}); err != nil || file == nil {
			return err
		}
		for err == nil {
			var n int
			if n, err = file.Read(buffer); n > 0 {
				if err := t.say(sayBytes, buffer[:n]); err != nil {
					return errors.Join(err, file.Close())
				}
			}
		}
		if errors.Is(err, io.EOF) {
			err = nil
		}
		after, lookErr := fsys.Lstat(ctx, name)
		is = toEntry(after)
		return t.put(sayResult, result{After: &is, Failed: failure(errors.Join(err, lookErr, file.Close()))})
	})
}

// open opens a file, and tells what it is.
func open(ctx context.Context, fsys files.FS, name string) (before files.Entry, file io.ReadCloser, err error) {
	if before, err = fsys.Lstat(ctx, name); err != nil {
		return before, nil, err
	}
	file, err = fsys.Open(ctx, name, 0)
	return before, file, err
}

// Of a tree that comes, so many files up to a size are held at a time, and written together: each waits
// until its disk has it safely.
const (
	writtenTogether = 8
	heldWhole       = 1 << 20 // bytes of one
)

// mostItems bounds a tree that comes.
const mostItems = 5_000_000

// putTree writes a tree that comes: what is in it, and then the bytes of its files.
func putTree(ctx context.Context, fsys files.FS, r *wire.Request, args request) error {
	t, top := newTalk(r), string(args.Name)
	tree, err := hearTree(t)
	if err != nil {
		return err
	}
	if err := files.MakeFolders(ctx, fsys, top, tree); err != nil {
		return err
	}
	group, inner := errgroup.WithContext(ctx)
	group.SetLimit(writtenTogether)
	write := func(one files.Item, from io.Reader) error {
		return files.WriteItem(inner, fsys, top, one, func(files.Item) (io.ReadCloser, error) { return io.NopCloser(from), nil })
	}
	for _, one := range tree {
		if inner.Err() != nil || err != nil {
			break
		}
		switch {
		case one.Kind == files.Link:
			err = write(one, nil)
		case one.Kind != files.File:
		case one.Size > heldWhole:
			err = write(one, &arriving{talk: t})
		default:
			var whole []byte
			if whole, err = io.ReadAll(io.LimitReader(&arriving{talk: t}, heldWhole+1)); err == nil && len(whole) > heldWhole {
				err = fmt.Errorf("%w: more bytes of %q than were said", wire.ErrProtocol, one.Path)
			}
			if err == nil {
				group.Go(func() error { return write(one, bytes.NewReader(whole)) })
			}
		}
	}
	if err := errors.Join(err, group.Wait()); err != nil {
		return err
	}
	return files.FinishFolders(ctx, fsys, top, tree)
}

// hearTree hears what is in a tree.
func hearTree(t *talk) (tree files.Tree, err error) {
	for {
		kind, payload, err := t.hear()
		switch {
		case err != nil:
			return nil, err
		case kind == sayNoMore:
			return tree, nil
		case kind != sayItem || len(tree) >= mostItems:
			return nil, fmt.Errorf("%w: the message %d within a tree", wire.ErrProtocol, kind)
		}
		var one item
		if err := json.Unmarshal(payload, &one); err != nil {
			return nil, err
		}
		if err := files.CheckName(string(one.Path)); err != nil {
			return nil, &fs.PathError{Op: "take", Path: string(one.Path), Err: err}
		}
		tree = append(tree, one.item())
	}
}

// arriving is a file whose bytes come.
type arriving struct {
	talk *talk
	rest []byte
	over bool
}

func (a *arriving) Read(p []byte) (int, error) {
	for len(a.rest) == 0 {
		if a.over {
			return 0, io.EOF
		}
		kind, payload, err := a.talk.hear()
		switch {
		case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
			return 0, errCutOff
		case err != nil:
			return 0, err
		case kind == sayBytes:
			a.rest = payload
		case kind == sayNoMore:
			a.over = true
		default:
			return 0, fmt.Errorf("%w: the message %d within a file", wire.ErrProtocol, kind)
		}
	}
	n := copy(p, a.rest)
	a.rest = a.rest[n:]
	return n, nil
}
