package update

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wetland/core/deploy"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/surroundings"
	"wetland/core/tables"
)

// undo puts back what was before the group, and proves it. It goes by what it finds, not
// by what was done. It says whether the site stands as before; the run goes on.
func (m *motion) undo(reason string) error {
	ctx := m.Abandon
	m.because = reason
	m.Stopped = func() bool { return ctx.Err() != nil }
	// A journal that cannot be written, on a full disk say, must not keep the old
	// version from coming back: recover goes by what it finds.
	m.unlogged = errors.Join(m.unlogged, m.Journal.Write(runs.GoingBack{Reason: reason}))
	if err := deploy.PutUpNotice(ctx, m.Session); err != nil {
		m.Report.End(progress.Doubt, "notice", err.Error()) // going back is worth more
	}
	if err := m.closeGate(ctx); err != nil {
		return err
	}
	if err := m.returnTrees(ctx); err != nil {
		return err
	}
	if err := surroundings.PutBackCode(ctx, m.Session, m.manifest, deploy.Places(m.group)); err != nil {
		return err
	}
	dropped := deploy.DropCompiled(ctx, m.Session)
	if !m.exposed.IsZero() {
		m.Run.Exposed += time.Since(m.exposed)
		m.exposed = time.Time{}
		if !dropped && m.core() == nil { // behind the gate nobody is answered by compiled code
			m.Run.Lingered += m.Site.SettleTime()
		}
	}
	err := tables.PutBackTables(ctx, m.Session, m.readings)
	if err := errors.Join(err, m.openGate(ctx)); err != nil { // with the old files the site can answer
		return err
	}
	if err := deploy.SettleQuietly(ctx, m.Session); err != nil {
		return err
	}
	if m.core() != nil && !m.readings.KnowsUpgrade() {
		m.rebuildLinks(ctx)
	}
	if err := errors.Join(m.provePages(ctx), m.proveVitals(ctx)); err != nil {
		return err
	}
	// The pages' visits may have let the CMS write once more.
	if err := m.proveTables(ctx); err != nil {
		return err
	}
	if err := tables.SweepTables(ctx, m.Session, m.manifest.Tables); err != nil {
		return err
	}
	for _, c := range m.group {
		c.Target.Fate = runs.FateBack
	}
	m.unlogged = errors.Join(m.unlogged, m.Journal.Write(runs.IsBack{}))
	return m.readings.Undecided()
}

// provePages looks at the pages once all else is back. Where they are not as before, the rest
// of the site is compared, too. Pages that are merely doubtful then are told: files and
// tables are proved. Its error says that a page is broken, or could not be looked at.
func (m *motion) provePages(ctx context.Context) error {
	var seen *smoke.Take
	again := func() (judgement *smoke.Judgement, err error) {
		seen, judgement, err = pagecheck.Look(ctx, m.Session, "pages again", runs.AgainFile, m.baseline, nil, pagecheck.Against(m.Session, m.baseline))
		return judgement, err
	}
	judgement, err := again()
	if err != nil {
		return err
	}
	if judgement.Verdict != smoke.Sound {
		changed, err := surroundings.PutBack(ctx, m.Session, m.manifest, deploy.Places(m.changes))
		if err != nil {
			return err
		}
		if changed {
			deploy.DropCompiled(ctx, m.Session)
			if err := deploy.SettleQuietly(ctx, m.Session); err != nil {
				return err
			}
			if judgement, err = again(); err != nil {
				return err
			}
		}
	}
	switch {
	case judgement.Verdict == smoke.Sound:
		return nil
	case judgement.Verdict == smoke.Broken, judgement.Unseen():
		return fmt.Errorf("%s are back, but %s not as before: %s", m.files("database"), phrase.List(judgement.Failing(), 3), pagecheck.FirstFinding(judgement))
	}
	m.doubtful, m.Run.Again = judgement, judgement
	m.learn(seen)
	return nil
}

// proveVitals asks once more what no page shows, where the CMS itself went back.
func (m *motion) proveVitals(ctx context.Context) error {
	if m.core() == nil {
		return nil
	}
	judge := func() (judgement smoke.Judgement, err error) {
		err = pagecheck.JudgeVitals(ctx, m.Session, m.vitals, &judgement)
		return judgement, err
	}
	judgement, err := judge()
	if err != nil || len(judgement.Pages) == 0 {
		return err
	}
	m.rebuildLinks(ctx)
	if judgement, err = judge(); err != nil || len(judgement.Pages) == 0 {
		return err
	}
	return fmt.Errorf("%s are back, but %s", m.files("database"), pagecheck.FirstFinding(&judgement))
}

// learn notes what still differs on pages of which all else is proved to be as before: it
// changes by itself, or with what stayed as it is, and later looks do not count it.
func (m *motion) learn(seen *smoke.Take) {
	m.Run.Learnt = append(m.Run.Learnt, judging.Learn(m.baseline, m.Rules, seen)...)
}

// returnTrees makes the live folders equal to the snapshot again, the last one first.
func (m *motion) returnTrees(ctx context.Context) error {
	return m.Step("put back", 0, "", func() (progress.Mark, string, error) {
		var words, ways []string
		for _, c := range slices.Backward(m.group) {
			proved, how, err := deploy.ReturnTree(ctx, m.Session, c, m.manifest)
			if err != nil {
				return progress.Bad, "", err
			}
			words = append(words, proved)
			if how != "" && !slices.Contains(ways, how) {
				ways = append(ways, how)
			}
		}
		return progress.Good, strings.Join(append([]string{phrase.List(words, 3)}, ways...), "; "), nil
	})
}

// proveTables makes sure that nothing of the update is left in the database. What
// came in again while the pages were looked at is put back once more.
func (m *motion) proveTables(ctx context.Context) error {
	if m.DB == nil {
		return nil
	}
	plan, err := m.readings.PlanTables(ctx)
	if err != nil || plan.Change.Empty() {
		return err
	}
	return tables.PutBackTables(ctx, m.Session, m.readings)
}

// files names files and tables, by the word given, where those are in our hands.
func (m *motion) files(tables string) string {
	if m.NoDatabase != nil {
		return "files"
	}
	return "files and " + tables
}
