package update

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wetland/core/durable"
	"wetland/core/files"
	"wetland/core/progress"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/snapshot"
)

// Decision is what becomes of an update whose pages are doubtful.
type Decision string

// The decisions.
const (
	Keep   Decision = "keep"
	GoBack Decision = "back"
)

// Options of an update.
type Options struct {
	Guard
	Packages      []string // paths of archives, or NAME or NAME@VERSION from the shelf
	All           bool     // everything that the shelf has newer
	AsGiven       bool     // in the order of Packages, not in the usual one
	OneByOne      bool     // each step is judged by itself, not all of them at the end
	Pick          string   // which package of a bundle: its folder or name
	AcceptPresent bool     // findings that are there before do not count
	AllowOlder    bool
	AllowSame     bool
	AllowMajor    bool
	LoseEdits     bool // what was edited by hand may be overwritten
	// Return brings a version back on purpose, whatever stands now: a newer one, the same
	// one damaged, or edits by hand. It allows all of that.
	Return bool
	// KeepBroken keeps the version of a return though its pages are broken.
	KeepBroken bool
	AllowGap   bool // two renames where an exchange is not possible
	Notice     bool // visitors see a notice while files are swapped
	// InDoubt says what to do when pages are doubtful; "": as wetland.toml says.
	InDoubt Decision
	// Decide is asked when the pages are doubtful; nil: InDoubt tells.
	Decide func(ctx context.Context, judgement *smoke.Judgement) Decision
	// Search looks for the culprit when several packages fail together; nil: as
	// wetland.toml says.
	Search *bool
	// AskSearch is asked whether to; nil: nobody is there.
	AskSearch func(ctx context.Context, s SearchPlan) bool
	// Planned is told the plan as soon as it is known; what stands against it may be
	// told later.
	Planned func(p *Plan)
}

// beginFacts is what recover needs to know of an update.
type beginFacts struct {
	Changes   []beginChange `json:"changes"`
	Returning bool          `json:"returning,omitempty"`
}

type beginChange struct {
	Target Target `json:"target"`
	Live   string `json:"live"`
}

// motion is one update under way.
type motion struct {
	*session
	options  Options
	plan     *Plan
	changes  []*change // all that are wanted, in their order
	group    []*change // those that are tried now
	kept     []*change
	company  Company // what comes along with the packages
	doubts   bool    // one of those was kept with doubts
	attempts int     // groups that were tried
	looked   string  // the file of the pages that were looked at last
	unlogged error   // what could not be written to the journal while going back
	// unrecorded is why the pages could not be made what later ones are compared with.
	unrecorded error
	baseline   *smoke.Take
	manifest   *snapshot.Manifest // from before the group
	scratch    string             // for what is taken out of bundles
	returning  *returning         // one component goes back to an older version; nil: no
	doubtful   *smoke.Judgement   // of pages that stayed so though all else is proved to be back
	exposed    time.Time          // since when visitors get the new versions; zero: they do not
}

// Update replaces themes and plugins by packages' versions, guarded. It returns
// a *Refusal when nothing was touched for reasons that a person can mend; any
// other error without a run means that it could not begin. With a run, the run's
// State says how it ended; an error beside it says what went wrong.
func Update(ctx context.Context, w *site.Workspace, o Options) (run *Run, err error) {
	m, err := openMotion(ctx, w, o)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, m.closeMotion()) }()
	if limit := m.site.Workspace.Config.Update.Within.Duration; limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, limit, errTooLong)
		defer cancel()
	}
	facts := beginFacts{Returning: m.returning != nil}
	for _, c := range m.changes {
		facts.Changes = append(facts.Changes, beginChange{*c.target, c.live})
	}
	if err := m.begin("update", facts); err != nil {
		return nil, err
	}
	m.run.Returning = m.returning != nil
	for _, c := range m.changes {
		m.run.Components = append(m.run.Components, c.target)
	}
	if err := m.run.save(); err != nil {
		return m.stop(ctx, err)
	}
	if err = m.hook(ctx, "before", m.site.Workspace.Config.Hooks.Before); err != nil {
		run, err = m.stop(ctx, err)
	} else {
		run, err = m.carryOut(ctx)
	}
	return run, errors.Join(err, m.hooksAfter())
}

// errTooLong is the cause when an update is stopped because of its length.
var errTooLong = errors.New("the update took longer than [update] within allows")

// PlanOf returns what an update would do, and touches nothing. Like Update it returns a
// *Refusal when that would be refused.
func PlanOf(ctx context.Context, w *site.Workspace, o Options) (plan *Plan, err error) {
	m, err := openMotion(ctx, w, o)
	if err != nil {
		return nil, err
	}
	m.plan.Size, err = m.snapshotSize(ctx)
	return m.plan, errors.Join(err, m.addRisks(ctx), m.closeMotion())
}

// openMotion opens the site and the packages, and examines everything that can stand
// against the update.
func openMotion(ctx context.Context, w *site.Workspace, o Options) (*motion, error) {
	var why reasons
	s, err := open(ctx, w, o.Guard, &why)
	if err != nil {
		return nil, err
	}
	if o.Return {
		o.AllowOlder, o.AllowSame, o.AllowMajor, o.LoseEdits = true, true, true, true
	}
	s.stopped = func() bool { return ctx.Err() != nil }
	m := &motion{session: s, options: o}
	s.notice = o.Notice
	if m.scratch, err = os.MkdirTemp("", "wetland-*"); err == nil {
		err = m.prepare(ctx, &why)
	}
	if err != nil {
		return nil, errors.Join(err, m.closeMotion())
	}
	return m, nil
}

func (m *motion) closeMotion() error {
	var err error
	for _, c := range m.changes {
		if c.pkg != nil {
			err = errors.Join(err, c.pkg.Close())
		}
	}
	return errors.Join(err, os.RemoveAll(m.scratch), m.session.close())
}

// prepare examines everything that can stand against the update, touching
// nothing, and refuses with all reasons at once. What needs no page is told before the
// pages are looked at, which takes longest.
func (m *motion) prepare(ctx context.Context, why *reasons) error {
	if open, err := Unsettled(m.site.Workspace); err != nil {
		return err
	} else if open != nil {
		why.add(fmt.Sprintf("%s %s", open.Name, unsettledWords[open.State]), "Run: wetland recover")
		return why.refusal()
	}
	if err := m.choose(ctx, why); err != nil {
		return err
	}
	for _, c := range m.changes {
		if err := m.checkChange(ctx, c, why); err != nil {
			return err
		}
	}
	m.findTouched(ctx)
	m.makePlan()
	if m.options.Planned != nil {
		m.options.Planned(m.plan)
	}
	m.checkSite(ctx, why)
	m.checkNotice(why)
	m.checkPages(why)
	if m.options.KeepBroken && !m.isReturn() {
		why.add("--keep-broken is for going back to an older version of one theme or plugin", "Leave it out.")
	}
	if err := why.refusalBeforeLook(); err != nil {
		return err
	}
	if err := m.findReturn(); err != nil {
		return err
	}
	if m.returning != nil {
		m.Report.End(progress.Note, "returning", m.returning.words)
	}
	before := beforeOptions{AcceptPresent: m.options.AcceptPresent, Returning: m.returning != nil, Pictures: filepath.Join(m.scratch, picturesFolder)}
	var err error
	if m.baseline, err = m.session.takeBaseline(ctx, before, why); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return why.refusal()
}

// findTouched adds the pages that the components have a part in to those that are tested.
func (m *motion) findTouched(ctx context.Context) {
	for _, c := range m.changes {
		found, err := m.touched(ctx, c.target, c.pkg)
		if err != nil {
			m.Report.End(progress.Note, "pages", fmt.Sprintf("which pages %s has a part in could not be looked up (%v): those of %s are tested", c.target.Folder, err, site.ConfigName))
		}
		if len(found.Pages) > 0 {
			m.plan.Touched = append(m.plan.Touched, found)
		}
	}
	m.addTouched(m.plan.Touched)
}

// checkChange examines one package against what is installed. Of several, each reason
// names its own.
func (m *motion) checkChange(ctx context.Context, c *change, why *reasons) error {
	var own reasons
	m.checkPlace(ctx, c.target, c.pkg, &own)
	m.checkParent(c.pkg, m.company, &own)
	if err := m.checkEdits(ctx, c, &own); err != nil {
		return err
	}
	var needs Examination
	m.checkRequirements(ctx, &needs, c.pkg, m.company)
	for _, check := range needs.Checks {
		if check.Advice == No {
			own.add(check.What, check.Do)
		}
	}
	m.addOwn(why, c.target.Folder, own)
	return nil
}

// addOwn adds a package's reasons, named if there are several packages.
func (m *motion) addOwn(why *reasons, name string, own reasons) {
	for _, reason := range own {
		if len(m.options.Packages) > 1 {
			reason.What = name + ": " + reason.What
		}
		*why = append(*why, reason)
	}
}

// checkEdits refuses to overwrite what is known to be edited by hand.
func (m *motion) checkEdits(ctx context.Context, c *change, why *reasons) error {
	installed, ok := site.Component(m.components, c.target.Kind, c.target.Folder)
	if !ok || m.options.LoseEdits && !m.options.Return {
		return nil
	}
	edits, err := m.handEdits(ctx, installed)
	if err != nil || edits == nil || edits.None() {
		return err
	}
	if m.options.Return {
		m.Report.End(progress.Note, "edited by hand", fmt.Sprintf("%s: overwritten, and kept as a patch in the run", list(edits.All(), 4)))
		return nil
	}
	why.add(fmt.Sprintf("%s was edited by hand, and the update would overwrite that: %s", installed.Folder, list(edits.All(), 4)),
		editsAdvice(installed.Kind))
	return nil
}

// editsAdvice says what to do about edits by hand.
func editsAdvice(kind cms.Kind) string {
	place := "a child theme"
	if kind == cms.Plugin {
		place = "a plugin of your own, which hooks into this one"
	}
	return "Move the edits into " + place + ", or accept the loss: --lose-edits. The snapshot and the shelf keep them."
}

func (o Options) allowed() Allowed {
	return Allowed{Older: o.AllowOlder, Same: o.AllowSame, Major: o.AllowMajor, LoseEdits: o.LoseEdits, Return: o.Return}
}

// named is how a person called the package of a folder: the only one, or by that folder.
func (o Options) named(folder string) string {
	if len(o.Packages) == 1 {
		return o.Packages[0]
	}
	return folder
}

// carryOut is the motion itself, from the snapshot on.
func (m *motion) carryOut(ctx context.Context) (*Run, error) {
	if err := m.keepEvidence(ctx); err != nil {
		return m.stop(ctx, err)
	}
	if !m.options.OneByOne || len(m.plan.Steps) == 1 {
		return m.together(ctx)
	}
	return m.stepByStep(ctx)
}

// together tries all packages at once, and looks for the culprit if they fail.
func (m *motion) together(ctx context.Context) (*Run, error) {
	judgement, ended, err := m.try(ctx, m.changes)
	if ended {
		return m.run, err
	}
	m.judged(judgement)
	if m.acceptable(ctx, judgement) {
		if err := m.keepGroup(ctx, judgement); err != nil {
			return m.needsPerson(err)
		}
		return m.finish(ctx)
	}
	reason := m.failedWords(judgement)
	if err := m.undo(reason); err != nil {
		return m.needsPerson(err)
	}
	blame(m.changes, judgement)
	if len(m.changes) > 1 && ctx.Err() == nil && m.maySearch(ctx, judgement) {
		if err := m.search(ctx, judgement, m.settled); err != nil {
			return m.needsPerson(err)
		}
	}
	return m.finishAfter(ctx, reason)
}

// stepByStep tries the plan's steps one after the other. Each that fails is put back,
// and the next one is tried without it.
func (m *motion) stepByStep(ctx context.Context) (*Run, error) {
	var failed []string
	for _, step := range m.plan.groups {
		judgement, ended, err := m.try(ctx, step)
		if ended {
			return m.run, err
		}
		if m.run.Judgement == nil || judgement.Verdict != smoke.Sound {
			m.judged(judgement)
		}
		if m.acceptable(ctx, judgement) {
			if err := m.keepGroup(ctx, judgement); err != nil {
				return m.needsPerson(err)
			}
			continue
		}
		reason := m.failedWords(judgement)
		failed = append(failed, reason)
		if err := m.undo(reason); err != nil {
			return m.needsPerson(err)
		}
		blame(step, judgement)
	}
	return m.finishAfter(ctx, strings.Join(failed, "; "))
}

// judged makes a judgement the one that the run's report tells of.
func (m *motion) judged(judgement *smoke.Judgement) {
	m.run.Judgement, m.run.PagesFile = judgement, m.looked
}

// acceptable tells whether a group may stay.
func (m *motion) acceptable(ctx context.Context, judgement *smoke.Judgement) bool {
	switch {
	case judgement.Verdict == smoke.Sound:
		return true
	case m.returning != nil: // differences are meant; only faults are not
		return judgement.Verdict == smoke.Doubtful || m.options.KeepBroken
	}
	return judgement.Verdict == smoke.Doubtful && m.decide(ctx, judgement) == Keep
}

func (m *motion) failedWords(judgement *smoke.Judgement) string {
	pages := plural(len(judgement.Pages), "page")
	broke, doubtful := judgement.Count(smoke.Broken), judgement.Count(smoke.Doubtful)
	what := fmt.Sprintf("%d of %s broke", broke, pages)
	switch {
	case broke == 0:
		what = fmt.Sprintf("%d of %s became doubtful", doubtful, pages)
	case doubtful > 0:
		what += fmt.Sprintf(" and %d became doubtful", doubtful)
	}
	return what + " with " + titles(m.group)
}

// whyNotJudged says why the pages could not be looked at.
func (m *motion) whyNotJudged(ctx context.Context, err error) string {
	switch {
	case errors.Is(context.Cause(ctx), errTooLong):
		return errTooLong.Error()
	case ctx.Err() != nil:
		return "You stopped the update before the new version was judged"
	}
	return fmt.Sprintf("the new version could not be judged: %v", err)
}

func (m *motion) nextTry() string {
	named := m.options.Packages
	if len(named) == 0 && !m.options.All { // settling an earlier run
		for _, c := range m.changes {
			named = append(named, c.target.Package)
		}
	}
	if m.options.All {
		named = []string{"--all"}
	}
	return "wetland update " + strings.Join(named, " ") + "    tries again"
}

// attemptName tells the files of several attempts apart.
func attemptName(file string, attempt int) string {
	if attempt <= 1 {
		return file
	}
	ext := filepath.Ext(file)
	return fmt.Sprintf("%s-%d%s", strings.TrimSuffix(file, ext), attempt, ext)
}

func (m *motion) decide(ctx context.Context, judgement *smoke.Judgement) Decision {
	if m.options.Decide != nil {
		return m.options.Decide(ctx, judgement)
	}
	return m.inDoubt()
}

// inDoubt is the decision when nobody is asked.
func (m *motion) inDoubt() Decision {
	if m.options.InDoubt != "" {
		return m.options.InDoubt
	}
	if m.site.Workspace.Config.Update.InDoubt == "keep" {
		return Keep
	}
	return GoBack
}

// keepEvidence keeps in the run how everything was before.
func (m *motion) keepEvidence(ctx context.Context) error {
	if err := m.keepPictures(); err != nil {
		return err
	}
	if err := m.baseline.Save(filepath.Join(m.run.Folder, BaselineFile)); err != nil {
		return err
	}
	for _, c := range m.changes {
		if err := m.savePatch(ctx, c); err != nil {
			return err
		}
	}
	return nil
}

// try snapshots, stages, swaps and judges a group. ended tells that the run is over
// already, with its error: it could not be judged, and is put back.
func (m *motion) try(ctx context.Context, group []*change) (judgement *smoke.Judgement, ended bool, err error) {
	m.group = group
	m.attempts++
	if err := m.untilSwap(ctx); err != nil {
		_, err = m.stop(ctx, err)
		return nil, true, err
	}
	judgement, err = m.judge(ctx)
	if err != nil {
		_, err = m.goBack(m.whyNotJudged(ctx, err), m.nextTry())
		return nil, true, err
	}
	return judgement, false, nil
}

// untilSwap does everything up to and including the swap. After an error the site
// is as it was, or stop makes it so.
func (m *motion) untilSwap(ctx context.Context) error {
	m.settled = nil
	manifest, err := m.takeSnapshot(ctx, "before "+titles(m.group))
	if err != nil {
		return err // an earlier group's snapshot stays the one to go back to
	}
	m.manifest = manifest
	if err := m.log.Write(stepGroup, map[string]any{"group": folders(m.group)}); err != nil {
		return err
	}
	if err := m.readOldTrees(); err != nil {
		return err
	}
	if err := m.stageAll(ctx, m.group, m.options.AllowGap); err != nil {
		return err
	}
	if err := m.markLogs(ctx); err != nil {
		return err
	}
	if err := m.putUpNotice(ctx); err != nil {
		return errors.Join(err, m.takeDownNotice(context.WithoutCancel(ctx)))
	}
	return m.swap(ctx)
}

// keepPictures moves the pictures of the baseline into the run.
func (m *motion) keepPictures() error {
	from, to := m.fetcher.Pictures, filepath.Join(m.run.Folder, picturesFolder, "before")
	if _, err := os.Stat(from); err != nil {
		return nil // no browser looked
	}
	if err := os.CopyFS(to, os.DirFS(from)); err != nil {
		return fmt.Errorf("keep the pictures: %w", err)
	}
	for i := range m.baseline.Pages {
		for width, sight := range m.baseline.Pages[i].Sights {
			for _, picture := range []*string{&sight.Picture, &sight.Again} {
				if *picture != "" {
					*picture = filepath.Join(to, filepath.Base(*picture))
				}
			}
			m.baseline.Pages[i].Sights[width] = sight
		}
	}
	return nil
}

// savePatch keeps what was edited by hand as a patch in the run, before it is
// overwritten.
func (m *motion) savePatch(ctx context.Context, c *change) error {
	installed, _ := site.Component(m.components, c.target.Kind, c.target.Folder)
	shelf, err := m.shelf().List()
	if err != nil {
		return err
	}
	patch, err := EditsPatch(ctx, m.site, installed, shelf)
	if errors.Is(err, ErrNoOriginal) || (err == nil && patch == "") {
		return nil
	}
	if err != nil {
		return fmt.Errorf("save what was edited by hand: %w", err)
	}
	return durable.WriteFile(filepath.Join(m.run.Folder, patchFile(c.target)), []byte(patch))
}

// readOldTrees takes the trees that are to be replaced from the snapshot. Of a new
// component there is none.
func (m *motion) readOldTrees() error {
	for _, c := range m.group {
		if c.target.New {
			continue
		}
		var err error
		if c.oldTree, err = m.manifest.TreeAt(c.live); err != nil {
			return err
		}
	}
	return nil
}

// swap puts the group in place, one right after the other.
func (m *motion) swap(ctx context.Context) error {
	return m.step("swap", 0, "", func() (progress.Mark, string, error) {
		for _, c := range m.group {
			present, err := m.present(ctx, c)
			if err != nil {
				return progress.Bad, "", err
			}
			if differ := files.Exact.Compare(c.oldTree, present); len(differ) > 0 {
				return progress.Bad, "", fmt.Errorf("somebody changed %s since the snapshot (%s: %s). Try again when nobody works on it", c.live, differ[0].Path, differ[0].What)
			}
		}
		if err := ctx.Err(); err != nil {
			return progress.Bad, "", err
		}
		if err := m.borrowTimes(ctx, m.group); err != nil {
			return progress.Bad, "", err
		}
		if err := m.log.Write(stepSwap, nil); err != nil {
			return progress.Bad, "", err
		}
		var words []string
		for _, c := range m.group {
			if m.exposed.IsZero() {
				m.exposed = time.Now()
			}
			done, err := files.Swap(ctx, m.site.Files, c.live, c.staged, m.options.AllowGap)
			if err != nil {
				return progress.Bad, "", err
			}
			if text := swapText(done); !slices.Contains(words, text) {
				words = append(words, text)
			}
		}
		return progress.Good, strings.Join(words, "; "), m.log.Write(stepSwapped, nil)
	})
}

func swapText(done files.Swapped) string {
	switch done.How {
	case files.ByExchange:
		return "in one step: the folder was never absent"
	case files.ByRenames:
		return fmt.Sprintf("by two renames: the folder was absent for %s", done.Gap.Round(time.Microsecond))
	}
	return "moved into its empty place"
}

// judge looks at the pages with the new versions in place.
func (m *motion) judge(ctx context.Context) (*smoke.Judgement, error) {
	m.looked = attemptName(AfterFile, m.attempts)
	judgement, fetched, err := m.judgeFirst(ctx)
	if err != nil {
		return nil, err
	}
	if judgement == nil {
		judgement, err = m.judgeWhole(ctx, fetched)
	} else {
		err = m.readLogs(ctx, judgement, targetsOf(m.group))
	}
	if err != nil {
		return nil, err
	}
	return judgement, m.log.Write(stepJudged, map[string]any{"verdict": judgement.Verdict})
}

// judgeWhole looks with all that there is. fetched are the pages where they were fetched just
// now; nil: they were not.
func (m *motion) judgeWhole(ctx context.Context, fetched *smoke.Take) (*smoke.Judgement, error) {
	if err := m.takeMigrated(ctx); err != nil {
		return nil, err
	}
	judgement, err := m.look(ctx, "pages after", m.looked, m.baseline, fetched, m.judgeNew)
	if err == nil && judgement.Verdict == smoke.Sound {
		var still bool
		if still, err = m.stillSound(ctx, m.judgeNew); err == nil && !still {
			judgement, err = m.look(ctx, "pages after", m.looked, m.baseline, nil, m.judgeNew)
		}
	}
	if err != nil {
		return nil, err
	}
	if err := m.readLogs(ctx, judgement, targetsOf(m.group)); err != nil {
		return nil, err
	}
	if err := m.findEvidence(ctx, judgement); err != nil {
		return nil, err
	}
	m.checkActive(ctx, judgement)
	m.weigh(judgement) // with what was found besides the pages
	return judgement, nil
}

// findEvidence looks for proof that the new files are what the address serves.
func (m *motion) findEvidence(ctx context.Context, judgement *smoke.Judgement) error {
	return m.step("evidence", 0, "", func() (progress.Mark, string, error) {
		var proofs []string
		for _, c := range m.group {
			finding, words := m.evidence(ctx, c.target, c.oldTree, c.newTree)
			if finding != nil {
				judgement.Add(*finding)
				return progress.Doubt, finding.What, nil
			}
			if words != "" {
				proofs = append(proofs, words)
			}
		}
		if len(proofs) == 0 {
			return progress.Note, "this update changes only " + m.unseenFiles() + "; the pages alone can tell", nil
		}
		return progress.Good, list(proofs, 2), nil
	})
}

// unseenFiles names the files that a group changes and browsers do not fetch.
func (m *motion) unseenFiles() string {
	for _, c := range m.group {
		folders := foldersOf(slices.Concat(c.oldTree, c.newTree))
		for _, differ := range files.Content.Compare(c.oldTree, c.newTree) {
			if path.Ext(differ.Path) != ".php" && !folders[differ.Path] {
				return "files that browsers do not fetch"
			}
		}
	}
	return "PHP files"
}

// checkActive adds what the CMS has to say of the group.
func (m *motion) checkActive(ctx context.Context, judgement *smoke.Judgement) {
	finding := smoke.Finding{Page: "(the CMS)", Check: "active", Verdict: smoke.Broken}
	now, err := m.site.CMS.Components(ctx, m.db)
	if err != nil {
		finding.What = fmt.Sprintf("the CMS cannot be asked what is active: %v", err)
		judgement.Add(finding)
		return
	}
	for _, c := range m.group {
		if finding.What = m.stillActive(c, now); finding.What != "" {
			finding.Evidence = c.live + "/"
			judgement.Add(finding)
		}
	}
}

// keepGroup proves the new trees and lets go of the old ones, which by then are in the
// snapshot and on the shelf.
func (m *motion) keepGroup(ctx context.Context, judgement *smoke.Judgement) error {
	ctx = context.WithoutCancel(ctx) // the new versions are proved: finishing is the safest
	err := m.step("kept", 0, "", func() (progress.Mark, string, error) {
		count, details := 0, []string{}
		for _, c := range m.group {
			present, err := files.ReadTree(ctx, m.site.Files, c.live, nil)
			if err != nil {
				return progress.Bad, "", err
			}
			if differ := files.Exact.Compare(c.newTree, present); len(differ) > 0 {
				return progress.Bad, "", fmt.Errorf("%s is not what the package holds any more: %d paths differ, the first is %s (%s)", c.live, len(differ), differ[0].Path, differ[0].What)
			}
			n, _ := c.newTree.Total()
			count += n
			details = append(details, m.shelve(ctx, c, m.manifest))
			c.target.Fate, c.target.Because = FateKept, nil
		}
		return progress.Good, fmt.Sprintf("%s equal to the package; %s", plural(count, "file"), list(details, 2)), nil
	})
	if err != nil {
		return err
	}
	if m.settled == nil {
		if err := m.takeSettled(ctx); err != nil {
			m.Report.End(progress.Note, "after", fmt.Sprintf("the state after the update was not kept: %v. A later restore takes all that changed since for visitors' writes", err))
		}
	}
	if m.settled != nil {
		m.run.Settled = append(m.run.Settled, m.settled.Name)
	}
	m.exposed = time.Time{}
	m.kept = append(m.kept, m.group...)
	if judgement.Verdict != smoke.Sound {
		m.doubts = true
		// Accepted: the next step is compared with it.
		if m.baseline, err = smoke.LoadTake(filepath.Join(m.run.Folder, m.looked)); err != nil {
			return err
		}
		if err := m.baseline.Save(filepath.Join(m.run.Folder, acceptedPagesFile)); err != nil {
			return err
		}
	} else if !m.doubts {
		m.unrecorded = m.recordPages(ctx)
	}
	for _, c := range m.group {
		if err := m.site.Files.RemoveAll(ctx, c.staged); err != nil {
			return fmt.Errorf("clear %s: %w", c.staged, err)
		}
	}
	return m.log.Write(stepKept, map[string]any{"group": folders(m.group)})
}

// takeMigrated keeps the state after the update had settled, if it changed the structure
// of a table: without it nobody could tell what visitors wrote there meanwhile.
func (m *motion) takeMigrated(ctx context.Context) error {
	if m.settled != nil {
		return nil
	}
	changed, err := m.structureChanged(ctx, m.manifest)
	if err != nil || !changed {
		return err
	}
	return m.takeSettled(ctx)
}

// takeSettled keeps the state after the update, so that a later restore can tell what
// the update changed from what visitors wrote since. What did not change costs nothing.
func (m *motion) takeSettled(ctx context.Context) error {
	components, err := m.site.CMS.Components(ctx, m.db)
	if err != nil {
		return err
	}
	was := m.components
	m.components = components
	m.settled, err = m.takeAs(ctx, "after", snapshot.Subject{Reason: "after " + titles(m.group), Settles: m.manifest.Name})
	m.components = was
	return err
}

// finish ends a run of which everything stands.
func (m *motion) finish(ctx context.Context) (*Run, error) {
	if err := m.closeStaging(context.WithoutCancel(ctx)); err != nil {
		return m.needsPerson(err)
	}
	next := []string{"wetland smoke    looks at the pages again, any time"}
	for _, c := range m.kept {
		if c.target.New {
			next = append(next, fmt.Sprintf("Switch the %s %s on in the CMS when you want it, and look at the pages then.", c.target.Kind, c.target.Folder))
		}
	}
	for _, one := range m.company.Beside {
		if one.Differs() && !slices.ContainsFunc(m.changes, func(c *change) bool { return c.target.Kind == one.Kind && c.target.Folder == one.Folder }) {
			next = append(next, fmt.Sprintf("%s %s %s came along with the package and was not installed: wetland examine %s --pick %s", one.Kind, one.Name, one.Version, strings.Join(m.options.Packages, " "), one.Folder))
		}
	}
	if m.doubts {
		return m.finishDoubtful(next)
	}
	if m.unrecorded != nil {
		next = []string{fmt.Sprintf("wetland smoke --learn    records the pages anew: that failed (%v)", m.unrecorded)}
	}
	return m.end(Kept, m.keptWords(), next...)
}

// finishDoubtful ends a run of which everything stands, and not all of it is sound.
func (m *motion) finishDoubtful(next []string) (*Run, error) {
	back := "wetland restore " + m.run.Snapshot + "    goes back, if they are wrong"
	if m.run.Judgement.Verdict == smoke.Broken {
		return m.end(KeptDoubt, fmt.Sprintf("%s %s in place, as you wanted it, with broken pages.%s", titles(m.kept), isAre(len(m.kept)), betterWords(m.run.Judgement)), append([]string{back}, next...)...)
	}
	next = append([]string{"Look at the doubtful pages above with your own eyes.",
		"wetland accept " + m.run.Name + " --because WHY    says that they are as they should be", back}, next...)
	return m.end(KeptDoubt, fmt.Sprintf("%s %s in place, with doubts that a person should look at.%s", titles(m.kept), isAre(len(m.kept)), betterWords(m.run.Judgement)), next...)
}

// finishAfter ends a run of which something failed, and what failed was put back.
func (m *motion) finishAfter(ctx context.Context, reason string) (*Run, error) {
	if len(m.kept) == len(m.changes) {
		return m.finish(ctx)
	}
	if err := m.closeStaging(m.Abandon); err != nil {
		return m.needsPerson(err)
	}
	left := without(m.changes, m.kept)
	var parts []string
	if back := withFate(left, FateBack); len(back) > 0 {
		parts = append(parts, fmt.Sprintf(" Not kept, and put back: %s.", titles(back)))
	}
	if rest := withFate(left, ""); len(rest) > 0 {
		parts = append(parts, fmt.Sprintf(" Not touched: %s.", titles(rest)))
	}
	next := []string{"Tell the vendor what broke: the findings are in " + m.run.Folder, "wetland shelf    lists the other versions at hand"}
	if m.notItsDoing() {
		next = []string{m.nextTry()}
	} else if m.run.Judgement != nil && m.run.Judgement.Verdict == smoke.Doubtful {
		next = append(next, "wetland accept "+m.run.Name+" --because WHY    if it is as it should be; then update again")
	}
	if m.returning != nil && m.run.Judgement != nil && m.run.Judgement.Verdict == smoke.Broken && len(m.kept) == 0 {
		next = append([]string{m.takeAnyway()}, next...)
	}
	if len(m.kept) == 0 {
		return m.endBack(m.backState(), m.backWords(reason), next...)
	}
	if m.unrecorded != nil {
		next = append(next, fmt.Sprintf("wetland smoke --learn    records the pages anew: that failed (%v)", m.unrecorded))
	}
	return m.endBack(KeptPart, fmt.Sprintf("%s %s in place, and the pages are %s.%s%s", titles(m.kept), isAre(len(m.kept)), map[bool]string{true: "as you accepted them", false: "sound"}[m.doubts], strings.Join(parts, ""), m.stillDoubtful()+m.exposedWords()), next...)
}

func isAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

func (m *motion) keptWords() string {
	if len(m.kept) == 1 && m.kept[0].target.New {
		return fmt.Sprintf("The %s %s is installed, not active; %s.", m.kept[0].target.Kind, m.kept[0].title(), m.pagesWords())
	}
	return fmt.Sprintf("%s %s in place, and %s.%s", titles(m.kept), isAre(len(m.kept)), m.pagesWords(), betterWords(m.run.Judgement))
}

// pagesWords says how the pages are that nothing new was found on.
func (m *motion) pagesWords() string {
	still := 0
	if m.run.Judgement != nil {
		for _, page := range m.run.Judgement.Pages {
			if page.StillBroken() {
				still++
			}
		}
	}
	if still == 0 {
		return "the pages are sound"
	}
	return fmt.Sprintf("no page is worse than before; %s %s broken as before", plural(still, "page"), isAre(still))
}

// recordPages makes what the pages show today what they are compared with later. They are
// fetched once more, so that what changes by itself is known.
func (m *motion) recordPages(ctx context.Context) error {
	take, err := smoke.LoadTake(filepath.Join(m.run.Folder, m.looked))
	if err != nil {
		return err
	}
	again, err := m.fetcher.Glance(ctx, m.pages)
	if err != nil {
		return err
	}
	recorded := smoke.Steady(m.rules, take, again)
	recorded.Moving = append(recorded.Moving, m.baseline.Moving...)
	return recorded.Save(m.site.Workspace.Baseline())
}

// stop ends a run before the swap, or one whose swap failed.
func (m *motion) stop(ctx context.Context, cause error) (*Run, error) {
	clear := context.WithoutCancel(ctx)
	for _, c := range m.group {
		if c.staged != "" && !m.isOld(clear, c) {
			return m.goBack(cause.Error(), m.nextTry())
		}
	}
	if err := m.closeStaging(clear); err != nil {
		cause = errors.Join(cause, err)
	}
	if ctx.Err() != nil {
		cause = context.Cause(ctx)
	}
	state, words := Stopped, stoppedWords(ctx)
	if len(m.kept) > 0 {
		state, words = KeptPart, fmt.Sprintf("Stopped before the next swap. %s %s in place already, and the pages were sound; the others were not touched.", titles(m.kept), isAre(len(m.kept)))
	}
	run, err := m.end(state, words)
	return run, errors.Join(cause, err)
}

// stoppedWords says that a run ended before it changed anything, and by whom.
func stoppedWords(ctx context.Context) string {
	switch {
	case ctx.Err() == nil:
		return "Nothing on the site was changed."
	case errors.Is(context.Cause(ctx), errTooLong):
		return capital(errTooLong.Error()) + ". Nothing on the site was changed."
	}
	return "By Ctrl-C, before anything was changed."
}
