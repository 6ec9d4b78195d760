package update

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

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
		return nil, errors.Join(atWork(ctx, w, o.Guard), ErrNothingToRecover)
	}
	if unsettled.Kind == "restore" {
		return recoverRestore(ctx, w, o.Guard, unsettled)
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
	if err := s.resume(unsettled); err != nil {
		return nil, err
	}
	entries, err := journal.Read(filepath.Join(unsettled.Folder, journalFile))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if s.log, err = openJournal(filepath.Join(unsettled.Folder, journalFile)); err != nil {
		return nil, err
	}
	return s.settleUpdate(ctx, readTrace(entries), o.To)
}

// atWork refuses while a run works on the site that has not begun to change anything, and so
// is not recorded yet. A site that cannot be opened has none.
func atWork(ctx context.Context, w *site.Workspace, guard Guard) error {
	guard.fill()
	opened, err := site.Open(ctx, w)
	if err != nil {
		return nil
	}
	s := &session{Guard: guard, site: opened}
	if err := s.lock(ctx); errors.Is(err, ErrBusy) {
		return &Refusal{Reasons: []Reason{{What: err.Error()}}}
	}
	return s.close()
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
	snapshot string            // the last one
	group    []string          // of components, whose turn it was
	staged   map[string]string // by component
	kept     []string          // components that are settled already
	last     []string          // of those, the ones after which nothing came any more
	swapping bool              // the swap may have happened
	backs    []string          // components that were put back before
	verdict  smoke.Verdict
	touching bool // a restore had begun to change things
}

func readTrace(entries []journal.Entry) trace {
	t := trace{staged: map[string]string{}}
	for _, entry := range entries {
		var facts struct {
			beginFacts
			restoreFacts
			Snapshot string            `json:"snapshot"`
			Group    []string          `json:"group"`
			Staged   map[string]string `json:"staged"`
			Verdict  smoke.Verdict     `json:"verdict"`
		}
		if len(entry.Facts) > 0 && json.Unmarshal(entry.Facts, &facts) != nil {
			continue // what cannot be read did not tell anything
		}
		switch entry.Step {
		case stepBegin:
			t.begin, t.restore = facts.beginFacts, facts.restoreFacts
		case stepSnapshot:
			t.snapshot, t.group, t.last = facts.Snapshot, nil, nil
		case stepGroup:
			t.group, t.swapping, t.verdict = facts.Group, false, ""
		case stepStage:
			maps.Copy(t.staged, facts.Staged)
		case stepSwap:
			t.swapping = true
		case stepJudged:
			t.verdict = facts.Verdict
		case stepBack:
			t.verdict = ""
		case stepIsBack:
			t.backs, t.group = append(t.backs, t.group...), nil
		case stepKept:
			t.kept, t.last, t.group = append(t.kept, facts.Group...), facts.Group, nil
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
func recoverRestore(ctx context.Context, w *site.Workspace, guard Guard, run *Run) (_ *Run, err error) {
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
	r, err := openRestoration(ctx, w, RestoreOptions{Guard: guard, Snapshot: t.restore.Wanted, Only: t.restore.Only, KeepNew: t.restore.KeepNew, AllowGap: true, AllowElsewhere: true}, &why)
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
	if err := r.resume(run); err != nil {
		return nil, err
	}
	run.Snapshot = t.snapshot
	r.again = true
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

// settleUpdate settles the group whose turn it was; what was kept before stays, and what
// would have come later is left alone.
func (s *session) settleUpdate(ctx context.Context, t trace, to string) (*Run, error) {
	if len(t.begin.Changes) == 0 && t.snapshot != "" {
		return nil, fmt.Errorf("the journal of %s does not tell what it was for: another version of Wetland wrote it. Run recover with that version, or: wetland restore %s", s.run.Name, t.snapshot)
	}
	if to == "old" && len(t.last) > 0 { // it was finished but for the clearing up
		t.group, t.swapping = t.last, true
		t.kept = t.kept[:len(t.kept)-len(t.last)]
	}
	if s.run.Snapshot == "" {
		s.run.Snapshot = t.snapshot
	}
	m := &motion{session: s, options: Options{AllowGap: true}, attempts: 1, looked: AfterFile}
	s.run.Components = nil
	for _, begun := range t.begin.Changes {
		c := &change{target: &begun.Target, live: begun.Live}
		c.staged = t.staged[c.key()]
		s.run.Components = append(s.run.Components, c.target)
		m.changes = append(m.changes, c)
		if slices.Contains(t.backs, c.key()) {
			c.target.Fate = FateBack
		}
		switch {
		case slices.Contains(t.kept, c.key()):
			c.target.Fate = FateKept
			m.kept = append(m.kept, c)
		case slices.Contains(t.group, c.key()):
			m.group = append(m.group, c)
		}
	}
	if len(m.group) == 0 {
		return m.settleBetween(ctx, t)
	}
	if err := m.readWhatWas(t); err != nil {
		return nil, err
	}
	if !t.swapping && m.allOld(ctx) {
		return m.settleBetween(ctx, t)
	}
	if t.begin.Returning {
		if err := m.findReturn(); err != nil {
			return nil, err
		}
	}
	if to == "" && t.verdict == smoke.Sound {
		to = "new"
	}
	if err := m.sayFound(ctx); err != nil {
		return nil, err
	}
	if to != "new" {
		why := "The update was interrupted before the new version was judged sound"
		if s.run.State == NeedsPerson {
			why = "The update had failed and could not be put back before"
		}
		return m.goBack(why, m.nextTry())
	}
	return m.settleNew(ctx)
}

// settleBetween ends a run that was interrupted while nothing of it was half done.
func (m *motion) settleBetween(ctx context.Context, t trace) (*Run, error) {
	if len(m.kept) == 0 && len(t.backs) == 0 {
		return m.settleUntouched(ctx)
	}
	if err := m.closeStaging(ctx); err != nil {
		return nil, err
	}
	if len(m.kept) == 0 {
		return m.end(PutBack, "It was interrupted after what it had tried was put back and proved: all is as before.", m.nextTry())
	}
	left := without(m.changes, m.kept)
	if len(left) == 0 {
		return m.finish(ctx)
	}
	return m.end(KeptPart, fmt.Sprintf("It was interrupted between two steps. %s %s in place, and the pages were sound; not in place: %s.", titles(m.kept), isAre(len(m.kept)), titles(left)), m.nextTry())
}

// readWhatWas reads what the run had noted of the group.
func (m *motion) readWhatWas(t trace) error {
	var err error
	if m.manifest, err = m.store.Load(t.snapshot); err != nil {
		return err
	}
	if err := m.readOldTrees(); err != nil {
		return err
	}
	m.baseline, err = smoke.LoadTake(filepath.Join(m.run.Folder, acceptedPagesFile))
	if errors.Is(err, fs.ErrNotExist) {
		m.baseline, err = smoke.LoadTake(filepath.Join(m.run.Folder, BaselineFile))
	}
	if err != nil {
		return fmt.Errorf("read the pages from before the update: %w", err)
	}
	m.pages = slices.DeleteFunc(slices.Clone(m.pages), func(p smoke.Page) bool { // those that the run had left out
		_, looked := m.baseline.Page(p.Path)
		return !looked
	})
	for _, c := range m.group {
		if c.newTree, err = readJSONIfAny[files.Tree](c.target.treeFile(m.run.Folder)); err != nil {
			return err
		}
	}
	return m.findMigrated()
}

// findMigrated looks for the snapshot that was taken once the group had settled.
func (m *motion) findMigrated() error {
	names, err := m.store.Names()
	if err != nil {
		return err
	}
	for _, name := range names {
		if other, err := m.store.Describe(name); err == nil && other.Settles == m.manifest.Name {
			m.settled = other
		}
	}
	return nil
}

func (m *motion) allOld(ctx context.Context) bool {
	return !slices.ContainsFunc(m.group, func(c *change) bool { return !m.isOld(ctx, c) })
}

// sayFound reports the state the site was found in.
func (m *motion) sayFound(ctx context.Context) error {
	return m.step("found", 0, "", func() (progress.Mark, string, error) {
		mark := progress.Note
		var words []string
		for _, c := range m.group {
			switch {
			case m.isNew(ctx, c):
				words = append(words, fmt.Sprintf("%s stands at the new version %s", c.target.Folder, c.target.To))
			case m.isOld(ctx, c):
				words = append(words, fmt.Sprintf("%s stands at the old version %s", c.target.Folder, c.target.From))
			default:
				mark = progress.Doubt
				words = append(words, fmt.Sprintf("%s is neither wholly the old version nor wholly the new one", c.target.Folder))
			}
		}
		return mark, list(words, 8), nil
	})
}

// settleNew finishes an update: new trees are put in place where they are not there, and
// judged again.
func (m *motion) settleNew(ctx context.Context) (*Run, error) {
	for _, c := range m.group {
		if m.isNew(ctx, c) {
			continue
		}
		if c.newTree == nil || !m.holds(ctx, c.staged, c.newTree) {
			return m.goBack(fmt.Sprintf("%s is not there whole, so that it cannot be finished", c.title()), m.nextTry())
		}
		if _, err := files.Swap(ctx, m.site.Files, c.live, c.staged, true); err != nil {
			return m.needsPerson(err)
		}
	}
	judgement, err := m.judge(ctx)
	if err != nil {
		return m.goBack(m.whyNotJudged(ctx, err), m.nextTry())
	}
	m.judged(judgement)
	if judgement.Verdict != smoke.Sound {
		return m.goBack(fmt.Sprintf("the new version is %s", judgement.Verdict), m.nextTry())
	}
	if err := m.keepGroup(ctx, judgement); err != nil {
		return m.needsPerson(err)
	}
	return m.finishAfter(ctx, "")
}
