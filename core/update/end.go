package update

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wetland/core/advice"
	"wetland/core/deploy"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/smoke"
	"wetland/core/tables"
)

func (m *motion) failedWords(judgement *smoke.Judgement) string {
	pages := phrase.Plural(len(judgement.Pages), "page")
	broke, doubtful := judgement.Count(smoke.Broken), judgement.Count(smoke.Doubtful)
	what := fmt.Sprintf("%d of %s broke", broke, pages)
	switch {
	case broke == 0:
		what = fmt.Sprintf("%d of %s became doubtful", doubtful, pages)
	case doubtful > 0:
		what += fmt.Sprintf(" and %d became doubtful", doubtful)
	}
	return what + " with " + deploy.Titles(m.group)
}

// whyNotJudged says why the pages could not be looked at.
func (m *motion) whyNotJudged(ctx context.Context, err error) string {
	switch {
	case errors.Is(context.Cause(ctx), session.ErrTooLong):
		return session.ErrTooLong.Error()
	case ctx.Err() != nil:
		return "You stopped the update before the new version was judged"
	}
	return fmt.Sprintf("the new version could not be judged: %v", err)
}

func (m *motion) nextTry() advice.Step {
	named := m.options.Packages
	if len(named) == 0 && !m.options.All { // settling an earlier run
		for _, c := range m.changes {
			if !slices.Contains(named, c.Target.Package) { // a plugin may bring several things
				named = append(named, c.Target.Package)
			}
		}
	}
	if m.options.All {
		return advice.Run("tries again", advice.UpdateAll)
	}
	return advice.Run("tries again", advice.Update, named...)
}

// finish ends a run of which everything stands.
func (m *motion) finish(ctx context.Context) (*runs.Run, error) {
	if err := deploy.CloseStaging(context.WithoutCancel(ctx), m.Session); err != nil {
		return m.needsPerson(err)
	}
	next := []advice.Step{advice.Run("looks at the pages again, any time", advice.LookAgain)}
	for _, c := range m.kept {
		if c.Target.New {
			next = append(next, advice.Do(fmt.Sprintf("Switch the %s %s on in the CMS when you want it, and look at the pages then.", c.Target.Kind, c.Target.Folder)))
		}
	}
	for _, one := range m.company.Beside {
		if one.Differs() && !slices.ContainsFunc(m.changes, func(c *deploy.Change) bool { return c.Target.Kind == one.Kind && c.Target.Folder == one.Folder }) {
			next = append(next, advice.Run(fmt.Sprintf("examines the %s %s %s, which came along with the package and was not installed", one.Kind, one.Name, one.Version), advice.ExaminePicked, append(slices.Clone(m.options.Packages), one.Folder)...))
		}
	}
	if m.doubts {
		return m.finishDoubtful(next)
	}
	if m.NoDatabase != nil {
		next = append(next, advice.Run("brings the files back, if anything is wrong", advice.Restore, m.Run.Snapshot))
	}
	if m.unrecorded != nil {
		next = []advice.Step{m.recordAgain()}
	}
	return m.End(runs.Kept, m.keptWords(), next...)
}

func (m *motion) recordAgain() advice.Step {
	return advice.Run(fmt.Sprintf("records the pages again: that failed (%v)", m.unrecorded), advice.RecordPages)
}

// finishDoubtful ends a run of which everything stands, and not all of it is sound.
func (m *motion) finishDoubtful(next []advice.Step) (*runs.Run, error) {
	back := advice.Run("goes back, if they are wrong", advice.Restore, m.Run.Snapshot)
	if m.Run.Judgement.Verdict == smoke.Broken {
		return m.End(runs.KeptDoubt, fmt.Sprintf("%s %s in place, as you wanted it, with broken pages.%s", deploy.Titles(m.kept), phrase.IsAre(len(m.kept)), betterWords(m.Run.Judgement)), append([]advice.Step{back}, next...)...)
	}
	next = append([]advice.Step{advice.Do("Look at the doubtful pages above with your own eyes."),
		advice.Run("says that they are as they should be", advice.Accept, m.Run.Name), back}, next...)
	return m.End(runs.KeptDoubt, fmt.Sprintf("%s %s in place, with doubts that a person should look at.%s", deploy.Titles(m.kept), phrase.IsAre(len(m.kept)), betterWords(m.Run.Judgement)), next...)
}

// finishAfter ends a run of which something failed, and what failed was put back.
func (m *motion) finishAfter(ctx context.Context, reason string) (*runs.Run, error) {
	if len(m.kept) == len(m.changes) {
		return m.finish(ctx)
	}
	if err := deploy.CloseStaging(m.Abandon, m.Session); err != nil {
		return m.needsPerson(err)
	}
	left := deploy.Without(m.changes, m.kept)
	var parts []string
	if back := deploy.WithFate(left, runs.FateBack); len(back) > 0 {
		parts = append(parts, fmt.Sprintf(" Not kept, and put back: %s.", deploy.Titles(back)))
	}
	if rest := deploy.WithFate(left, ""); len(rest) > 0 {
		parts = append(parts, fmt.Sprintf(" Not touched: %s.", deploy.Titles(rest)))
	}
	next := []advice.Step{m.tellVendor(), advice.Run("lists the other versions at hand", advice.ListShelf)}
	if m.notItsDoing() {
		next = []advice.Step{m.nextTry()}
	} else if m.Run.Judgement != nil && m.Run.Judgement.Verdict == smoke.Doubtful {
		next = append(next, advice.Run("if it is as it should be; then update again", advice.Accept, m.Run.Name))
	}
	if m.returning != nil && m.Run.Judgement != nil && m.Run.Judgement.Verdict == smoke.Broken && len(m.kept) == 0 {
		next = append([]advice.Step{m.takeAnyway()}, next...)
	}
	if len(m.kept) == 0 {
		return m.endBack(m.backState(), m.backWords(reason), next...)
	}
	if m.unrecorded != nil {
		next = append(next, m.recordAgain())
	}
	return m.endBack(runs.KeptPart, fmt.Sprintf("%s %s in place, and the pages are %s.%s%s", deploy.Titles(m.kept), phrase.IsAre(len(m.kept)), map[bool]string{true: "as you accepted them", false: "sound"}[m.doubts], strings.Join(parts, ""), m.stillDoubtful()+m.exposedWords()), next...)
}

func (m *motion) keptWords() string {
	if len(m.kept) == 1 && m.kept[0].Target.New {
		return fmt.Sprintf("The %s %s is installed, not active; %s.", m.kept[0].Target.Kind, m.kept[0].Title(), m.pagesWords())
	}
	return fmt.Sprintf("%s %s in place, and %s.%s", deploy.Titles(m.kept), phrase.IsAre(len(m.kept)), m.pagesWords(), betterWords(m.Run.Judgement))
}

// pagesWords says how the pages are that nothing new was found on.
func (m *motion) pagesWords() string {
	still := 0
	if m.Run.Judgement != nil {
		for _, page := range m.Run.Judgement.Pages {
			if page.StillBroken() {
				still++
			}
		}
	}
	if still == 0 {
		return "the pages are sound"
	}
	return fmt.Sprintf("no page is worse than before; %s %s broken as before", phrase.Plural(still, "page"), phrase.IsAre(still))
}

func (m *motion) tellVendor() advice.Step {
	return advice.Do("Tell the vendor what broke: the findings are in " + m.Run.Folder)
}

// stop ends a run before the swap, or one whose swap failed.
func (m *motion) stop(ctx context.Context, cause error) (*runs.Run, error) {
	clear := context.WithoutCancel(ctx)
	for _, c := range m.group {
		if c.Staged != "" && !deploy.IsOld(clear, m.Session, c) {
			if errors.Is(cause, errNotUpgraded) {
				return m.goBack(cause.Error(), m.tellVendor())
			}
			return m.goBack(cause.Error(), m.nextTry())
		}
	}
	if err := deploy.CloseStaging(clear, m.Session); err != nil {
		cause = errors.Join(cause, err)
		if m.Staging {
			return m.leaveBehind(cause)
		}
	}
	if ctx.Err() != nil {
		cause = context.Cause(ctx)
	}
	state, words := runs.Stopped, session.StoppedWords(ctx)
	if len(m.kept) > 0 {
		state, words = runs.KeptPart, fmt.Sprintf("Stopped before the next swap. %s %s in place already, and the pages were sound; the others were not touched.", deploy.Titles(m.kept), phrase.IsAre(len(m.kept)))
	}
	run, err := m.End(state, words)
	return run, errors.Join(cause, err)
}

// leaveBehind ends a run that swapped nothing, and could not clear away what it had put beside the site:
// recover does that.
func (m *motion) leaveBehind(cause error) (*runs.Run, error) {
	words := "What visitors get was not changed."
	if len(m.kept) > 0 {
		words = fmt.Sprintf("%s %s in place, and the pages were sound; the others were not touched.", deploy.Titles(m.kept), phrase.IsAre(len(m.kept)))
	}
	words += " But what was put beside the site for the swap is still there: it could not be cleared away."
	run, err := m.End(runs.NeedsPerson, words, advice.Run("once the problem above is fixed: clears it away", advice.Recover))
	return run, errors.Join(cause, err)
}

// goBack puts back what was before the group, proves it, and ends the run. next is what to
// do once all is back.
func (m *motion) goBack(reason string, next ...advice.Step) (*runs.Run, error) {
	if err := m.undo(reason); err != nil {
		return m.needsPerson(err)
	}
	if err := deploy.CloseStaging(m.Abandon, m.Session); err != nil {
		return m.needsPerson(err)
	}
	if len(m.kept) > 0 {
		return m.endBack(runs.KeptPart, fmt.Sprintf("%s. %s %s put back, and proved; %s, kept before, %s in place.%s%s", phrase.Capital(reason), deploy.Titles(m.group), phrase.IsAre(len(m.group)), deploy.Titles(m.kept), phrase.IsAre(len(m.kept)), m.stillDoubtful(), m.exposedWords()), next...)
	}
	return m.endBack(m.backState(), m.backWords(reason), next...)
}

// backState is how a run ends of which all was put back.
func (m *motion) backState() runs.State {
	if m.doubtful != nil {
		return runs.PutBackDoubt
	}
	return runs.PutBack
}

// endBack ends a run that went back, and says what could not be written to its journal.
func (m *motion) endBack(state runs.State, reason string, next ...advice.Step) (*runs.Run, error) {
	if err := tables.NoteEnd(m.Abandon, m.Session, len(m.kept) > 0); err != nil {
		m.Report.End(progress.Note, "database", fmt.Sprintf("the state of the tables at the end could not be read: %v", err))
	}
	run, err := m.End(state, reason, next...)
	return run, errors.Join(m.unlogged, err)
}

// backWords says what is as before.
func (m *motion) backWords(reason string) string {
	whole, but := m.asBefore()
	proved := "and proved: " + phrase.List(append(whole, "pages"), 4) + " are as before" + but + "."
	if m.doubtful != nil {
		proved = "and proved: " + phrase.List(whole, 4) + " are as before" + but + "." + m.stillDoubtful()
	}
	var old []string
	for _, c := range m.changes {
		switch {
		case len(m.changes) > 1 && c.Target.New:
			old = append(old, "no "+c.Target.Folder)
		case len(m.changes) > 1:
			old = append(old, c.Target.Name+" "+phrase.Version(c.Target.From))
		case c.Target.New:
			return fmt.Sprintf("%s. It was removed again, %s%s", phrase.Capital(reason), proved, m.exposedWords())
		default:
			return fmt.Sprintf("%s. Version %s is back, %s%s", phrase.Capital(reason), phrase.Version(c.Target.From), proved, m.exposedWords())
		}
	}
	return fmt.Sprintf("%s. All is back (%s), %s%s", phrase.Capital(reason), phrase.List(old, 4), proved, m.exposedWords())
}

// asBefore names what is as before, and what of it is not: tables that somebody else wrote to.
func (m *motion) asBefore() (whole []string, but string) {
	if m.NoDatabase != nil {
		return []string{"files"}, ""
	}
	var theirs, own []string
	for _, note := range m.Run.Database {
		switch {
		case note.Own:
			own = append(own, note.Table)
		case note.Left || note.Unsure:
			theirs = append(theirs, note.Table)
		}
	}
	slices.Sort(theirs)
	if theirs = slices.Compact(theirs); len(theirs) > 0 {
		but = fmt.Sprintf(", but for what visitors or others wrote to %s meanwhile (above)", phrase.List(theirs, 4))
	} else if len(own) > 0 {
		but = ", but for rows that the CMS rewrites by itself"
	}
	return []string{"files", "tables"}, but
}

// stillDoubtful tells of pages that differ although all else is as before.
func (m *motion) stillDoubtful() string {
	if m.doubtful == nil {
		return ""
	}
	failing := m.doubtful.Failing()
	words := fmt.Sprintf(" %s still %s from before: %s. Look at %s with your own eyes.",
		phrase.Plural(len(failing), "page"), map[bool]string{true: "differs", false: "differ"}[len(failing) == 1], pagecheck.FirstFinding(m.doubtful), phrase.List(failing, 3))
	if m.notItsDoing() {
		words += " The same is found with the version before: it is not the update's doing."
	}
	return words + " The next update does not count it."
}

// notItsDoing tells whether all that was found with the new versions is found without them, too.
func (m *motion) notItsDoing() bool {
	return m.doubtful != nil && m.Run.Judgement != nil && m.Run.Judgement.Within(m.doubtful)
}

func (m *motion) exposedWords() string {
	if m.Run.Exposed == 0 {
		return ""
	}
	what := "The new version"
	if len(m.changes) > 1 {
		what = "What was not kept"
	}
	lingered := ""
	if m.Run.Lingered > 0 {
		lingered = fmt.Sprintf(", and PHP may have answered with it for %s more, until its compiled code expired", phrase.Live(m.Run.Lingered))
	}
	return fmt.Sprintf(" %s was live for %s%s.", what, phrase.Live(m.Run.Exposed), lingered)
}

// needsDecision ends a run that went back, but for rows that somebody has to decide about.
func (m *motion) needsDecision(cause *tables.UndecidedError) (*runs.Run, error) {
	if err := deploy.CloseStaging(m.Abandon, m.Session); err != nil {
		return m.needsPerson(err)
	}
	return m.End(runs.NeedsPerson, m.backWords(m.because)+" But "+cause.Error()+".",
		advice.Run("leaves those rows as they are now", advice.RecoverKeep),
		advice.Run("puts them back as they were right before the update", advice.RecoverBack))
}

// needsPerson ends a run whose outcome is not proved, with the steps by hand.
func (m *motion) needsPerson(cause error) (*runs.Run, error) {
	var undecided *tables.UndecidedError
	if errors.As(cause, &undecided) && m.Abandon.Err() == nil {
		return m.needsDecision(undecided)
	}
	if m.Abandon.Err() != nil {
		// The record stays under way, so that recover takes it up.
		m.Run.Reason = "You stopped it while the version before was being put back: the site may stand at either version."
		m.Run.Next = m.byHand("puts back what was before, and proves it")
		return m.Run, errors.Join(session.ErrAbandoned, m.Run.Save())
	}
	words := "It is not proved that the site is as before: " + cause.Error()
	if c := m.core(); c != nil && deploy.GateIsUp(context.WithoutCancel(m.Abandon), m.Session) {
		words += ". Visitors are told to come back in a moment until the parts of " + c.Target.Name + " belong together again"
	}
	run, err := m.End(runs.NeedsPerson, words, m.byHand("once the problem above is fixed: puts back what was before, and proves it")...)
	return run, errors.Join(cause, err)
}

// byHand gives the exact steps for going back: with Wetland, first of all, and without it.
// Somebody who has stopped it twice is not made to wait for a look at the disk.
func (m *motion) byHand(recovering string) []advice.Step {
	steps := []advice.Step{advice.Run(recovering, advice.Recover)}
	if m.manifest != nil {
		steps = append(steps, advice.Run("or puts files and database back as they were then", advice.Restore, m.manifest.Name))
	}
	if m.Abandon.Err() != nil {
		return steps
	}
	ctx := context.WithoutCancel(m.Abandon)
	var moves []advice.Step
	move := func(from, to string) {
		moves = append(moves, advice.Step{Shell: "mv " + phrase.ShellQuote(from) + " " + phrase.ShellQuote(to)})
	}
	for _, c := range m.group {
		_, err := m.Site.Files.Lstat(ctx, c.Live)
		switch {
		case c.Staged == "" || deploy.IsOld(ctx, m.Session, c):
		case c.Target.New:
			move(c.Live, c.Staged)
		case len(c.Target.Parts) > 0: // they may be many, and recover knows them
		case deploy.Holds(ctx, m.Session, c, c.Staged, c.OldTree):
			if err == nil {
				move(c.Live, c.Staged+".new")
			}
			move(c.Staged, c.Live)
		}
	}
	if len(moves) > 0 {
		steps = append(steps, advice.Do("Or move only the files, by hand, as a user who may write there. Recover afterwards: that checks whether all is as before:"))
		steps = append(steps, moves...)
	}
	return steps
}
