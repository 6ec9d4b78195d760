// Package preflight holds a package against a site and touches nothing: everything that can stand
// against an update is found here, with what to do about it. Begin reading at Examine.
package preflight

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wetland/core/advice"
	"wetland/core/deploy"
	"wetland/core/edits"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/packages"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/scratch"
	"wetland/core/session"
	"wetland/core/shelf"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/site/traits"
	"wetland/core/snapshot"
	"wetland/core/version"
	"wetland/core/workspace"
)

// Advice is what an examination comes to, for one check or for all.
type Advice string

// The advices, from best to worst.
const (
	Go   Advice = "go"
	Care Advice = "go with care"
	No   Advice = "no"
)

// Check is one thing that was looked at.
type Check struct {
	Name   string `json:"name"`
	Advice Advice `json:"advice"`
	runs.Reason
}

// Examination holds a package against a site.
type Examination struct {
	Target  *runs.Target   `json:"target,omitempty"`
	Advice  Advice         `json:"advice"`
	Checks  []Check        `json:"checks"`
	Added   []string       `json:"added"` // files of the new version that the installed one lacks
	Changed []string       `json:"changed"`
	Removed []string       `json:"removed"`
	Beside  []shelf.Beside `json:"companions,omitempty"` // packages that came along in the bundle
	Log     string         `json:"change_log,omitempty"` // the package's own, between the two versions
	// Diffs are the changes of the files that were asked for, in the unified form.
	Diffs []string `json:"diffs,omitempty"`
}

// Add notes what a check found. The worst advice becomes that of the whole.
func (e *Examination) Add(name string, worth Advice, what, do string) {
	e.advise(name, worth, what, advice.Steps(do)...)
}

// advise is Add with any steps.
func (e *Examination) advise(name string, worth Advice, what string, steps ...advice.Step) {
	e.note(Check{name, worth, runs.Reason{What: what, Do: steps}})
}

func (e *Examination) note(check Check) {
	e.Checks = append(e.Checks, check)
	if check.Advice == No || (check.Advice == Care && e.Advice == Go) {
		e.Advice = check.Advice
	}
}

// takeReasons turns gathered reasons into checks that say no.
func (e *Examination) takeReasons(name, fine string, why *runs.Reasons) {
	for _, reason := range *why {
		e.note(Check{name, No, reason})
	}
	if len(*why) == 0 && fine != "" {
		e.Add(name, Go, fine, "")
	}
	*why = nil
}

// examineTouched names the pages that will be tested because the component has a part in them.
func examineTouched(ctx context.Context, s *session.Session, e *Examination, p *packages.Package) {
	found, err := pagecheck.FindTouched(ctx, s, e.Target, p)
	switch {
	case err != nil:
		e.advise("pages", Care, fmt.Sprintf("which pages it has a part in could not be looked up: %v", err),
			advice.Lead("Those of "+workspace.ConfigName+" are tested. Add what matters:", advice.AddPage))
	case len(found.Pages) > 0 && e.Target.Kind == cms.Theme:
		e.Add("pages", Go, fmt.Sprintf("the new version has other templates for %s; an update tests %s, too", found,
			phrase.ThemOrIt(len(found.Pages))), "")
	case len(found.Pages) > 0:
		e.Add("pages", Go, fmt.Sprintf("it is used on %s; an update tests %s, too", found, phrase.ThemOrIt(len(found.Pages))),
			"")
	}
}

// Allowed is what a person allows that is refused otherwise.
type Allowed struct {
	Older, Same, Major bool // versions that are older, the same, or a large step away
	LoseEdits          bool // what was edited by hand may be overwritten
	// Return brings a version back on purpose, whatever stands now: a newer one, the same one
	// damaged, or edits by hand. For an update it stands for all of that.
	Return bool
}

// ExamineOptions say what to examine.
type Options struct {
	session.Guard
	Allowed
	Package string   // the path of an archive, or NAME or NAME@VERSION from the shelf
	Pick    string   // which package of a bundle: its folder or name
	Diff    []string // files whose changes are shown line by line
}

// Examine holds a package against the workspace's site and touches nothing. Its
// error is that of a package or workspace that cannot be read.
func Examine(ctx context.Context, w *workspace.Workspace, o Options) (e *Examination, err error) {
	var why runs.Reasons
	s, err := session.Open(ctx, w, o.Guard, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	scratch, err := scratch.Folder()
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(scratch)) }()
	e = &Examination{Advice: Go}
	e.takeReasons("database", "login tried", &why)
	p, beside, err := shelf.ReadPackage(ctx, s, o.Package, o.Pick, scratch, &why)
	if err != nil {
		return nil, err
	}
	if p == nil {
		e.takeReasons("package", "", &why)
		return e, nil
	}
	defer p.Close()
	return e, examine(ctx, s, e, p, Company{Beside: beside}, o, &why)
}

func examine(
	ctx context.Context, s *session.Session, e *Examination, p *packages.Package, with Company, o Options,
	why *runs.Reasons,
) error {
	count, size := p.Tree.Total()
	e.Add("package", Go, fmt.Sprintf("%s %s, %s (%s), every byte read", p.Header.Kind, p.Title(),
		phrase.Plural(count, "file"), phrase.Bytes(size)), "")
	for _, lack := range Lacks(Offers(ctx, s.Site, s.DB != nil)) {
		e.Add("its machine", Go, lack, "")
	}
	if p.Header.Kind == cms.Core && len(with.Beside) > 0 {
		e.Add("left out", Go, shelf.BroughtAlong(with.Beside), "")
		with.Beside = nil
	}
	e.Beside = with.Beside
	for _, one := range with.Beside {
		title := fmt.Sprintf("%s %s %s came along with it", one.Kind, one.Name, phrase.Version(one.Version))
		switch {
		case one.Installed == "":
			e.advise("companion", Care, title+", and is not installed", advice.Lead("If the site needs it, install it, too:",
				advice.UpdatePicked, p.Origin, one.Folder))
		case one.Differs():
			e.advise("companion", Care, fmt.Sprintf("%s, and %s is installed: they are meant to go together", title,
				one.Installed), advice.Lead("Put both on the shelf, and update it, too:", advice.Update, one.Folder))
		default:
			e.Add("companion", Go, title+", and is installed in that version", "")
		}
	}
	// The size of the step is told with the distance, once.
	fit := o.Allowed
	fit.Major = true
	e.Target = TargetOf(s, p, fit, why)
	CheckParent(s, p, with, why)
	at, err := PlaceOf(s, e.Target.Kind, e.Target.Folder)
	if err != nil {
		e.takeReasons("fit", "", why)
		return nil
	}
	e.takeReasons("fit", "it belongs to what is installed in "+at, why)
	installed, ok := site.Component(s.Components, e.Target.Kind, e.Target.Folder)
	if e.Target.Kind == cms.Core {
		if err := examineCore(ctx, s, e, p, installed, o, why); err != nil {
			return err
		}
	} else if !ok {
		e.Add("distance", Care, "it is not installed yet: it will be installed, not active", "Is this the right site? If"+
			" so, switch it on in the CMS afterwards.")
	} else {
		if err := ExamineInstalled(ctx, s, e, p, installed, o); err != nil {
			return err
		}
	}
	CheckRequirements(ctx, s, e, p, with)
	CheckPlace(ctx, s, e.Target, p, why)
	e.takeReasons("place", "the folder can be written, and its owner kept", why)
	if err := checkSpace(ctx, s, e); err != nil {
		return err
	}
	if e.Target.Kind == cms.Core {
		e.Add("swap", Go, "behind a gate: visitors are told to come back in a moment", "")
	} else {
		checkSwap(ctx, s, e, at)
	}
	CheckSite(ctx, s, why)
	e.takeReasons("site", "it is what answers at its address", why)
	examineTouched(ctx, s, e, p)
	for _, line := range s.Site.CMS.Warnings(ctx, s.DB, installed) {
		e.Add("warning", Care, line, "")
	}
	return CheckAutomatic(ctx, s, e, installed)
}

// PlaceOf is where a component is, or would be: its folder, or that which its parts are in.
func PlaceOf(s *session.Session, kind cms.Kind, folder string) (string, error) {
	if core, can := s.Site.CMS.(cms.Replaceable); kind == cms.Core && can {
		return core.Core().Root, nil
	}
	if installed, ok := site.Component(s.Components, kind, folder); ok {
		if stand, known := installed.Stand(); known {
			return stand.Folder, nil
		}
	}
	place, err := s.Site.CMS.Layout().Folder(kind, folder)
	return place.Path, err
}

// checkSpace compares what a snapshot may need with what is free. A snapshot that finds
// no room stops the update before anything is touched.
func checkSpace(ctx context.Context, s *session.Session, e *Examination) error {
	if s.Store == nil {
		return nil
	}
	needs, err := SnapshotSize(ctx, s)
	if err != nil {
		return err
	}
	free, err := host.FreeSpace(ctx, s.Site.Workspace.Dir)
	if err != nil {
		return err
	}
	what := fmt.Sprintf("a snapshot needs at most %s in the store, and %s are free", phrase.Bytes(needs),
		phrase.Bytes(int64(free)))
	if free < uint64(needs) {
		e.advise("space", Care, what, advice.Lead("Make room on the disk of "+s.Site.Workspace.Dir+". Old snapshots go with:",
			advice.Tidy))
	} else {
		e.Add("space", Go, what, "")
	}
	return nil
}

// SnapshotSize returns how many bytes a snapshot may need in the store, at most.
func SnapshotSize(ctx context.Context, s *session.Session) (int64, error) {
	if s.Store == nil {
		return 0, nil
	}
	needs, err := snapshot.Needs(ctx, s.Store, snapshot.Subject{Site: s.Site})
	if err != nil {
		return 0, fmt.Errorf("estimate the size of a snapshot: %w", err)
	}
	if s.DB == nil {
		return needs, nil
	}
	rows, err := s.DB.Size(ctx)
	if err != nil {
		return 0, fmt.Errorf("ask the database for its size: %w", err)
	}
	return needs + rows, nil
}

// checkSwap tells whether the swap will be without a gap, as far as that is known
// without trying it.
func checkSwap(ctx context.Context, s *session.Session, e *Examination, live string) {
	switch {
	case !s.Site.Files.CanExchange():
		e.Add("swap", Care, "this system cannot exchange two folders in one step: visitors may find the folder missing for"+
			" an instant", "An update asks for consent: --allow-gap.")
	case !deploy.SameDevice(ctx, s, path.Dir(s.Site.Root), live):
		e.Add("swap", Go, "in one step, if the disk allows it: an update tries that first", "")
	default:
		e.Add("swap", Go, "in one step, without a gap", "")
	}
}

// ExamineInstalled compares with what is installed: distance, files, hand edits,
// child themes.
func ExamineInstalled(
	ctx context.Context, s *session.Session, e *Examination, p *packages.Package, installed cms.Component, o Options,
) error {
	stand, known := installed.Stand()
	if !known {
		return nil // which is refused
	}
	if len(stand.Parts) > 0 {
		stand.Parts = takeParts(installed, p, &runs.Reasons{}) // with those that come in anew; reasons are told before
	}
	present, err := stand.Read(ctx, s.Site.Files)
	if err != nil {
		return err
	}
	e.Added, e.Changed, e.Removed = edits.SplitDifferences(present, stand.Only(p.Tree))
	for _, name := range o.Diff {
		e.Diffs = append(e.Diffs, edits.ChangeOf(ctx, s.Site.Files, installed, present, p, path.Clean(name)))
	}
	examineDistance(s, e, p, installed, o)
	if far := majors(installed.Version, p.Header.Version); far > 1 {
		e.Add("distance", Care, fmt.Sprintf("the installed version is %d major releases behind", far), "Ask the vendor"+
			" whether it must be reached one major release after the other.")
	}
	e.Add("files", Go, fmt.Sprintf("%d added, %d changed, %d removed", len(e.Added), len(e.Changed), len(e.Removed)), "")
	if e.Log = changeLog(p, installed.Version); e.Log == "" && installed.Kind != cms.Language {
		e.Add("change log", Care, "the package has none for these versions", "Ask the vendor what changed.")
	}
	found, err := edits.OfInstalled(ctx, s, installed, present)
	if err != nil {
		return err
	}
	switch {
	case found == nil:
		e.advise("hand edits", Care, fmt.Sprintf("cannot be known: the original of version %s is not at hand",
			phrase.Version(installed.Version)), advice.Lead("If the vendor offers it, put it on the shelf:", advice.Shelve,
			fmt.Sprintf("%s-%s.zip", installed.Folder, installed.Version)))
	case found.None():
		e.Add("hand edits", Go, "none: equal to "+found.Against, "")
	case o.LoseEdits:
		e.Add("hand edits", Care, "will be overwritten: "+phrase.List(found.All(), 4), "")
	default:
		e.Add("hand edits", No, "would be overwritten: "+phrase.List(found.All(), 4), EditsAdvice(installed.Kind))
	}
	checkChildren(ctx, s, e, installed, o.Package)
	return examineFollowers(ctx, s, e, p, installed)
}

func examineDistance(s *session.Session, e *Examination, p *packages.Package, installed cms.Component, o Options) {
	distance := installed.Kind.Distance(installed.Version, p.Header.Version)
	worth, do := Go, []advice.Step{}
	switch {
	case distance == version.Major && !o.Major:
		worth, do = No, largeStep(s, p)
	case distance == version.Major, distance == version.Unclear:
		worth = Care
	}
	e.advise("distance", worth, fmt.Sprintf("%s -> %s, %s", phrase.Version(installed.Version),
		phrase.Version(p.Header.Version), distance.Meaning()), do...)
}

// majors counts the major releases between two versions whose first numbers are
// counted up; versions that are dates count none.
func majors(from, to string) int {
	first := func(v string) int {
		number, _, _ := strings.Cut(strings.TrimPrefix(v, "v"), ".")
		n, err := strconv.Atoi(number)
		if err != nil || n > 1000 {
			return 0
		}
		return n
	}
	return first(to) - first(from)
}

// checkChildren names the files of child themes that stand in for files which
// change or go in this version: the child goes on showing its old ones.
func checkChildren(ctx context.Context, s *session.Session, e *Examination, parent cms.Component, named string) {
	if parent.Kind != cms.Theme {
		return
	}
	itsOwn := traits.Of(s.Site.Workspace.Config.Site.CMS).ChildsOwn
	for _, child := range s.Components {
		folder, whole := child.OneFolder()
		if !whole || child.Kind != cms.Theme || child.Parent != parent.Folder {
			continue
		}
		own, err := files.ReadTree(ctx, s.Site.Files, folder.Path, files.Scope{})
		if err != nil {
			e.Add("child theme", Care, fmt.Sprintf("%s cannot be read: %v", child.Folder, err), "")
			continue
		}
		var over []string
		for _, item := range own {
			if item.Kind == files.File && !slices.Contains(itsOwn, item.Path) &&
				(slices.Contains(e.Changed, item.Path) || slices.Contains(e.Removed, item.Path)) {
				over = append(over, item.Path)
			}
		}
		if len(over) > 0 {
			e.advise("child theme", Care, fmt.Sprintf("%s overrides files that change in this version: %s", child.Folder,
				phrase.List(over, 4)), advice.Lead("Check whether the child's own files should change in the same way:",
				advice.ExamineDiff, named, over[0]))
		} else {
			e.Add("child theme", Go, child.Folder+" overrides no file that changes", "")
		}
	}
}

// CheckRequirements compares what the author requires with what is there.
func CheckRequirements(ctx context.Context, s *session.Session, e *Examination, p *packages.Package, with Company) {
	_, has, _ := strings.Cut(s.Site.CMS.System(), " ")
	if want := p.Header.RequiresCMS; want != "" {
		if version.Compare(has, want) < 0 {
			e.Add("requirements", No, fmt.Sprintf("it needs version %s of the CMS, and this is %s", want, s.Site.CMS.System()),
				"Bring the CMS up to date first.")
		} else {
			e.Add("requirements", Go, fmt.Sprintf("it needs version %s of the CMS, and this is %s", want, s.Site.CMS.System()),
				"")
		}
	}
	if want := p.Header.RequiresPHP; want != "" {
		checkPHP(ctx, s, e, want)
	}
	if want := p.Header.RequiresDatabase; want != "" && s.DB != nil {
		checkServer(ctx, s, e, want)
	}
	for _, folder := range p.Header.RequiresPlugins {
		checkRequiredPlugin(s, e, p, folder, with)
	}
}

// checkPHP compares the wanted version of PHP with the site's own: as its answers or
// wetland.toml name it. The php on the command line need not be the site's.
func checkPHP(ctx context.Context, s *session.Session, e *Examination, want string) {
	needs := "it needs PHP " + want + ", and "
	runs, says := s.Fetcher.PHPVersion(ctx), "the site runs "
	if runs == "" {
		runs, says = s.Site.Workspace.Config.Site.PHP, "wetland.toml says that the site runs "
	}
	const look = "Look up at your host which PHP the site runs, and write it down: [site] php in " + workspace.ConfigName
	switch {
	case runs != "" && version.Compare(runs, want) < 0:
		e.Add("requirements", No, needs+says+runs, "Ask your host for a newer PHP.")
	case runs != "":
		e.Add("requirements", Go, needs+says+runs, "")
	default:
		has := "the site does not tell which it runs"
		if local := s.Site.PHPOfShell(ctx); local != "" {
			has += "; the php on its machine's command line is " + local + ", which is weak evidence: the site may run another"
		}
		e.Add("requirements", Care, needs+has, look)
	}
}

// serverVersion matches the version in what a database server calls itself.
var serverVersion = regexp.MustCompile(`\d+(?:\.\d+)+`)

// checkServer compares the wanted version of MySQL with the site's server. MariaDB's numbers go on from those, as the
// CMS takes them.
func checkServer(ctx context.Context, s *session.Session, e *Examination, want string) {
	is, err := s.DB.Engine(ctx)
	has := serverVersion.FindString(is)
	switch {
	case err != nil || has == "":
		e.Add("requirements", Care, "it needs version "+want+" of the database server, and that does not tell which it is",
			"")
	case version.Compare(has, want) < 0:
		e.Add("requirements", No, fmt.Sprintf("it needs version %s of the database server, and this is %s", want, is),
			"Ask your host for a newer database server.")
	default:
		e.Add("requirements", Go, fmt.Sprintf("it needs version %s of the database server, and this is %s", want, is), "")
	}
}

func checkRequiredPlugin(s *session.Session, e *Examination, p *packages.Package, folder string, with Company) {
	switch plugin, ok := site.Component(s.Components, cms.Plugin, folder); {
	case ok && plugin.Active:
		e.Add("requirements", Go, "it needs the plugin "+folder+", which is active", "")
	case ok && s.DB == nil:
		e.Add("requirements", Care, "it needs the plugin "+folder+", and whether that is active cannot be known", "")
	case ok:
		e.Add("requirements", Care, "it needs the plugin "+folder+", which is installed, but not active",
			"Switch that plugin on in the CMS first.")
	case with.comes(cms.Plugin, folder):
		e.Add("requirements", Care, "it needs the plugin "+folder+", which is installed along with it, not active",
			"Switch that plugin on in the CMS afterwards.")
	case slices.ContainsFunc(with.Beside, func(b shelf.Beside) bool { return b.Kind == cms.Plugin && b.Folder == folder }):
		e.advise("requirements", No, "it needs the plugin "+folder+", which is not installed. It came along in the bundle",
			advice.Lead("Install that first:", advice.UpdatePicked, p.Origin, folder))
	default:
		e.Add("requirements", No, "it needs the plugin "+folder+", which is not installed", "Get that plugin and install"+
			" it first.")
	}
}

// CheckAutomatic notes that the CMS updates a component by itself.
func CheckAutomatic(ctx context.Context, s *session.Session, e *Examination, installed cms.Component) error {
	automatic, err := s.Site.CMS.AutomaticUpdates(ctx, s.DB)
	if err != nil {
		return err
	}
	for _, one := range automatic {
		if one.Updates(installed.Kind, installed.Folder) {
			e.Add("automatic updates", Care, "the CMS updates "+one.Words+" by itself, and may go on from there, or undo this",
				"Switch that off in the CMS if you mean to stay at a version.")
		}
	}
	return nil
}

// Files in which packages tell what changed, and the lines that begin a version
// there: "## 2.5.0", "= 2.5.0 =", "Version 2.5.0 (May 2026)", "2.5.0 - 2026-05-01".
var (
	logFiles = []string{"changes.md", "changelog.md", "changelog.txt", "CHANGELOG.md", "CHANGELOG.txt", "CHANGES.md",
		"changes.txt", "readme.txt", "README.md"}
	logHeader = regexp.MustCompile(`(?i)^[#=*\s]*(?:version\s+|v)?(\d+(?:\.\d+)+[\w.-]*)\b[^.]*$`)
)

// changeLog returns what the package says of the versions after from, up to its own.
func changeLog(p *packages.Package, from string) string {
	for _, name := range logFiles {
		text, err := p.Text(name)
		if err != nil {
			continue
		}
		if part := logBetween(text, from, p.Header.Version); part != "" {
			return part
		}
	}
	return ""
}

func logBetween(text, from, to string) string {
	var kept []string
	inside := false
	for line := range strings.SplitSeq(text, "\n") {
		line = strings.TrimRight(line, "\r ")
		if found := logHeader.FindStringSubmatch(line); found != nil {
			inside = version.Compare(found[1], from) > 0 && version.Compare(found[1], to) <= 0
		} else if strings.HasPrefix(line, "==") {
			inside = false // another chapter of a readme.txt
		}
		if inside {
			kept = append(kept, line)
		}
	}
	return strings.TrimSpace(strings.Join(kept, "\n"))
}
