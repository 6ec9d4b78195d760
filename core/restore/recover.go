package restore

import (
	"context"
	"errors"

	"wetland/core/database"
	"wetland/core/deploy"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/snapshot"
	"wetland/core/workspace"
)

// Recover goes on with a restore that had begun to change things, whatever
// state it left the site in.
func Recover(ctx context.Context, w *workspace.Workspace, guard session.Guard, run *runs.Run) (_ *runs.Run, err error) {
	t, err := run.ReadTrace()
	if err != nil {
		return nil, err
	}
	if t.Wanted == "" { // it ended before it wrote down what it was for
		t.Wanted = run.Wanted
	}
	var why runs.Reasons
	r, err := openRestoration(ctx, w, Options{Guard: guard, Snapshot: t.Wanted, Only: t.Only, KeepNew: t.KeepNew, AllowGap: true, AllowElsewhere: true}, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, r.Close()) }()
	if err := why.Refusal(); err != nil {
		return nil, err
	}
	// Only now nobody else can be settling it: what was read before may be old.
	if run, err = runs.Unsettled(w); err != nil {
		return nil, err
	}
	if run == nil {
		return nil, runs.ErrNothingToRecover
	}
	if r.Journal, err = run.OpenJournal(); err != nil {
		return nil, err
	}
	if err := r.Resume(ctx, run); err != nil {
		return nil, err
	}
	run.Snapshot = t.Snapshot
	r.again = true
	if !t.Touching {
		return deploy.SettleUntouched(ctx, r.Session)
	}
	if r.before, err = snapshot.Load(ctx, r.Store, t.Snapshot); err != nil {
		return nil, err
	}
	// What is there now is neither the state before the restore nor wholly the one after.
	var present []database.Table
	if r.DB != nil {
		if present, err = database.Present(ctx, r.DB); err != nil {
			return nil, err
		}
	}
	if err := r.makePlan(ctx, present); err != nil {
		return nil, err
	}
	if err := r.verifyWanted(ctx); err != nil {
		return nil, err
	}
	return r.finish()
}
