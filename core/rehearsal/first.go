package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/smoke"
	"wetland/core/tables"
	"wetland/core/update"
	"wetland/core/workspace"
)

// UpdateOptions are those of an update that is rehearsed first.
type UpdateOptions struct {
	Options
	// GoOn is asked whether to go on to the site after a rehearsal that was doubtful; nil: what is to
	// be done in doubt tells.
	GoOn func(ctx context.Context, rehearsed *runs.Run) bool
}

// errLarge ends an update that is to be rehearsed first.
var errLarge = errors.New("it is rehearsed first")

// Update is update.Update, with a rehearsal before it where wetland.toml wants one. Where that is broken,
// or doubtful and nobody wants to go on, the site is not touched, and there is no run but the rehearsal.
// Where no copy can be made, an update that is always rehearsed is not made, either; one that is for its
// large steps goes on, and that is told.
func Update(ctx context.Context, w *workspace.Workspace, o UpdateOptions) (rehearsed, run *runs.Run, err error) {
	o.Guard.Fill()
	when := w.Config.Update.Rehearse
	if when != workspace.RehearseAlways {
		inner := o.Options.Options
		if when == workspace.RehearseLarge {
			inner.Planned = func(p *update.Plan) error {
				if p.IsLarge() {
					return errLarge
				}
				if o.Planned == nil {
					return nil
				}
				return o.Planned(p)
			}
		}
		if run, err = update.Update(ctx, w, inner); !errors.Is(err, errLarge) {
			return nil, run, err
		}
	}
	first := &rehearsal{Options: o.Options, live: w}
	first.Rehearsed = &tables.Doing{}
	first.asUpdate = true
	rehearsed, err = first.rehearse(ctx)
	switch {
	case errors.Is(err, ErrNoCopy) && when == workspace.RehearseLarge:
		o.Report.End(progress.Doubt, "rehearsal", "not made: "+whyNot(err))
	case err != nil || rehearsed == nil || !o.goesOn(ctx, rehearsed, w.Config.Update.InDoubt):
		return rehearsed, nil, err
	default:
		o.Report.End(progress.Note, "rehearsal", fmt.Sprintf("%s: %s. Now the site itself", rehearsed.Name, rehearsed.State))
	}
	inner := o.Options.Options
	if rehearsed != nil {
		inner.Planned = nil // it was told
		inner.Earlier, inner.Rehearsed = first.present, first.Rehearsed
		if take, err := smoke.LoadTake(filepath.Join(rehearsed.Folder, runs.BaselineFile)); err == nil {
			inner.Moving = take.Moving
		}
	}
	run, err = update.Update(ctx, w, inner)
	if run != nil && rehearsed != nil {
		run.Rehearsed = rehearsed.Name
		err = errors.Join(err, run.Save())
	}
	return rehearsed, run, err
}

// whyNot says in a line why no copy could be made.
func whyNot(err error) string {
	var refusal *runs.Refusal
	if !errors.As(err, &refusal) {
		return err.Error()
	}
	return reasons(refusal)
}

func reasons(of *runs.Refusal) string {
	var all []string
	for _, reason := range of.Reasons {
		all = append(all, reason.What)
	}
	return phrase.List(all, 3)
}

// goesOn tells whether the site itself comes next.
func (o UpdateOptions) goesOn(ctx context.Context, rehearsed *runs.Run, inDoubt string) bool {
	switch {
	case rehearsed.State == runs.SoundOnCopy:
		return true
	case rehearsed.State != runs.DoubtfulOnCopy:
		return false
	case o.GoOn != nil:
		return o.GoOn(ctx, rehearsed)
	}
	return o.InDoubt == update.Keep || o.InDoubt == "" && inDoubt == string(update.Keep)
}
