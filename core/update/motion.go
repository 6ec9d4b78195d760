// Package update is the guarded motion: it examines, snapshots, overwrites, tests, and keeps what is
// sound or puts back what was before. Begin reading at Update.
//
// It promises that it ends in one of two states that are proved: the new versions, or what was before;
// or says that a person is needed, and what to do.
package update

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"wetland/core/advice"
	"wetland/core/deploy"
	"wetland/core/edits"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/preflight"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/scratch"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/snapshot"
	"wetland/core/tables"
	"wetland/core/workspace"
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
	session.Guard
	preflight.Allowed
	Packages      []string // paths of archives, or NAME or NAME@VERSION from the shelf
	All           bool     // everything that the shelf has newer
	AsGiven       bool     // in the order of Packages, not in the usual one
	OneByOne      bool     // each step is judged by itself, not all of them at the end
	Pick          string   // which package of a bundle: its folder or name
	AcceptPresent bool     // findings that are there before do not count
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
	// An error ends the update, before the pages are looked at, with nothing touched.
	Planned func(p *Plan) error
	// Trial says that it is made on a copy that nobody keeps: it is a rehearsal, and nothing of it is for
	// later updates, neither on the shelf nor among the recorded pages.
	Trial bool
	// Looked is told how the pages are before anything is touched; an error ends the update. nil: nobody is.
	Looked func(before *smoke.Take) error
	// Earlier is a look at the pages of a moment ago, which can spare one before anything is touched; nil: what
	// was recorded last tells.
	Earlier *smoke.Take
	// Rehearsed is what the update did to rows on a private copy, which a Trial finds out; nil: it was not tried there, or
	// nobody wants to know.
	Rehearsed *tables.Doing
	// Moving is what a rehearsal found to change by itself on pages: it is not compared.
	Moving []smoke.Finding
}

// motion is one update under way.
type motion struct {
	*session.Session
	options  Options
	plan     *Plan
	changes  []*deploy.Change // all that are wanted, in their order
	group    []*deploy.Change // those that are tried now
	kept     []*deploy.Change
	company  preflight.Company // what comes along with the packages
	doubts   bool              // one of those was kept with doubts
	attempts int               // groups that were tried
	shown    []cms.Component   // what the CMS had when the group was judged; nil: it was not asked
	seen     *smoke.Take       // the pages that were looked at last
	looked   string            // and their file
	unlogged error             // what could not be written to the journal while going back
	// unrecorded is why the pages could not be made what later ones are compared with.
	unrecorded error
	baseline   *smoke.Take
	manifest   *snapshot.Manifest // from before the group
	readings   *tables.Readings   // of the tables since then
	scratch    string             // for what is taken out of bundles
	returning  *returning         // one component goes back to an older version; nil: no
	because    string             // why it goes back
	doubtful   *smoke.Judgement   // of pages that stayed so though all else is proved to be back
	exposed    time.Time          // since when visitors get the new versions; zero: they do not
	coreStep   preflight.CoreStep // of the CMS itself, where that is among the changes
	vitals     pagecheck.Vitals   // and what it answered before
	// undisturbed are tables to which nobody but the CMS's own upgrade wrote, of a run that is recovered.
	undisturbed []string
	unasked     bool // the site is asked for nothing: only packages and files tell
}

// Update replaces themes and plugins by packages' versions, guarded. It returns
// a *Refusal when nothing was touched for reasons that a person can mend; any
// other error without a run means that it could not begin. With a run, the run's
// State says how it ended; an error beside it says what went wrong.
func Update(ctx context.Context, w *workspace.Workspace, o Options) (run *runs.Run, err error) {
	m, err := openMotion(ctx, w, o, false)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, m.closeMotion()) }()
	if limit := m.Site.Workspace.Config.Update.TimeLimit.Duration; limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, limit, session.ErrTooLong)
		defer cancel()
	}
	began := runs.Began{Returning: m.returning != nil}
	for _, c := range m.changes {
		began.Changes = append(began.Changes, runs.Change{Target: *c.Target, Live: c.Live})
	}
	kind := "update"
	if o.Trial {
		kind = runs.Rehearsal
	}
	if err := m.Begin(kind, began); err != nil {
		return nil, err
	}
	m.Run.Returning = m.returning != nil
	for _, c := range m.changes {
		m.Run.Components = append(m.Run.Components, c.Target)
	}
	if err := m.Run.Save(); err != nil {
		return m.stop(ctx, err)
	}
	if err = m.hook(ctx, "before", m.Site.Workspace.Config.Hooks.Before); err != nil {
		run, err = m.stop(ctx, err)
	} else {
		run, err = m.carryOut(ctx)
	}
	return run, errors.Join(err, m.hooksAfter())
}

// PlanOf returns what an update would do, and touches nothing. Like Update it returns a
// *Refusal when that would be refused.
func PlanOf(ctx context.Context, w *workspace.Workspace, o Options) (plan *Plan, err error) {
	m, err := openMotion(ctx, w, o, false)
	if err != nil {
		return nil, err
	}
	m.plan.Size, err = preflight.SnapshotSize(ctx, m.Session)
	m.planHost(ctx)
	return m.plan, errors.Join(err, m.plan.lookBack(m.Site.Workspace), m.addRisks(ctx), m.closeMotion())
}

// Unasked refuses what an update would refuse for its packages and the site's files alone, as a *Refusal. The
// site's pages are not asked for anything, and nothing is touched.
func Unasked(ctx context.Context, w *workspace.Workspace, o Options) error {
	m, err := openMotion(ctx, w, o, true)
	if err != nil {
		return err
	}
	return m.closeMotion()
}

// openMotion opens the site and the packages, and examines everything that can stand
// against the update, or, unasked, what can be told without the site's pages.
func openMotion(ctx context.Context, w *workspace.Workspace, o Options, unasked bool) (*motion, error) {
	var why runs.Reasons
	s, err := session.Open(ctx, w, o.Guard, &why)
	if err != nil {
		return nil, err
	}
	if o.Return {
		o.Older, o.Same, o.Major, o.LoseEdits = true, true, true, true
	}
	s.Stopped = func() bool { return ctx.Err() != nil }
	m := &motion{Session: s, options: o, unasked: unasked}
	s.Notice = o.Notice
	if m.scratch, err = scratch.Folder(); err == nil {
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
		if c.Pkg != nil {
			err = errors.Join(err, c.Pkg.Close())
		}
	}
	return errors.Join(err, m.closeReadings(), os.RemoveAll(m.scratch), m.Session.Close())
}

func (m *motion) closeReadings() (err error) {
	if m.readings != nil {
		err, m.readings = m.readings.Close(), nil
	}
	return err
}

// prepare examines everything that can stand against the update, touching
// nothing, and refuses with all reasons at once. What needs no page is told before the
// pages are looked at, which takes longest.
func (m *motion) prepare(ctx context.Context, why *runs.Reasons) error {
	if open, err := runs.Unsettled(m.Site.Workspace); err != nil {
		return err
	} else if open != nil && !m.options.Trial { // a copy goes as it is
		why.Advise(fmt.Sprintf("%s %s", open.Name, runs.UnsettledWords[open.State]), advice.Lead("Run:", advice.Recover))
		return why.Refusal()
	}
	if err := m.choose(ctx, why); err != nil {
		return err
	}
	var ofSite runs.Reasons
	var apart sync.WaitGroup
	if !m.unasked {
		apart.Go(func() { preflight.CheckSite(ctx, m.Session, &ofSite) })
		apart.Go(func() { m.findTouched(ctx) })
	}
	defer apart.Wait()
	for _, c := range m.changes {
		if err := m.checkChange(ctx, c, why); err != nil {
			return err
		}
	}
	apart.Wait()
	if err := ctx.Err(); err != nil { // what could not be found out then is no reason
		return err
	}
	pagecheck.AddTouched(m.Session, m.plan.Touched)
	m.makePlan()
	if m.options.Planned != nil {
		if err := m.options.Planned(m.plan); err != nil {
			return err
		}
	}
	*why = append(*why, ofSite...)
	preflight.CheckNotice(m.Session, why)
	deploy.CheckGap(ctx, m.Session, foldersOf(m.changes), m.options.AllowGap, why)
	pagecheck.CheckPages(m.Session, why)
	if m.options.KeepBroken && !m.isReturn() {
		why.Add("--keep-broken is for going back to an older version of one theme or plugin", "Leave it out.")
	}
	if err := why.RefusalBeforeLook(); err != nil || m.unasked {
		return err
	}
	if err := m.findReturn(); err != nil {
		return err
	}
	if m.returning != nil {
		m.Report.End(progress.Note, "returning", m.returning.words)
	}
	before := pagecheck.Before{AcceptPresent: m.options.AcceptPresent, Returning: m.returning != nil,
		Pictures: filepath.Join(m.scratch, runs.PicturesFolder), Earlier: m.options.Earlier}
	proved := m.ProveAhead(ctx, deploy.Places(m.changes))
	var err error
	m.baseline, err = pagecheck.LookBefore(ctx, m.Session, before, why)
	if err := errors.Join(err, proved()); err != nil {
		return err
	}
	m.baseline.Moving = append(m.baseline.Moving, m.options.Moving...)
	if m.options.Looked != nil {
		if err := m.options.Looked(m.baseline); err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return why.Refusal()
}

// findTouched finds the pages that the components have a part in.
func (m *motion) findTouched(ctx context.Context) {
	for _, c := range m.changes {
		found, err := pagecheck.FindTouched(ctx, m.Session, c.Target, c.Pkg)
		if err != nil {
			m.Report.End(progress.Note, "pages", fmt.Sprintf("which pages %s has a part in could not be looked up (%v): those"+
				" of %s are tested", c.Target.Folder, err, workspace.ConfigName))
		}
		if len(found.Pages) > 0 {
			m.plan.Touched = append(m.plan.Touched, found)
		}
	}
}

// checkChange examines one package against what is installed. Of several, each reason
// names its own.
func (m *motion) checkChange(ctx context.Context, c *deploy.Change, why *runs.Reasons) error {
	var own runs.Reasons
	if c.Target.Kind == cms.Core {
		preflight.CheckCore(ctx, m.Session, c, m.coreStep, m.options.Allowed, &own)
	}
	preflight.CheckPlace(ctx, m.Session, c.Target, c.Pkg, &own)
	preflight.CheckParent(m.Session, c.Pkg, m.company, &own)
	if err := m.checkEdits(ctx, c, &own); err != nil {
		return err
	}
	var needs preflight.Examination
	if !m.unasked {
		preflight.CheckRequirements(ctx, m.Session, &needs, c.Pkg, m.company)
	}
	for _, check := range needs.Checks {
		if check.Advice == preflight.No {
			own.Advise(check.What, check.Do...)
		}
	}
	m.addOwn(why, c.Target.Folder, own)
	return nil
}

// addOwn adds a package's reasons, named if there are several packages.
func (m *motion) addOwn(why *runs.Reasons, name string, own runs.Reasons) {
	for _, reason := range own {
		if len(m.options.Packages) > 1 {
			reason.What = name + ": " + reason.What
		}
		*why = append(*why, reason)
	}
}

// checkEdits refuses to overwrite what is known to be edited by hand.
func (m *motion) checkEdits(ctx context.Context, c *deploy.Change, why *runs.Reasons) error {
	installed, ok := site.Component(m.Components, c.Target.Kind, c.Target.Folder)
	if !ok || m.options.LoseEdits && !m.options.Return {
		return nil
	}
	found, err := edits.OfInstalled(ctx, m.Session, installed, nil)
	if err != nil || found == nil || found.None() {
		return err
	}
	if m.options.Return {
		m.Report.End(progress.Note, "edited by hand", fmt.Sprintf("%s: overwritten, and kept as a patch in the run",
			phrase.List(found.All(), 4)))
		return nil
	}
	why.Add(fmt.Sprintf("%s was edited by hand, and the update would overwrite that: %s", installed.Folder,
		phrase.List(found.All(), 4)),
		preflight.EditsAdvice(installed.Kind))
	return nil
}

// named is how a person called the package of a folder: the only one, or by that folder.
func (o Options) named(folder string) string {
	if len(o.Packages) == 1 {
		return o.Packages[0]
	}
	return folder
}

// carryOut is the motion itself, from the snapshot on.
func (m *motion) carryOut(ctx context.Context) (*runs.Run, error) {
	if err := m.keepEvidence(ctx); err != nil {
		return m.stop(ctx, err)
	}
	if !m.plan.OneByOne || len(m.plan.Steps) == 1 {
		return m.together(ctx)
	}
	return m.stepByStep(ctx)
}

// together tries all packages at once, and looks for the culprit if they fail.
func (m *motion) together(ctx context.Context) (*runs.Run, error) {
	judgement, ended, err := m.try(ctx, m.changes)
	if ended {
		return m.Run, err
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
	m.blame(m.changes, judgement)
	if len(deploy.Leaders(m.changes)) > 1 && ctx.Err() == nil && m.maySearch(ctx, judgement) {
		if err := m.search(ctx, judgement, m.Settled); err != nil {
			return m.needsPerson(err)
		}
	}
	return m.finishAfter(ctx, reason)
}

// stepByStep tries the plan's steps one after the other. Each that fails is put back,
// and the next one is tried without it.
func (m *motion) stepByStep(ctx context.Context) (*runs.Run, error) {
	var failed []string
	for _, step := range m.plan.groups {
		judgement, ended, err := m.try(ctx, step)
		if ended {
			return m.Run, err
		}
		if m.Run.Judgement == nil || judgement.Verdict != smoke.Sound {
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
		m.blame(step, judgement)
	}
	return m.finishAfter(ctx, strings.Join(failed, "; "))
}

// judged makes a judgement the one that the run's report tells of.
func (m *motion) judged(judgement *smoke.Judgement) {
	m.Run.Judgement, m.Run.PagesFile = judgement, m.looked
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
	if m.Site.Workspace.Config.Update.InDoubt == "keep" {
		return Keep
	}
	return GoBack
}
