package files

import (
	"context"
	"errors"
	"fmt"
)

// Duplicate makes a new file out of one of the same machine, as its disk does it best: sharing the bytes where
// it can. Unlike Create, it does not wait until the file is safe on disk. What is not of this machine, or
// what no disk gains by, is an errors.ErrUnsupported, and nothing is made.
func Duplicate(ctx context.Context, from FS, name string, to FS, at string, with Attributes) error {
	if able, ok := from.(Duplicator); ok {
		return able.Duplicate(ctx, name, to, at, with)
	}
	source, err := from.Open(ctx, name, 0)
	if err != nil {
		return err
	}
	defer source.Close()
	here, ok := source.(reading)
	if !ok || !gains(here.file) {
		return fmt.Errorf("duplicate %s: %w", name, errors.ErrUnsupported)
	}
	target, err := to.Create(ctx, at, with)
	if err != nil {
		return err
	}
	made, ok := target.(*newFile)
	if !ok {
		return errors.Join(fmt.Errorf("duplicate %s: %w", name, errors.ErrUnsupported), target.Close(), to.Remove(ctx, at))
	}
	err = duplicate(ctx, made.file, here.file)
	if err == nil {
		err = made.setTime()
	}
	if err = errors.Join(err, made.file.Close()); err != nil {
		return errors.Join(fmt.Errorf("duplicate %s: %w", name, err), to.Remove(context.WithoutCancel(ctx), at))
	}
	return nil
}
