package update

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wetland/core/progress"
	"wetland/core/smoke"
)

// goBack puts back what was before the group, proves it, and ends the run. next is what to
// do once all is back.
func (m *motion) goBack(reason string, next ...string) (*Run, error) {
	if err := m.undo(reason); err != nil {
		return m.needsPerson(err)
	}
	if err := m.closeStaging(m.Abandon); err != nil {
		return m.needsPerson(err)
	}
	if len(m.kept) > 0 {
		return m.endBack(KeptPart, fmt.Sprintf("%s. %s %s put back, and proved; %s, kept before, %s in place.%s%s", capital(reason), titles(m.group), isAre(len(m.group)), titles(m.kept), isAre(len(m.kept)), m.stillDoubtful(), m.exposedWords()), next...)
	}
	return m.endBack(m.backState(), m.backWords(reason), next...)
}

// backState is how a run ends of which all was put back.
func (m *motion) backState() State {
	if m.doubtful != nil {
		return PutBackDoubt
	}
	return PutBack
}

// endBack ends a run that went back, and says what could not be written to its journal.
func (m *motion) endBack(state State, reason string, next ...string) (*Run, error) {
	if err := m.noteEnd(m.Abandon, len(m.kept) > 0); err != nil {
		m.Report.End(progress.Note, "database", fmt.Sprintf("how the tables stand at the end could not be read: %v", err))
	}
	run, err := m.end(state, reason, next...)
	return run, errors.Join(m.unlogged, err)
}

// undo puts back what was before the group, and proves it. It goes by what it finds, not
// by what was done. It says whether the site stands as before; the run goes on.
func (m *motion) undo(reason string) error {
	ctx := m.Abandon
	m.stopped = func() bool { return ctx.Err() != nil }
	// A journal that cannot be written, on a full disk say, must not keep the old
	// version from coming back: recover goes by what it finds.
	m.unlogged = errors.Join(m.unlogged, m.log.Write(stepBack, map[string]string{"reason": reason}))
	if err := m.putUpNotice(ctx); err != nil {
		m.Report.End(progress.Doubt, "notice", err.Error()) // going back is worth more
	}
	if err := m.returnTrees(ctx); err != nil {
		return err
	}
	dropped := m.dropCompiled(ctx)
	if !m.exposed.IsZero() {
		m.run.Exposed += time.Since(m.exposed)
		m.exposed = time.Time{}
		if !dropped {
			m.run.Lingered += m.site.SettleTime()
		}
	}
	if err := m.putBackTables(ctx, m.manifest); err != nil {
		return err
	}
	if err := m.settleQuietly(ctx); err != nil {
		return err
	}
	if err := m.provePages(ctx); err != nil {
		return err
	}
	// The pages' visits may have let the CMS write once more.
	if err := m.proveTables(ctx); err != nil {
		return err
	}
	if err := m.sweepTables(ctx, m.manifest.Tables); err != nil {
		return err
	}
	for _, c := range m.group {
		c.target.Fate = FateBack
	}
	m.unlogged = errors.Join(m.unlogged, m.log.Write(stepIsBack, nil))
	return nil
}

// provePages looks at the pages once all else is back. Where they are not as before, the rest
// of the site is compared, too. Pages that are merely doubtful then are told: files and
// tables are proved. Its error says that a page is broken, or could not be looked at.
func (m *motion) provePages(ctx context.Context) error {
	again := func() (*smoke.Judgement, error) {
		return m.look(ctx, "pages again", againFile, m.baseline, nil, m.against(m.baseline))
	}
	judgement, err := again()
	if err != nil {
		return err
	}
	if judgement.Verdict != smoke.Sound {
		changed, err := m.putBackRest(ctx)
		if err != nil {
			return err
		}
		if changed {
			m.dropCompiled(ctx)
			if err := m.settleQuietly(ctx); err != nil {
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
		return fmt.Errorf("files and database are back, but %s not as before: %s", list(judgement.Failing(), 3), firstFinding(judgement))
	}
	m.doubtful, m.run.Again = judgement, judgement
	return m.learn()
}

// learn notes what still differs on pages of which all else is proved to be as before: it
// changes by itself, or with what stayed as it is, and later looks do not count it.
func (m *motion) learn() error {
	take, err := smoke.LoadTake(filepath.Join(m.run.Folder, againFile))
	if err != nil {
		return err
	}
	m.run.Learnt = append(m.run.Learnt, m.baseline.Learn(m.rules, take)...)
	return nil
}

// backWords says what is as before.
func (m *motion) backWords(reason string) string {
	proved := "and proved: files, tables and pages are as before."
	if m.doubtful != nil {
		proved = "and proved: files and tables are as before." + m.stillDoubtful()
	}
	var old []string
	for _, c := range m.changes {
		switch {
		case len(m.changes) > 1 && c.target.New:
			old = append(old, "no "+c.target.Folder)
		case len(m.changes) > 1:
			old = append(old, c.target.Name+" "+versionText(c.target.From))
		case c.target.New:
			return fmt.Sprintf("%s. It is gone again, %s%s", capital(reason), proved, m.exposedWords())
		default:
			return fmt.Sprintf("%s. Version %s is back, %s%s", capital(reason), versionText(c.target.From), proved, m.exposedWords())
		}
	}
	return fmt.Sprintf("%s. All is back (%s), %s%s", capital(reason), list(old, 4), proved, m.exposedWords())
}

// stillDoubtful tells of pages that differ although all else is as before.
func (m *motion) stillDoubtful() string {
	if m.doubtful == nil {
		return ""
	}
	failing := m.doubtful.Failing()
	words := fmt.Sprintf(" %s still %s from before: %s. Look at %s with your own eyes.",
		plural(len(failing), "page"), map[bool]string{true: "differs", false: "differ"}[len(failing) == 1], firstFinding(m.doubtful), list(failing, 3))
	if m.notItsDoing() {
		words += " The same is found with the version before: it is not the update's doing."
	}
	return words + " The next update does not count it."
}

// notItsDoing tells whether all that was found with the new versions is found without them, too.
func (m *motion) notItsDoing() bool {
	return m.doubtful != nil && m.run.Judgement != nil && m.run.Judgement.Within(m.doubtful)
}

func (m *motion) exposedWords() string {
	if m.run.Exposed == 0 {
		return ""
	}
	what := "The new version"
	if len(m.changes) > 1 {
		what = "What was not kept"
	}
	lingered := ""
	if m.run.Lingered > 0 {
		lingered = fmt.Sprintf(", and PHP may have answered with it for %s more, until its compiled code expired", liveWords(m.run.Lingered))
	}
	return fmt.Sprintf(" %s was live for %s%s.", what, liveWords(m.run.Exposed), lingered)
}

func liveWords(exposed time.Duration) string {
	if exposed < time.Second {
		return "less than a second"
	}
	return exposed.Round(100 * time.Millisecond).String()
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func firstFinding(j *smoke.Judgement) string {
	for _, page := range j.Pages {
		for _, finding := range page.Findings {
			if finding.Counts() {
				return finding.What
			}
		}
	}
	return "no finding"
}

// returnTrees makes the live folders equal to the snapshot again, the last one first.
func (m *motion) returnTrees(ctx context.Context) error {
	return m.step("put back", 0, "", func() (progress.Mark, string, error) {
		var words, ways []string
		for _, c := range slices.Backward(m.group) {
			proved, how, err := m.returnTree(ctx, c, m.manifest)
			if err != nil {
				return progress.Bad, "", err
			}
			words = append(words, proved)
			if how != "" && !slices.Contains(ways, how) {
				ways = append(ways, how)
			}
		}
		return progress.Good, strings.Join(append([]string{list(words, 3)}, ways...), "; "), nil
	})
}

// settleQuietly settles without letting the CMS run upgrades: old code is in place.
func (s *session) settleQuietly(ctx context.Context) error {
	changed := time.Now()
	return s.settleAfter(ctx, func(ctx context.Context) error { return s.waitSettled(ctx, changed) })
}

// settleAfter clears the caches once wait has returned.
func (s *session) settleAfter(ctx context.Context, wait func(context.Context) error) error {
	return s.step("settling", 0, "", func() (progress.Mark, string, error) {
		if err := wait(ctx); err != nil {
			return progress.Bad, "", err
		}
		purged, err := s.purge(ctx)
		if err != nil {
			return progress.Doubt, fmt.Sprintf("the caches could not be cleared: %v", err), nil
		}
		return progress.Good, fmt.Sprintf("caches cleared (%s)", purged), nil
	})
}

// proveTables makes sure that nothing of the update is left in the database. What
// came in again while the pages were looked at is put back once more.
func (m *motion) proveTables(ctx context.Context) error {
	plan, err := m.planTables(ctx, m.manifest)
	if err != nil {
		return err
	}
	if plan.change.Empty() {
		return nil
	}
	return m.putBackTables(ctx, m.manifest)
}

// needsPerson ends a run whose outcome is not proved, with the steps by hand.
func (m *motion) needsPerson(cause error) (*Run, error) {
	if m.Abandon.Err() != nil {
		// The record stays under way, so that recover takes it up.
		m.run.Reason = "You stopped it while the version before was being put back: the site may stand at either version."
		m.run.Next = m.byHand("wetland recover    puts back what was before, and proves it")
		return m.run, errors.Join(ErrAbandoned, m.run.save())
	}
	run, err := m.end(NeedsPerson, "It is not proved that the site is as before: "+cause.Error(), m.byHand("wetland recover    once what is named above is fixed: puts back what was before, and proves it")...)
	return run, errors.Join(cause, err)
}

// ErrAbandoned says that a person stopped even the going back.
var ErrAbandoned = errors.New("stopped while going back: run wetland recover to settle the site")

// byHand gives the exact steps for going back: with Wetland, first of all, and without it.
// Somebody who has stopped it twice is not made to wait for a look at the disk.
func (m *motion) byHand(first string) []string {
	steps := []string{first}
	if m.manifest != nil {
		steps = append(steps, "wetland restore "+m.manifest.Name+"    or: puts files and database back as they were then")
	}
	if m.Abandon.Err() != nil {
		return steps
	}
	ctx := context.WithoutCancel(m.Abandon)
	var moves []string
	for _, c := range m.group {
		_, err := m.site.Files.Lstat(ctx, c.live)
		switch {
		case c.staged == "" || m.isOld(ctx, c):
		case c.target.New:
			moves = append(moves, fmt.Sprintf("mv %s %s", shellQuote(c.live), shellQuote(c.staged)))
		case m.holds(ctx, c.staged, c.oldTree):
			if err == nil {
				moves = append(moves, fmt.Sprintf("mv %s %s", shellQuote(c.live), shellQuote(c.staged+".new")))
			}
			moves = append(moves, fmt.Sprintf("mv %s %s", shellQuote(c.staged), shellQuote(c.live)))
		}
	}
	if len(moves) > 0 {
		steps = append(steps, "Or by hand, as a user who may write there, the files alone; wetland recover finds out afterwards whether all is as before:")
		steps = append(steps, moves...)
	}
	return steps
}

// shellQuote makes one word of a name for a POSIX shell, whatever is in it.
func shellQuote(name string) string {
	return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
}
