package files

import (
	"context"
	"errors"
	"fmt"
	"path"
	"time"
)

// Step is one small call, as data: several can be sent to another machine together.
type Step struct {
	Do    Doing
	Name  string
	Other string // the new name; the name to be exchanged with; or that whose marks are copied
	With  Attributes
	// Anyway says that the others go on where this one fails, and that it counts as done.
	Anyway bool
}

// Doing says what a step does: it is the call of that name.
type Doing string

// What steps can do.
const (
	DoMkdir      Doing = "mkdir"
	DoRemove     Doing = "remove"
	DoRename     Doing = "rename"
	DoExchange   Doing = "exchange"
	DoCopyMarks  Doing = "copy marks"
	DoSyncFolder Doing = "sync folder"
	DoSettle     Doing = "settle"
	DoOpen       Doing = "open" // and close again: whether it can be read
)

// Taken says how far a sequence of steps came.
type Taken struct {
	Steps int           // that were done
	Took  time.Duration // from the beginning of the first one to the end of the last one, where they were done
}

// StepTaker is an FS that takes several steps in one call, one after the other, until one fails. Once
// begun, they go on whether or not the context ends. An ErrNoSteps before the first step says that
// these cannot be taken so.
type StepTaker interface {
	TakeSteps(ctx context.Context, steps []Step) (Taken, error)
}

// TakeSteps takes several steps, one after the other, until one fails.
func TakeSteps(ctx context.Context, fsys FS, steps []Step) (taken Taken, err error) {
	if err := ctx.Err(); err != nil {
		return taken, err
	}
	ctx = context.WithoutCancel(ctx)
	if able, ok := fsys.(StepTaker); ok {
		taken, err := able.TakeSteps(ctx, steps)
		if taken.Steps > 0 || !errors.Is(err, ErrNoSteps) {
			return taken, err
		}
	}
	start := time.Now()
	for _, step := range steps {
		if err = step.take(ctx, fsys); err != nil && !step.Anyway {
			break
		}
		err = nil
		taken.Steps++
	}
	taken.Took = time.Since(start)
	return taken, err
}

// TakeAll takes all steps, one after the other; failed is asked about each that fails: nil passes over it.
func TakeAll(ctx context.Context, fsys FS, steps []Step, failed func(step Step, err error) error) error {
	for len(steps) > 0 {
		taken, err := TakeSteps(ctx, fsys, steps)
		if err == nil {
			return nil
		}
		if taken.Steps >= len(steps) {
			return err
		}
		if err := failed(steps[taken.Steps], err); err != nil {
			return err
		}
		steps = steps[taken.Steps+1:]
	}
	return nil
}

// ErrNoSteps says that a folder does not take these steps together; one by one it may. It is an
// errors.ErrUnsupported.
var ErrNoSteps error = inWords{"these steps cannot be taken together", errors.ErrUnsupported}

func (s Step) take(ctx context.Context, fsys FS) error {
	switch s.Do {
	case DoMkdir:
		return fsys.Mkdir(ctx, s.Name, s.With)
	case DoRemove:
		return fsys.Remove(ctx, s.Name)
	case DoRename:
		return fsys.Rename(ctx, s.Name, s.Other)
	case DoExchange:
		return Exchange(ctx, fsys, s.Name, s.Other)
	case DoCopyMarks:
		return CopyMarks(ctx, fsys, s.Other, s.Name)
	case DoOpen:
		file, err := fsys.Open(ctx, s.Name, 0)
		if err != nil {
			return err
		}
		return file.Close()
	case DoSettle:
		return fsys.Settle(ctx, s.Name, s.With)
	case DoSyncFolder:
		return fsys.SyncFolder(ctx, s.Name)
	}
	return fmt.Errorf("%q is no step: %w", s.Do, errors.ErrUnsupported)
}

// in tells whether all that the step is about is in a folder.
func (s Step) in(folder string) bool {
	return Within(path.Clean(s.Name), folder) && (s.Other == "" || Within(path.Clean(s.Other), folder))
}
