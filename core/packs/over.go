package packs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
)

// OpenOver opens a store for one use on top of another, which is not sealed: what that one has need not be
// kept again. What is added goes to the folder dir, and only what is there can be taken away; the other
// store stays as it is.
func OpenOver(ctx context.Context, dir, other string) (*Store, error) {
	return OpenAt(ctx, over{DiskBytes{Dir: dir}, DiskBytes{Dir: other}}, nil)
}

// over keeps what is added apart from what there is.
type over struct{ own, below DiskBytes }

func (o over) Where() string { return o.own.Dir }

func (o over) Put(ctx context.Context, name string) (Writer, error) {
	switch _, err := o.below.Size(ctx, name); {
	case err == nil:
		return nil, fmt.Errorf("%s is in the store already: %w", name, fs.ErrExist)
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	return o.own.Put(ctx, name)
}

func (o over) Get(ctx context.Context, name string, offset, length int64) (io.ReadCloser, error) {
	r, err := o.own.Get(ctx, name, offset, length)
	if errors.Is(err, fs.ErrNotExist) {
		return o.below.Get(ctx, name, offset, length)
	}
	return r, err
}

func (o over) Size(ctx context.Context, name string) (int64, error) {
	size, err := o.own.Size(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return o.below.Size(ctx, name)
	}
	return size, err
}

func (o over) List(ctx context.Context, prefix string) ([]string, error) {
	own, err1 := o.own.List(ctx, prefix)
	below, err2 := o.below.List(ctx, prefix)
	all := append(own, below...)
	slices.Sort(all)
	return all, errors.Join(err1, err2)
}

// ofOther refuses to change what belongs to the other store.
func (o over) ofOther(ctx context.Context, op, name string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		if _, there := o.below.Size(ctx, name); there == nil {
			return &fs.PathError{Op: op, Path: name, Err: fs.ErrPermission}
		}
	}
	return err
}

func (o over) Delete(ctx context.Context, name string) error {
	return o.ofOther(ctx, "delete", name, o.own.Delete(ctx, name))
}

func (o over) Replace(ctx context.Context, name string, before, now []byte) error {
	return o.ofOther(ctx, "replace", name, o.own.Replace(ctx, name, before, now))
}

// Hold keeps the other store from being tidied. Nobody else knows of what is on top.
func (o over) Hold(ctx context.Context, _ bool) (release func() error, err error) {
	return o.below.Hold(ctx, false)
}

func (o over) Clear(ctx context.Context) error { return o.own.Clear(ctx) }
