package update

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"wetland/core/files"
	"wetland/core/journal"
	"wetland/core/packages"
	"wetland/core/progress"
	"wetland/core/site"
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
	Package       string   // path of an archive, or NAME or NAME@VERSION from the shelf
	Pick          string   // which package of a bundle: its folder or name
	Diff          []string // files whose changes an examination shows line by line
	AcceptPresent bool     // findings that are there before do not count
	AllowOlder    bool
	AllowSame     bool
	AllowMajor    bool
	LoseEdits     bool // what was edited by hand may be overwritten
	AllowGap      bool // two renames where an exchange is not possible
	// Decide is asked when the pages are doubtful; nil: as wetland.toml says.
	Decide func(ctx context.Context, judgement *smoke.Judgement) Decision
	// Planned is told what the package is to replace, as soon as that is known.
	Planned func(t *Target)
}

// beginFacts is what recover needs to know of an update.
type beginFacts struct {
	Target Target `json:"target"`
	Live   string `json:"live"`
}

// motion is one update under way.
type motion struct {
	*session
	options  Options
	target   *Target
	pkg      *packages.Package
	live     string // the component's folder
	staged   string // where the new tree waits, and after the swap the old one
	baseline *smoke.Take
	manifest *snapshot.Manifest
	oldTree  files.Tree
	newTree  files.Tree
	scratch  string    // for what is taken out of a bundle
	exposed  time.Time // since when visitors get the new version
}

// Update replaces one theme or plugin by a package's version, guarded. It returns
// a *Refusal when nothing was touched for reasons that a person can mend; any
// other error without a run means that it could not begin. With a run, the run's
// State says how it ended; an error beside it says what went wrong.
func Update(ctx context.Context, w *site.Workspace, o Options) (run *Run, err error) {
	var why reasons
	s, err := open(ctx, w, o.Guard, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.close()) }()
	m := &motion{session: s, options: o}
	scratch, err := os.MkdirTemp("", "wetland-*")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(scratch)) }()
	m.scratch = scratch
	defer func() {
		if m.pkg != nil {
			err = errors.Join(err, m.pkg.Close())
		}
	}()
	if err := m.prepare(ctx, &why); err != nil {
		return nil, err
	}
	if err := m.begin("update", beginFacts{Target: *m.target, Live: m.live}); err != nil {
		return nil, err
	}
	m.run.Component = m.target
	if err := m.run.save(); err != nil {
		return m.stop(ctx, err)
	}
	return m.carryOut(ctx)
}

// prepare examines everything that can stand against the update, touching
// nothing, and refuses with all reasons at once.
func (m *motion) prepare(ctx context.Context, why *reasons) error {
	if open, err := Unsettled(m.site.Workspace); err != nil {
		return err
	} else if open != nil {
		why.add(fmt.Sprintf("%s was interrupted and is not settled", open.Name), "Run: wetland recover")
		return why.refusal()
	}
	var err error
	if m.pkg, err = m.readPackage(ctx, m.options, m.scratch, why); err != nil {
		return err
	}
	if m.pkg != nil {
		m.target = m.session.target(m.pkg, m.options, why)
		m.live = m.site.ComponentPath(m.target.Kind, m.target.Folder)
		m.checkPlace(m.target, m.pkg, why)
		if err := m.checkEdits(ctx, why); err != nil {
			return err
		}
		var needs Examination
		m.checkRequirements(ctx, &needs, m.pkg)
		for _, check := range needs.Checks {
			if check.Advice == No {
				why.add(check.What, check.Do)
			}
		}
		if m.options.Planned != nil {
			m.options.Planned(m.target)
		}
	}
	m.checkSite(ctx, why)
	m.fetcher.Pictures = filepath.Join(m.scratch, picturesFolder)
	if m.baseline, err = m.takeBaseline(ctx, m.options, why); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return why.refusal()
}

// checkEdits refuses to overwrite what is known to be edited by hand.
func (m *motion) checkEdits(ctx context.Context, why *reasons) error {
	installed, ok := site.Component(m.components, m.target.Kind, m.target.Folder)
	if !ok || m.options.LoseEdits {
		return nil
	}
	edits, err := m.handEdits(ctx, installed)
	if err != nil || edits == nil || edits.None() {
		return err
	}
	why.add(fmt.Sprintf("%s was edited by hand, and the update would overwrite that: %s", installed.Folder, list(edits.All(), 4)),
		"Move the edits into a child theme, or accept the loss: --lose-edits. The snapshot and the shelf keep them.")
	return nil
}

// carryOut is the motion itself, from the snapshot on.
func (m *motion) carryOut(ctx context.Context) (*Run, error) {
	if err := m.untilSwap(ctx); err != nil {
		return m.stop(ctx, err)
	}
	judgement, err := m.judge(ctx)
	if err != nil {
		return m.goBack(m.whyNotJudged(ctx, err), m.nextTry())
	}
	m.run.Judgement = judgement
	switch {
	case judgement.Verdict == smoke.Sound:
		return m.keep(ctx, Kept, m.keptWords())
	case judgement.Verdict == smoke.Doubtful && m.decide(ctx, judgement) == Keep:
		return m.keep(ctx, KeptDoubt, fmt.Sprintf("%s %s is in place, with doubts that a person should look at.", m.target.Name, m.target.To))
	}
	return m.goBack(fmt.Sprintf("%d of %s %s with %s %s", len(judgement.Failing()), plural(len(judgement.Pages), "page"), verdictVerb(judgement), m.target.Name, m.target.To),
		"Tell the vendor what broke: the findings are in "+m.run.Folder, "wetland shelf    lists the other versions at hand")
}

func (m *motion) keptWords() string {
	if m.target.New {
		return fmt.Sprintf("The %s %s %s is installed, not active; the pages are sound.", m.target.Kind, m.target.Name, m.target.To)
	}
	return fmt.Sprintf("%s %s is in place, and the pages are sound.", m.target.Name, m.target.To)
}

// whyNotJudged says why the pages could not be looked at.
func (m *motion) whyNotJudged(ctx context.Context, err error) string {
	if ctx.Err() != nil {
		return "You stopped the update before the new version was judged"
	}
	return fmt.Sprintf("the new version could not be judged: %v", err)
}

func (m *motion) nextTry() string {
	named := m.options.Package
	if named == "" { // settling an earlier run
		named = m.target.Package
	}
	return "wetland update " + named + "    tries again"
}

func verdictVerb(j *smoke.Judgement) string {
	if j.Verdict == smoke.Broken {
		return "broke"
	}
	return "became doubtful"
}

func (m *motion) decide(ctx context.Context, judgement *smoke.Judgement) Decision {
	if m.options.Decide != nil {
		return m.options.Decide(ctx, judgement)
	}
	if m.site.Workspace.Config.Update.InDoubt == "keep" {
		return Keep
	}
	return GoBack
}

// untilSwap does everything up to and including the swap. After an error the site
// is as it was.
func (m *motion) untilSwap(ctx context.Context) error {
	if err := m.keepPictures(); err != nil {
		return err
	}
	if err := m.baseline.Save(filepath.Join(m.run.Folder, BaselineFile)); err != nil {
		return err
	}
	if err := m.savePatch(ctx); err != nil {
		return err
	}
	var err error
	if m.manifest, err = m.takeSnapshot(ctx, fmt.Sprintf("before %s %s", m.target.Name, m.target.To)); err != nil {
		return err
	}
	if err := m.readOldTree(); err != nil {
		return err
	}
	model, err := m.model()
	if err != nil {
		return err
	}
	place, err := m.openStaging(m.live, m.options.AllowGap)
	if err != nil {
		return err
	}
	m.staged = path.Join(place.folder, m.run.Name+"-"+m.target.Folder)
	m.newTree = dress(m.pkg.Tree, model)
	if err := saveJSON(filepath.Join(m.run.Folder, newTreeFile), m.newTree); err != nil {
		return err
	}
	if err := m.log.Write(stepStage, map[string]string{"staged": m.staged}); err != nil {
		return err
	}
	if err := m.stage(ctx, m.staged, m.newTree, m.pkg.Source); err != nil {
		return err
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
			if sight.Picture != "" {
				sight.Picture = filepath.Join(to, filepath.Base(sight.Picture))
				m.baseline.Pages[i].Sights[width] = sight
			}
		}
	}
	return nil
}

// savePatch keeps what was edited by hand as a patch in the run, before it is
// overwritten.
func (m *motion) savePatch(ctx context.Context) error {
	installed, _ := site.Component(m.components, m.target.Kind, m.target.Folder)
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
	return journal.WriteFile(filepath.Join(m.run.Folder, patchFile), []byte(patch))
}

// readOldTree takes the tree that is to be replaced from the snapshot. Of a new
// component there is none.
func (m *motion) readOldTree() error {
	if m.target.New {
		return nil
	}
	var err error
	m.oldTree, err = componentTree(m.manifest, m.live)
	return err
}

// model is the tree whose owners and modes the new one gets: the old one, or of a
// new component the folder that it goes into.
func (m *motion) model() (files.Tree, error) {
	if !m.target.New {
		return m.oldTree, nil
	}
	above, err := m.site.Place.Lstat(path.Dir(m.live))
	return files.Tree{{Path: ".", Kind: files.Folder, Mode: above.Mode, Owner: above.Owner, Group: above.Group}}, err
}

// present reads what is at the live place; nothing is there of a component that
// is not installed.
func (m *motion) present(ctx context.Context) (files.Tree, error) {
	tree, err := files.ReadTree(ctx, m.site.Place, m.live, nil)
	if m.target.New && errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return tree, err
}

func (m *motion) swap(ctx context.Context) error {
	return m.step("swap", 0, "", func() (progress.Mark, string, error) {
		present, err := m.present(ctx)
		if err != nil {
			return badMark, "", err
		}
		if differ := files.Exact.Compare(m.oldTree, present); len(differ) > 0 {
			return badMark, "", fmt.Errorf("somebody changed %s since the snapshot (%s: %s). Try again when nobody works on it", m.live, differ[0].Path, differ[0].What)
		}
		if err := ctx.Err(); err != nil {
			return badMark, "", err
		}
		if err := m.log.Write(stepSwap, nil); err != nil {
			return badMark, "", err
		}
		m.exposed = time.Now()
		done, err := files.Swap(m.site.Place, m.live, m.staged, m.options.AllowGap)
		if err != nil {
			return badMark, "", err
		}
		return goodMark, swapText(done), m.log.Write(stepSwapped, done)
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

// judge looks at the pages with the new version in place.
func (m *motion) judge(ctx context.Context) (*smoke.Judgement, error) {
	if err := m.settle(ctx); err != nil {
		return nil, err
	}
	judgement, err := m.look(ctx, "pages after", m.baseline)
	if err != nil {
		return nil, err
	}
	if err := m.findEvidence(ctx, judgement); err != nil {
		return nil, err
	}
	if finding := m.stillActive(ctx); finding != nil {
		judgement.Add(*finding)
	}
	return judgement, m.log.Write(stepJudged, map[string]any{"verdict": judgement.Verdict})
}

// findEvidence looks for proof that the new files are what the address serves.
func (m *motion) findEvidence(ctx context.Context, judgement *smoke.Judgement) error {
	return m.step("evidence", 0, "", func() (progress.Mark, string, error) {
		finding, words := m.evidence(ctx, m.target, m.oldTree, m.newTree)
		switch {
		case finding != nil:
			judgement.Add(*finding)
			return doubtMark, finding.What, nil
		case words == "":
			return noteMark, "no file that browsers can fetch differs between the versions: the pages alone speak", nil
		}
		return goodMark, words, nil
	})
}

// stillActive finds out whether what was active still is.
func (m *motion) stillActive(ctx context.Context) *smoke.Finding {
	finding := smoke.Finding{Page: "(the CMS)", Check: "active", Verdict: smoke.Broken}
	now, err := m.site.CMS.Components(ctx, m.db)
	if err != nil {
		finding.What = fmt.Sprintf("the CMS cannot be asked what is active: %v", err)
		return &finding
	}
	was, _ := site.Component(m.components, m.target.Kind, m.target.Folder)
	is, ok := site.Component(now, m.target.Kind, m.target.Folder)
	switch {
	case !ok || is.Problem != "":
		finding.What = fmt.Sprintf("the CMS does not find %s any more: %s", m.target.Folder, is.Problem)
	case was.Active && !is.Active, was.ParentOfActive && !is.ParentOfActive:
		finding.What = fmt.Sprintf("%s was active, and is not any more", m.target.Folder)
	case m.target.To != "" && is.Version != m.target.To:
		finding.What = fmt.Sprintf("the CMS reads version %s of %s, not %s", versionText(is.Version), m.target.Folder, m.target.To)
	default:
		return nil
	}
	return &finding
}

// keep proves the new tree and lets go of the old one, which by then is in the
// snapshot and on the shelf.
func (m *motion) keep(ctx context.Context, state State, reason string) (*Run, error) {
	ctx = context.WithoutCancel(ctx) // the new version is proved: finishing is the safest
	err := m.step("kept", 0, "", func() (progress.Mark, string, error) {
		present, err := files.ReadTree(ctx, m.site.Place, m.live, nil)
		if err != nil {
			return badMark, "", err
		}
		if differ := files.Exact.Compare(m.newTree, present); len(differ) > 0 {
			return badMark, "", fmt.Errorf("%s is not what the package holds any more: %d paths differ, the first is %s (%s)", m.live, len(differ), differ[0].Path, differ[0].What)
		}
		detail := m.shelveBoth(ctx)
		count, _ := m.newTree.Total()
		return goodMark, fmt.Sprintf("%s equal to the package; %s", plural(count, "file"), detail), m.closeStaging(ctx)
	})
	if err != nil {
		return m.needsPerson(err)
	}
	if err := m.takeSettled(ctx); err != nil {
		m.Report.End(noteMark, "after", fmt.Sprintf("the state after the update was not kept: %v. A later restore takes all that changed since for visitors' writes", err))
	}
	next := []string{"wetland smoke    looks at the pages again, any time"}
	if m.target.New {
		next = append(next, fmt.Sprintf("Switch the %s on in the CMS when you want it, and look at the pages then.", m.target.Kind))
	}
	if state == Kept {
		if err := m.recordPages(); err != nil {
			next = []string{fmt.Sprintf("wetland smoke --learn    records the pages anew: that failed (%v)", err)}
		}
	}
	for _, one := range m.beside {
		if one.Differs() {
			next = append(next, fmt.Sprintf("%s %s %s came along with the package and was not installed: wetland examine %s --pick %s", one.Kind, one.Name, one.Version, m.options.Package, one.Folder))
		}
	}
	if state == KeptDoubt {
		next = append([]string{"Look at the doubtful pages above with your own eyes.", "wetland restore " + m.manifest.Name + "    goes back, if they are wrong"}, next...)
	}
	return m.end(state, reason, next...)
}

// takeSettled keeps the state after the update, so that a later restore can tell what
// the update changed from what visitors wrote since. What did not change costs nothing.
func (m *motion) takeSettled(ctx context.Context) error {
	components, err := m.site.CMS.Components(ctx, m.db)
	if err != nil {
		return err
	}
	m.components = components
	_, err = m.takeAs(ctx, "after", snapshot.Subject{Reason: fmt.Sprintf("after %s %s", m.target.Name, m.target.To), Settles: m.manifest.Name})
	return err
}

// recordPages makes what the pages show today what they are compared with later.
func (m *motion) recordPages() error {
	take, err := smoke.LoadTake(filepath.Join(m.run.Folder, AfterFile))
	if err != nil {
		return err
	}
	return take.Save(m.site.Workspace.Baseline())
}

// shelveBoth puts the replaced version on the shelf, and the new one's package, so
// that edits by hand can be told later. If that is not possible the snapshot still
// holds the old one.
func (m *motion) shelveBoth(ctx context.Context) string {
	if m.pkg != nil {
		if _, err := m.shelf().Add(m.pkg, filepath.Base(m.pkg.Origin)); err != nil {
			m.Report.End(noteMark, "shelf", fmt.Sprintf("the package is not on the shelf: %v", err))
		}
	}
	if m.target.New {
		return "it was not installed before and is not active: that is for you to do, in the CMS"
	}
	old, _ := site.Component(m.components, m.target.Kind, m.target.Folder)
	kept, err := m.shelf().Keep(ctx, old, m.oldTree, reread(m.site.Place, m.staged), "replaced by "+m.run.Name)
	if err != nil {
		return fmt.Sprintf("the version before is in %s (not on the shelf: %v)", m.manifest.Name, err)
	}
	m.target.Shelved = kept.File
	return fmt.Sprintf("%s is on the shelf and in %s", versionText(m.target.From), m.manifest.Name)
}

// stop ends a run before the swap, or one whose swap failed.
func (m *motion) stop(ctx context.Context, cause error) (*Run, error) {
	clear := context.WithoutCancel(ctx)
	if m.staged != "" && !m.untouched(clear) {
		return m.goBack(cause.Error(), m.nextTry())
	}
	if err := m.closeStaging(clear); err != nil {
		cause = errors.Join(cause, err)
	}
	if ctx.Err() != nil {
		cause = ctx.Err()
	}
	run, err := m.end(Stopped, "Stopped before the swap: nothing on the site was changed.")
	return run, errors.Join(cause, err)
}

// untouched tells, by what is there, that the live tree is still the old one.
func (m *motion) untouched(ctx context.Context) bool {
	present, err := m.present(ctx)
	return err == nil && len(files.Exact.Compare(m.oldTree, present)) == 0
}

// componentTree returns the part of the snapshot at the absolute path.
func componentTree(manifest *snapshot.Manifest, at string) (files.Tree, error) {
	area, below, err := areaOf(manifest, at)
	if err != nil {
		return nil, err
	}
	tree := area.Tree().Below(below)
	if len(tree) == 0 {
		return nil, fmt.Errorf("%s is not in %s", at, manifest.Name)
	}
	return tree, nil
}
