// Package recovery settles a run that was interrupted, going by what it finds on the site. What that
// takes is known to the motion that the run was: packages update and restore.
package recovery

import (
	"context"
	"errors"

	"wetland/core/restore"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/tables"
	"wetland/core/update"
	"wetland/core/workspace"
)

// Options says how to settle.
type Options struct {
	session.Guard
	// To is "old" or "new"; empty: new if it was judged sound before the
	// interruption, else old.
	To string
	// Undecided says what becomes of rows of which nobody can tell whose they are; "": they stay undecided.
	Undecided update.Decision
}

// Recover settles the run that was interrupted, to the old version or the new,
// going by what it finds on the site.
func Recover(ctx context.Context, w *workspace.Workspace, o Options) (run *runs.Run, err error) {
	o.Patient = true // whoever was interrupted may have left a lock
	unsettled, err := runs.Unsettled(w)
	if err != nil {
		return nil, err
	}
	if unsettled == nil {
		return nil, errors.Join(atWork(ctx, w, o.Guard), sweepScratch(ctx, w), runs.ErrNothingToRecover)
	}
	if unsettled.Kind == "restore" {
		return restore.Recover(ctx, w, o.Guard, unsettled)
	}
	var why runs.Reasons
	guard := o.Guard
	guard.WithoutDatabase = unsettled.WithoutDatabase
	s, err := session.Open(ctx, w, guard, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	if err := why.Refusal(); err != nil {
		return nil, err
	}
	// Only now nobody else can be settling it: what was read before may be old.
	if unsettled, err = runs.Unsettled(w); err != nil {
		return nil, err
	}
	if unsettled == nil {
		return nil, runs.ErrNothingToRecover
	}
	if err := s.Resume(ctx, unsettled); err != nil {
		return nil, err
	}
	t, err := unsettled.ReadTrace()
	if err != nil {
		return nil, err
	}
	if s.Journal, err = unsettled.OpenJournal(); err != nil {
		return nil, err
	}
	return update.Recover(ctx, s, t, o.To, o.Undecided)
}

// sweepScratch drops the databases for one use that a crash left, of a site that can be opened.
func sweepScratch(ctx context.Context, w *workspace.Workspace) error {
	opened, err := site.Open(ctx, w)
	if err != nil {
		return nil
	}
	return errors.Join(tables.SweepScratch(ctx, &session.Session{Site: opened}), opened.Close())
}

// atWork refuses while a run works on the site that has not begun to change anything, and so
// is not recorded yet. A site that cannot be opened has none.
func atWork(ctx context.Context, w *workspace.Workspace, guard session.Guard) error {
	guard.Fill()
	opened, err := site.Open(ctx, w)
	if err != nil {
		return nil
	}
	s := &session.Session{Guard: guard, Site: opened}
	if err := s.Lock(ctx); errors.Is(err, session.ErrBusy) {
		return &runs.Refusal{Reasons: []runs.Reason{{What: err.Error()}}}
	}
	return s.Close()
}
