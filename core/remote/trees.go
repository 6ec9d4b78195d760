package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"time"

	"wetland/core/files"
	"wetland/core/wire"
)

// scope is a files.Scope on its way.
type scope struct {
	Only     []byte   `json:"only,omitempty"`
	LeaveOut [][]byte `json:"leave_out,omitempty"`
}

func toScope(s files.Scope) *scope {
	to := &scope{Only: []byte(s.Only)}
	for _, name := range s.LeaveOut {
		to.LeaveOut = append(to.LeaveOut, []byte(name))
	}
	return to
}

func (s *scope) scope() (all files.Scope) {
	if s == nil {
		return all
	}
	all.Only = string(s.Only)
	for _, name := range s.LeaveOut {
		all.LeaveOut = append(all.LeaveOut, string(name))
	}
	return all
}

// walked is one step of a walk on its way: an entry, or a folder that cannot be listed.
type walked struct {
	Path   []byte        `json:"path"`
	Entry  *entry        `json:"entry,omitempty"`
	Failed *wire.Failure `json:"failed,omitempty"`
}

// result is what became of one file of many, on its way.
type result struct {
	Before *entry        `json:"before,omitempty"`
	After  *entry        `json:"after,omitempty"`
	Hash   string        `json:"hash,omitempty"`
	Size   int64         `json:"size,omitempty"`
	Failed *wire.Failure `json:"failed,omitempty"`
}

func (r result) err() error {
	if r.Failed == nil {
		return nil
	}
	return known.Err(*r.Failed)
}

func failure(err error) *wire.Failure {
	if err == nil {
		return nil
	}
	f := known.Describe(err)
	return &f
}

// WalkTree has the helper walk, and gets all at once.
func (r *root) WalkTree(ctx context.Context, top string, within files.Scope, visit func(path string, entry files.Entry) error, failed func(name string, err error) error) error {
	args := r.on(top)
	args.Scope = toScope(within)
	return r.hear(ctx, methodWalk, args, nil, func(t *talk) error {
		for {
			var step walked
			if err := t.expect(sayStep, &step); err != nil {
				return err
			}
			at := string(step.Path)
			switch {
			case at != "" && files.CheckName(at) != nil:
				return fmt.Errorf("%w: %q in a tree", wire.ErrProtocol, at)
			case step.Failed != nil:
				if err := failed(path.Join(top, at), known.Err(*step.Failed)); err != nil {
					return err
				}
			case step.Entry != nil:
				if err := visit(at, step.Entry.entry()); err != nil {
					return err
				}
			default:
				return nil
			}
		}
	})
}

// ReadTree has the helper walk and hash.
func (r *root) ReadTree(ctx context.Context, top string, within files.Scope) (tree files.Tree, err error) {
	args := r.on(top)
	args.Scope = toScope(within)
	err = r.hear(ctx, methodReadTree, args, nil, func(t *talk) (err error) {
		tree, err = hearTree(t)
		return err
	})
	if err != nil {
		return nil, err
	}
	return tree, nil
}

// hear begins a call, says the names, and hears what comes of it. What hearing fails with ends the
// call.
func (r *root) hear(ctx context.Context, method string, args request, names []string, listen func(t *talk) error) error {
	inner, stop := context.WithCancel(ctx)
	defer stop()
	s, err := r.host.desk.Call(inner, method, args)
	if err != nil {
		return err
	}
	t := newTalk(s)
	go func() { // the helper answers meanwhile
		for _, name := range names {
			if t.say(sayName, []byte(name)) != nil {
				return
			}
		}
		if t.flush() == nil {
			_ = s.CloseWrite()
		}
	}()
	err = listen(t)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err == nil:
		return s.Wait(ctx, nil)
	case errors.Is(err, io.EOF) || errors.Is(err, errCutOff): // the helper says why
		return because(ctx, s, err)
	}
	return err
}

// HashFiles has the helper hash.
func (r *root) HashFiles(ctx context.Context, top string, names []string, each func(i int, hash string, size int64, err error) error) error {
	return r.hear(ctx, methodHash, r.on(top), names, func(t *talk) error {
		for i := range names {
			var got result
			if err := t.expect(sayResult, &got); err != nil {
				return err
			}
			if err := each(i, got.Hash, got.Size, got.err()); err != nil {
				return err
			}
		}
		return nil
	})
}

// ReadFiles gets all files in one stream.
func (r *root) ReadFiles(ctx context.Context, top string, names []string, each func(i int, file *files.Reading, err error) error) error {
	return r.hear(ctx, methodReadAll, r.on(top), names, func(t *talk) error {
		for i := range names {
			var began result
			if err := t.expect(sayResult, &began); err != nil {
				return err
			}
			if err := began.err(); err != nil {
				if err := each(i, nil, err); err != nil {
					return err
				}
				continue
			}
			if began.Before == nil {
				return fmt.Errorf("%w: a file without a description", wire.ErrProtocol)
			}
			one := &readingOne{talk: t}
			err := each(i, &files.Reading{Reader: one, Before: began.Before.entry(), After: one.after}, nil)
			if err != nil {
				return err
			}
			if err := one.pass(); err != nil {
				return err
			}
		}
		return nil
	})
}

// errCutOff says that a stream ended within a file.
var errCutOff = errors.New("it ended within a file")

// readingOne is one file of a stream of many.
type readingOne struct {
	talk  *talk
	rest  []byte
	ended *result
	err   error // of the stream
}

func (o *readingOne) Read(p []byte) (int, error) {
	for len(o.rest) == 0 {
		if err := o.next(); err != nil {
			return 0, err
		}
	}
	n := copy(p, o.rest)
	o.rest = o.rest[n:]
	return n, nil
}

// next hears more of the file; io.EOF after all of it.
func (o *readingOne) next() error {
	switch {
	case o.err != nil:
		return o.err
	case o.ended != nil:
		if err := o.ended.err(); err != nil {
			return err
		}
		return io.EOF
	}
	kind, payload, err := o.talk.hear()
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = errCutOff // else it would look like the end of the file
	}
	switch {
	case err != nil:
	case kind == sayBytes:
		o.rest = payload
		return nil
	case kind == sayResult:
		o.ended = &result{}
		if err = json.Unmarshal(payload, o.ended); err == nil {
			return o.next()
		}
	default:
		err = fmt.Errorf("%w: the message %d within a file", wire.ErrProtocol, kind)
	}
	o.err = err
	return err
}

func (o *readingOne) after() (files.Entry, error) {
	if err := o.pass(); err != nil {
		return files.Entry{}, err
	}
	if err := o.ended.err(); err != nil {
		return files.Entry{}, err
	}
	if o.ended.After == nil {
		return files.Entry{}, fmt.Errorf("%w: a file without a description", wire.ErrProtocol)
	}
	return o.ended.After.entry(), nil
}

// pass passes over what was not read. Its error is that of the stream.
func (o *readingOne) pass() error {
	for o.ended == nil && o.err == nil {
		o.rest = nil
		_ = o.next()
	}
	return o.err
}

// item is a files.Item on its way.
type item struct {
	Path     []byte     `json:"path"`
	Kind     files.Kind `json:"kind"`
	Mode     uint32     `json:"mode,omitempty"`
	Owner    int        `json:"owner"`
	Group    int        `json:"group"`
	Modified time.Time  `json:"modified"`
	Size     int64      `json:"size,omitempty"`
	Hash     string     `json:"hash,omitempty"`
	Target   []byte     `json:"target,omitempty"`
}

func toItem(i files.Item) item {
	return item{[]byte(i.Path), i.Kind, i.Mode, i.Owner, i.Group, i.Modified, i.Size, i.Hash, []byte(i.Target)}
}

func (i item) item() files.Item {
	return files.Item{Path: string(i.Path), Kind: i.Kind, Mode: i.Mode, Owner: i.Owner, Group: i.Group, Modified: i.Modified, Size: i.Size, Hash: i.Hash, Target: string(i.Target)}
}

// step is a files.Step on its way.
type step struct {
	Do     files.Doing      `json:"do"`
	Name   []byte           `json:"name"`
	Other  []byte           `json:"other,omitempty"`
	With   files.Attributes `json:"with"`
	Anyway bool             `json:"anyway,omitempty"`
}

// taken is a files.Taken on its way, with why it came no further.
type taken struct {
	files.Taken
	Failed *wire.Failure `json:"failed,omitempty"`
}

// TakeSteps says all steps; the helper begins once it knows them all.
func (r *root) TakeSteps(ctx context.Context, steps []files.Step) (files.Taken, error) {
	s, err := r.host.desk.Call(ctx, methodSteps, r.on("."))
	if err != nil {
		return files.Taken{}, err
	}
	t := newTalk(s)
	for _, one := range steps {
		if err = t.put(sayDo, step{one.Do, []byte(one.Name), []byte(one.Other), one.With, one.Anyway}); err != nil {
			return files.Taken{}, because(ctx, s, err)
		}
	}
	if err := errors.Join(t.say(sayNoMore, nil), t.flush(), s.CloseWrite()); err != nil {
		return files.Taken{}, because(ctx, s, err)
	}
	var did taken
	if err := s.Wait(ctx, &did); err != nil {
		return files.Taken{}, err
	}
	if did.Failed != nil {
		return did.Taken, known.Err(*did.Failed)
	}
	return did.Taken, nil
}

// PutTree says what is in the tree, and then the bytes of its files, in their order. The helper proves
// each once more.
func (r *root) PutTree(ctx context.Context, top string, tree files.Tree, source files.Source, wrote func(bytes int64)) error {
	inner, stop := context.WithCancel(ctx)
	defer stop()
	s, err := r.host.desk.Call(inner, methodPutTree, r.on(top))
	if err != nil {
		return err
	}
	t := newTalk(s)
	if err := t.sayTree(tree); err != nil {
		return because(ctx, s, err)
	}
	for _, one := range tree {
		if one.Kind != files.File {
			continue
		}
		own, err := t.sayFile(ctx, one, source)
		if own != nil { // what cannot be read here
			stop()
			return errors.Join(fmt.Errorf("write %s: %w", path.Join(top, one.Path), own), ignoreEnd(s.Wait(inner, nil)))
		}
		if err != nil {
			return because(ctx, s, err)
		}
		if wrote != nil {
			wrote(one.Size)
		}
	}
	if err := errors.Join(t.flush(), s.CloseWrite()); err != nil {
		return because(ctx, s, err)
	}
	return s.Wait(ctx, nil)
}

// ignoreEnd is for a call that was given up.
func ignoreEnd(err error) error {
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// sayFile says the bytes of a file. own is what is wrong with them here, err with the line.
func (t *talk) sayFile(ctx context.Context, one files.Item, source files.Source) (own, err error) {
	from, err := source(one)
	if err != nil {
		return err, nil
	}
	defer from.Close()
	buffer := make([]byte, 32<<10)
	for {
		n, readErr := from.Read(buffer)
		if n > 0 {
			if err := t.say(sayBytes, buffer[:n]); err != nil {
				return nil, err
			}
		}
		switch {
		case errors.Is(readErr, io.EOF):
			return nil, t.say(sayNoMore, nil)
		case readErr != nil:
			return readErr, nil
		case ctx.Err() != nil:
			return ctx.Err(), nil
		}
	}
}
