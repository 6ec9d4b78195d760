package update

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"wetland/core/advice"
	"wetland/core/deploy"
	"wetland/core/durable"
	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/smoke"
	"wetland/core/snapshot"
	"wetland/core/tables"
)

// Recover settles the group whose turn it was; what was kept before stays, and what
// would have come later is left alone.
func Recover(ctx context.Context, s *session.Session, t runs.Trace, to string, undecided Decision) (_ *runs.Run, err error) {
	if len(t.Changes) == 0 && t.Snapshot != "" {
		return nil, advice.With(fmt.Errorf("the journal of %s does not tell what it was for: another version of Wetland wrote it. Recover with that version", s.Run.Name), advice.Lead("Or go back to the snapshot:", advice.Restore, t.Snapshot))
	}
	if to == "old" && len(t.Last) > 0 { // it was finished but for the clearing up
		t.Group, t.Swapping = t.Last, true
		t.Kept = t.Kept[:len(t.Kept)-len(t.Last)]
	}
	if s.Run.Snapshot == "" {
		s.Run.Snapshot = t.Snapshot
	}
	m := &motion{Session: s, options: Options{AllowGap: true}, attempts: 1, looked: runs.AfterFile, undisturbed: t.Undisturbed}
	defer func() { err = errors.Join(err, m.closeReadings()) }()
	s.Run.Components = nil
	for _, begun := range t.Changes {
		c := &deploy.Change{Target: &begun.Target, Live: begun.Live}
		c.Staged = t.Staged[c.Key()]
		s.Run.Components = append(s.Run.Components, c.Target)
		m.changes = append(m.changes, c)
		if slices.Contains(t.Backs, c.Key()) {
			c.Target.Fate = runs.FateBack
		}
		switch {
		case slices.Contains(t.Kept, c.Key()):
			c.Target.Fate = runs.FateKept
			m.kept = append(m.kept, c)
		case slices.Contains(t.Group, c.Key()):
			m.group = append(m.group, c)
		}
	}
	if len(s.Run.Undecided) > 0 && len(m.group) == 0 && s.Run.State == runs.NeedsPerson {
		return m.settleUndecided(ctx, t, undecided)
	}
	if undecided != "" {
		return nil, fmt.Errorf("of %s no rows are undecided: recover it without saying what is to become of them", s.Run.Name)
	}
	if len(m.group) == 0 {
		return m.settleBetween(ctx, t)
	}
	if err := m.readWhatWas(ctx, t); err != nil {
		return nil, err
	}
	if !t.Swapping && m.allOld(ctx) {
		return m.settleBetween(ctx, t)
	}
	if t.Returning {
		if err := m.findReturn(); err != nil {
			return nil, err
		}
	}
	if to == "" && t.Verdict == smoke.Sound {
		to = "new"
	}
	if err := m.sayFound(ctx); err != nil {
		return nil, err
	}
	if to != "new" {
		why := "The update was interrupted before the new version was judged sound"
		if s.Run.State == runs.NeedsPerson {
			why = "The update had failed and could not be put back before"
		}
		return m.goBack(why, m.nextTry())
	}
	return m.settleNew(ctx)
}

// settleUndecided does with rows of which nobody could tell whose they are what somebody decided. All else is back.
func (m *motion) settleUndecided(ctx context.Context, t runs.Trace, decision Decision) (*runs.Run, error) {
	if decision == "" {
		return m.Run, nil // it says what can be decided
	}
	m.group = deploy.Without(m.changes, m.kept)
	if err := m.readWhatWas(ctx, t); err != nil {
		return nil, err
	}
	err := m.Step("rows", 0, "", func() (progress.Mark, string, error) {
		if decision == Keep {
			return progress.Good, "left as they are: you said so", nil
		}
		return progress.Good, "as before the update again: you said so", tables.PutBackDoubts(ctx, m.Session)
	})
	if err == nil {
		err = errors.Join(deploy.SettleQuietly(ctx, m.Session), m.provePages(ctx))
	}
	if err != nil {
		return m.needsPerson(err)
	}
	m.Run.Undecided = nil
	words := map[Decision]string{Keep: "The rows that were undecided stay as they are", GoBack: "The rows that were undecided are as before the update again"}[decision]
	if len(m.kept) > 0 {
		return m.End(runs.KeptPart, fmt.Sprintf("%s. %s %s in place; not in place: %s.", words, deploy.Titles(m.kept), phrase.IsAre(len(m.kept)), deploy.Titles(m.group)), m.nextTry())
	}
	return m.End(m.backState(), words+". "+m.backWords("All else was put back before"), m.nextTry())
}

// settleBetween ends a run that was interrupted while nothing of it was half done.
func (m *motion) settleBetween(ctx context.Context, t runs.Trace) (*runs.Run, error) {
	if len(m.kept) == 0 && len(t.Backs) == 0 {
		return deploy.SettleUntouched(ctx, m.Session)
	}
	if err := deploy.CloseStaging(ctx, m.Session); err != nil {
		return nil, err
	}
	if len(m.kept) == 0 {
		return m.End(runs.PutBack, "It was interrupted after what it had tried was put back and proved: all is as before.", m.nextTry())
	}
	left := deploy.Without(m.changes, m.kept)
	if len(left) == 0 {
		return m.finish(ctx)
	}
	return m.End(runs.KeptPart, fmt.Sprintf("It was interrupted between two steps. %s %s in place, and the pages were sound; not in place: %s.", deploy.Titles(m.kept), phrase.IsAre(len(m.kept)), deploy.Titles(left)), m.nextTry())
}

// readWhatWas reads what the run had noted of the group.
func (m *motion) readWhatWas(ctx context.Context, t runs.Trace) error {
	var err error
	if m.manifest, err = snapshot.Load(ctx, m.Store, t.Snapshot); err != nil {
		return err
	}
	if err := m.readOldTrees(); err != nil {
		return err
	}
	m.baseline, err = smoke.LoadTake(filepath.Join(m.Run.Folder, runs.AcceptedPagesFile))
	if errors.Is(err, fs.ErrNotExist) {
		m.baseline, err = smoke.LoadTake(filepath.Join(m.Run.Folder, runs.BaselineFile))
	}
	if err != nil {
		return fmt.Errorf("read the pages from before the update: %w", err)
	}
	m.Pages = slices.DeleteFunc(slices.Clone(m.Pages), func(p smoke.Page) bool { // those that the run had left out
		_, looked := m.baseline.Page(p.Path)
		return !looked
	})
	for _, c := range m.group {
		if c.NewTree, err = durable.ReadJSONIfAny[files.Tree](c.Target.TreeFile(m.Run.Folder)); err != nil {
			return err
		}
	}
	return m.findMigrated(ctx)
}

// findMigrated looks for the snapshot that was taken once the group had settled.
func (m *motion) findMigrated(ctx context.Context) error {
	names, err := m.Store.Names(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		if other, err := snapshot.Describe(ctx, m.Store, name); err == nil && other.Settles == m.manifest.Name {
			m.Settled = other
		}
	}
	m.readings = tables.NewReadings(m.Session, m.manifest, time.Time{})
	m.readings.SettledIn(m.Settled, m.undisturbed)
	return nil
}

func (m *motion) allOld(ctx context.Context) bool {
	return !slices.ContainsFunc(m.group, func(c *deploy.Change) bool { return !deploy.IsOld(ctx, m.Session, c) })
}

// sayFound reports the state the site was found in.
func (m *motion) sayFound(ctx context.Context) error {
	return m.Step("found", 0, "", func() (progress.Mark, string, error) {
		mark := progress.Note
		var words []string
		for _, c := range m.group {
			switch {
			case deploy.IsNew(ctx, m.Session, c):
				words = append(words, fmt.Sprintf("%s stands at the new version %s", c.Target.Folder, c.Target.To))
			case deploy.IsOld(ctx, m.Session, c):
				words = append(words, fmt.Sprintf("%s stands at the old version %s", c.Target.Folder, c.Target.From))
			default:
				mark = progress.Doubt
				words = append(words, fmt.Sprintf("%s is neither wholly the old version nor wholly the new one", c.Target.Folder))
			}
		}
		return mark, phrase.List(words, 8), nil
	})
}

// settleNew finishes an update: new trees are put in place where they are not there, and
// judged again.
func (m *motion) settleNew(ctx context.Context) (*runs.Run, error) {
	for _, c := range m.group {
		if deploy.IsNew(ctx, m.Session, c) {
			continue
		}
		if c.NewTree == nil || c.IsCore() || !deploy.Holds(ctx, m.Session, c, c.Staged, c.NewTree) {
			return m.goBack(fmt.Sprintf("%s is incomplete, so it cannot be finished", c.Title()), m.nextTry())
		}
		if _, err := c.Put(ctx, m.Session, true); err != nil {
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
