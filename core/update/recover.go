package update

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/journal"
	"wetland/core/progress"
	"wetland/core/site"
	"wetland/core/smoke"
)

// RecoverOptions says how to settle.
type RecoverOptions struct {
	Guard
	// To is "old" or "new"; empty: new if it was judged sound before the
	// interruption, else old.
	To string
}

// ErrNothingToRecover says that no run is unsettled.
var ErrNothingToRecover = errors.New("every run has ended properly: there is nothing to recover")

// Recover settles the run that was interrupted, to the old version or the new,
// going by what it finds on the site.
func Recover(ctx context.Context, w *site.Workspace, o RecoverOptions) (run *Run, err error) {
	unsettled, err := Unsettled(w)
	if err != nil {
		return nil, err
	}
	if unsettled == nil {
		return nil, ErrNothingToRecover
	}
	if unsettled.Kind == "restore" {
		return recoverRestore(ctx, w, o, unsettled)
	}
	var why reasons
	s, err := open(ctx, w, o.Guard, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.close()) }()
	if err := why.refusal(); err != nil {
		return nil, err
	}
	// Only now nobody else can be settling it: what was read before may be old.
	if unsettled, err = Unsettled(w); err != nil {
		return nil, err
	}
	if unsettled == nil {
		return nil, ErrNothingToRecover
	}
	s.run = unsettled
	entries, err := journal.Read(filepath.Join(unsettled.Folder, journalFile))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if s.log, err = openJournal(filepath.Join(unsettled.Folder, journalFile)); err != nil {
		return nil, err
	}
	trace := readTrace(entries)
	if trace.snapshot == "" {
		return s.settleUntouched(ctx)
	}
	s.run.Snapshot = trace.snapshot
	return s.settleUpdate(ctx, trace, o.To)
}

func openJournal(name string) (*journal.Journal, error) {
	if _, err := os.Stat(name); errors.Is(err, fs.ErrNotExist) {
		return journal.Create(name)
	}
	return journal.Append(name)
}

// trace is what the journal of an interrupted run tells.
type trace struct {
	begin    beginFacts
	restore  restoreFacts
	snapshot string
	staged   string
	swapping bool // the swap may have happened
	verdict  smoke.Verdict
	touching bool // a restore had begun to change things
}

func readTrace(entries []journal.Entry) trace {
	var t trace
	for _, entry := range entries {
		var facts struct {
			beginFacts
			restoreFacts
			Snapshot string        `json:"snapshot"`
			Staged   string        `json:"staged"`
			Verdict  smoke.Verdict `json:"verdict"`
		}
		if len(entry.Facts) > 0 && json.Unmarshal(entry.Facts, &facts) != nil {
			continue // what cannot be read did not tell anything
		}
		switch entry.Step {
		case stepBegin:
			t.begin, t.restore = facts.beginFacts, facts.restoreFacts
		case stepSnapshot:
			t.snapshot = facts.Snapshot
		case stepStage:
			t.staged = facts.Staged
		case stepSwap:
			t.swapping = true
		case stepJudged:
			t.verdict = facts.Verdict
		case stepBack:
			t.verdict = ""
		case stepRestore:
			t.touching = true
		}
	}
	return t
}

// settleUntouched ends a run that had not touched anything yet.
func (s *session) settleUntouched(ctx context.Context) (*Run, error) {
	if err := s.closeStaging(ctx); err != nil {
		return nil, err
	}
	return s.end(Stopped, "It was interrupted before anything on the site was touched: nothing was changed.")
}

// recoverRestore goes on with a restore that had begun to change things, whatever
// state it left the site in.
func recoverRestore(ctx context.Context, w *site.Workspace, o RecoverOptions, run *Run) (_ *Run, err error) {
	journalName := filepath.Join(run.Folder, journalFile)
	entries, err := journal.Read(journalName)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	t := readTrace(entries)
	if t.restore.Wanted == "" { // it ended before it wrote down what it was for
		t.restore.Wanted = run.Wanted
	}
	var why reasons
	r, err := openRestoration(ctx, w, RestoreOptions{Guard: o.Guard, Snapshot: t.restore.Wanted, Only: t.restore.Only, KeepNew: t.restore.KeepNew, AllowGap: true}, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, r.close()) }()
	if err := why.refusal(); err != nil {
		return nil, err
	}
	// Only now nobody else can be settling it: what was read before may be old.
	if run, err = Unsettled(w); err != nil {
		return nil, err
	}
	if run == nil {
		return nil, ErrNothingToRecover
	}
	if r.log, err = openJournal(journalName); err != nil {
		return nil, err
	}
	r.run, run.Snapshot = run, t.snapshot
	if !t.touching {
		return r.settleUntouched(ctx)
	}
	if r.before, err = r.store.Load(t.snapshot); err != nil {
		return nil, err
	}
	// What is there now is neither the state before the restore nor wholly the one after.
	var present []database.Table
	if r.db != nil {
		if present, err = database.Present(ctx, r.db); err != nil {
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

func (s *session) settleUpdate(ctx context.Context, t trace, to string) (*Run, error) {
	m := &motion{session: s, target: &t.begin.Target, live: t.begin.Live, staged: t.staged, options: Options{AllowGap: true}}
	s.run.Component = m.target
	var err error
	if m.manifest, err = s.store.Load(t.snapshot); err != nil {
		return nil, err
	}
	if err := m.readOldTree(); err != nil {
		return nil, err
	}
	if m.baseline, err = smoke.LoadTake(filepath.Join(s.run.Folder, BaselineFile)); err != nil {
		return nil, fmt.Errorf("read the pages from before the update: %w", err)
	}
	if m.newTree, err = loadTree(filepath.Join(s.run.Folder, newTreeFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	isNew := m.newTree != nil && m.holds(ctx, m.live, m.newTree)
	if !t.swapping && m.untouched(ctx) {
		return s.settleUntouched(ctx)
	}
	if to == "" && t.verdict == smoke.Sound {
		to = "new"
	}
	if err := m.sayFound(isNew); err != nil {
		return nil, err
	}
	if to != "new" {
		return m.goBack("The update was interrupted before the new version was judged sound", m.nextTry())
	}
	return m.settleNew(ctx, isNew)
}

// sayFound reports the state the site was found in.
func (m *motion) sayFound(isNew bool) error {
	return m.step("found", 0, "", func() (progress.Mark, string, error) {
		switch {
		case isNew:
			return noteMark, fmt.Sprintf("%s stands at the new version %s", m.target.Folder, m.target.To), nil
		case m.untouched(context.Background()):
			return noteMark, fmt.Sprintf("%s stands at the old version %s", m.target.Folder, m.target.From), nil
		}
		return doubtMark, fmt.Sprintf("%s is neither wholly the old version nor wholly the new one", m.target.Folder), nil
	})
}

// settleNew finishes an update: the new tree is put in place if it is not there,
// and judged again.
func (m *motion) settleNew(ctx context.Context, isNew bool) (*Run, error) {
	if !isNew {
		if m.newTree == nil || !m.holds(ctx, m.staged, m.newTree) {
			return m.goBack("The new version is not there whole, so that it cannot be finished", m.nextTry())
		}
		if _, err := files.Swap(m.site.Place, m.live, m.staged, true); err != nil {
			return m.needsPerson(err)
		}
	}
	// The components were read with the new version in place; the old one's
	// header is what the shelf needs.
	for i := range m.components {
		if m.components[i].Kind == m.target.Kind && m.components[i].Folder == m.target.Folder {
			m.components[i].Version = m.target.From
		}
	}
	judgement, err := m.judge(ctx)
	if err != nil {
		return m.goBack(m.whyNotJudged(ctx, err), m.nextTry())
	}
	m.run.Judgement = judgement
	if judgement.Verdict != smoke.Sound {
		return m.goBack(fmt.Sprintf("the new version is %s", judgement.Verdict), m.nextTry())
	}
	return m.keep(ctx, Kept, fmt.Sprintf("%s %s is in place, and the pages are sound.", m.target.Name, m.target.To))
}
