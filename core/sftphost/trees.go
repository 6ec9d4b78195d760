package sftphost

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"sync"

	"wetland/core/files"
)

// Each question waits for its way there and back; so many are asked before they are needed.

// foldersAhead is how many folders are listed at the same time, entriesAhead about how many of their entries are
// held before they are visited, and filesAhead how many files are read ahead.
const (
	foldersAhead = 64
	entriesAhead = 20_000
	filesAhead   = 96
)

// heldWhole is how much of a file is read ahead, in bytes; of a longer one the rest comes when it is wanted.
const heldWhole = 256 << 10

// ReadTree reads a tree by what has to travel for that.
func (r *root) ReadTree(ctx context.Context, top string, scope files.Scope) (files.Tree, error) {
	return files.ReadTreeKnowing(ctx, r, top, scope, func(string, files.Entry) string { return "" })
}

// WalkTree walks a tree, and lists the folders that come next meanwhile.
func (r *root) WalkTree(ctx context.Context, top string, scope files.Scope, visit func(string, files.Entry) error, failed func(string, error) error) error {
	entry, err := r.Lstat(ctx, top)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	w := &walk{root: r, ctx: ctx, top: top, scope: scope, visit: visit, failed: failed, listed: map[string]chan listing{}}
	return w.at(".", entry)
}

// walk is one under way. What is listed ahead is bounded; what waits to be are names alone.
type walk struct {
	root   *root
	ctx    context.Context
	top    string
	scope  files.Scope
	visit  func(string, files.Entry) error
	failed func(string, error) error

	lock    sync.Mutex
	waiting []string                // folders about in the order of the walk, backwards, that are not listed yet
	listed  map[string]chan listing // those that are, or are being, and were not visited yet
	running int                     // how many are being listed
	held    int                     // how many entries of those that are came, and wait
}

// listing is what is in a folder.
type listing struct {
	entries []files.Entry
	err     error
}

func (w *walk) at(at string, entry files.Entry) error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	if !w.scope.Has(at) {
		return nil
	}
	if err := w.visit(at, entry); err != nil || entry.Kind != files.Folder {
		return err
	}
	got := w.list(at)
	if errors.Is(got.err, fs.ErrNotExist) {
		return nil
	}
	if got.err != nil {
		return w.failed(path.Join(w.top, at), got.err)
	}
	for _, one := range got.entries {
		if err := w.at(path.Join(at, one.Name), one); err != nil {
			return err
		}
	}
	return nil
}

// list is what is in a folder that is visited now.
func (w *walk) list(at string) listing {
	w.lock.Lock()
	if w.listed[at] == nil { // it was not begun
		w.waiting = slices.DeleteFunc(w.waiting, func(other string) bool { return other == at })
		w.begin(at)
	}
	coming := w.listed[at]
	w.lock.Unlock()
	got := <-coming
	w.lock.Lock()
	defer w.lock.Unlock()
	delete(w.listed, at)
	w.held -= len(got.entries)
	w.ahead()
	return got
}

// ahead lists what comes next, as long as that is not too much.
func (w *walk) ahead() {
	for w.running < foldersAhead && w.held < entriesAhead && len(w.waiting) > 0 && w.ctx.Err() == nil {
		last := len(w.waiting) - 1
		w.begin(w.waiting[last])
		w.waiting = w.waiting[:last]
	}
}

// begin begins to list a folder; what is in it comes next then.
func (w *walk) begin(at string) {
	coming := make(chan listing, 1)
	w.listed[at] = coming
	w.running++
	go func() {
		entries, err := w.root.List(w.ctx, path.Join(w.top, at))
		defer func() { coming <- listing{entries, err} }() // what is in it waits by then
		w.lock.Lock()
		defer w.lock.Unlock()
		w.running--
		w.held += len(entries)
		for _, entry := range slices.Backward(entries) { // the last one waits longest
			if below := path.Join(at, entry.Name); entry.Kind == files.Folder && w.scope.Has(below) {
				w.waiting = append(w.waiting, below)
			}
		}
		w.ahead()
	}()
}

// HashFiles hashes what is read ahead.
func (r *root) HashFiles(ctx context.Context, top string, names []string, each func(int, string, int64, error) error) error {
	return r.ReadFiles(ctx, top, names, func(i int, file *files.Reading, err error) error {
		if err != nil {
			return each(i, "", 0, err)
		}
		hash, size, err := files.Hash(file)
		return each(i, hash, size, err)
	})
}

// ReadFiles reads files in their order, and the beginnings of those that come next meanwhile.
func (r *root) ReadFiles(ctx context.Context, top string, names []string, each func(int, *files.Reading, error) error) error {
	ctx, stop := context.WithCancel(ctx)
	coming := make([]chan *held, len(names))
	begin := func(i int) {
		if i >= len(names) {
			return
		}
		coming[i] = make(chan *held, 1)
		go func() { coming[i] <- r.hold(ctx, top, names[i]) }()
	}
	for i := range min(filesAhead, len(names)) {
		begin(i)
	}
	defer func() {
		stop()
		for _, one := range coming {
			if one != nil {
				(<-one).close()
			}
		}
	}()
	for i := range names {
		if err := ctx.Err(); err != nil {
			return err
		}
		file := <-coming[i]
		coming[i] = nil
		begin(i + filesAhead)
		err := each(i, file.reading(), file.err)
		file.close()
		if err != nil {
			return err
		}
	}
	return ctx.Err()
}

// held is a file whose beginning is here.
type held struct {
	root   *root
	ctx    context.Context
	name   string
	before files.Entry
	start  []byte
	rest   io.ReadCloser // nil: there is no more
	after  files.Entry   // where there is no more
	err    error
}

// hold reads the beginning of a file: of a short one, all.
func (r *root) hold(ctx context.Context, top, name string) *held {
	h := &held{root: r, ctx: ctx, name: path.Join(top, name)}
	if err := files.CheckName(name); err != nil {
		h.err = &fs.PathError{Op: "read", Path: name, Err: err}
		return h
	}
	name = h.name
	if h.before, h.err = r.Lstat(ctx, name); h.err != nil {
		return h
	}
	file, err := r.Open(ctx, name, 0)
	if err != nil {
		h.err = err
		return h
	}
	h.start = make([]byte, min(h.before.Size, heldWhole))
	n, err := io.ReadFull(file, h.start)
	h.start = h.start[:n]
	if h.before.Size > heldWhole && err == nil {
		h.rest = file
		return h
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) { // it became shorter
		err = nil
	}
	closed := make(chan error, 1)
	go func() { closed <- file.Close() }()
	h.after, h.err = r.Lstat(ctx, name)
	h.err = errors.Join(h.err, err, <-closed)
	return h
}

func (h *held) reading() *files.Reading {
	if h.err != nil {
		return nil
	}
	if h.rest == nil {
		return &files.Reading{Reader: bytes.NewReader(h.start), Before: h.before, After: func() (files.Entry, error) { return h.after, nil }}
	}
	return &files.Reading{
		Reader: io.MultiReader(bytes.NewReader(h.start), h.rest), Before: h.before,
		After: func() (files.Entry, error) { return h.root.Lstat(h.ctx, h.name) },
	}
}

func (h *held) close() {
	if h.rest != nil {
		_ = h.rest.Close() // it was only read
	}
}
