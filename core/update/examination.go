package update

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

	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
	"wetland/core/version"
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
	What   string `json:"what"`
	Do     string `json:"do,omitempty"`
}

// Examination holds a package against a site.
type Examination struct {
	Target  *Target  `json:"target,omitempty"`
	Advice  Advice   `json:"advice"`
	Checks  []Check  `json:"checks"`
	Added   []string `json:"added"` // files of the new version that the installed one lacks
	Changed []string `json:"changed"`
	Removed []string `json:"removed"`
	Beside  []Beside `json:"companions,omitempty"` // packages that came along in the bundle
	Log     string   `json:"change_log,omitempty"` // the package's own, between the two versions
	// Diffs are the changes of the files that were asked for, in the unified form.
	Diffs []string `json:"diffs,omitempty"`
}

func (e *Examination) add(name string, advice Advice, what, do string) {
	e.Checks = append(e.Checks, Check{Name: name, Advice: advice, What: what, Do: do})
	if advice == No || (advice == Care && e.Advice == Go) {
		e.Advice = advice
	}
}

// takeReasons turns gathered reasons into checks that say no.
func (e *Examination) takeReasons(name, fine string, why *reasons) {
	for _, reason := range *why {
		e.add(name, No, reason.What, reason.Do)
	}
	if len(*why) == 0 && fine != "" {
		e.add(name, Go, fine, "")
	}
	*why = nil
}

// examineTouched names the pages that will be tested because the component has a part in them.
func (s *session) examineTouched(ctx context.Context, e *Examination, p *packages.Package) {
	found, err := s.touched(ctx, e.Target, p)
	switch {
	case err != nil:
		e.add("pages", Care, fmt.Sprintf("which pages it has a part in could not be looked up: %v", err), "Those of "+site.ConfigName+" are tested. Add what matters: wetland pages add PATH")
	case len(found.Pages) > 0 && e.Target.Kind == cms.Theme:
		e.add("pages", Go, fmt.Sprintf("the new version has other templates for %s; an update tests %s, too", found, themOrIt(len(found.Pages))), "")
	case len(found.Pages) > 0:
		e.add("pages", Go, fmt.Sprintf("it is used on %s; an update tests %s, too", found, themOrIt(len(found.Pages))), "")
	}
}

func themOrIt(n int) string {
	if n == 1 {
		return "it"
	}
	return "them"
}

// Allowed is what a person allows that is refused otherwise.
type Allowed struct {
	Older, Same, Major bool // versions that are older, the same, or a large step away
	LoseEdits          bool // what was edited by hand may be overwritten
	// Return brings a version back on purpose, whatever stands now.
	Return bool
}

// ExamineOptions say what to examine.
type ExamineOptions struct {
	Guard
	Allowed
	Package string   // the path of an archive, or NAME or NAME@VERSION from the shelf
	Pick    string   // which package of a bundle: its folder or name
	Diff    []string // files whose changes are shown line by line
}

// Examine holds a package against the workspace's site and touches nothing. Its
// error is that of a package or workspace that cannot be read.
func Examine(ctx context.Context, w *site.Workspace, o ExamineOptions) (e *Examination, err error) {
	var why reasons
	s, err := open(ctx, w, o.Guard, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.close()) }()
	scratch, err := os.MkdirTemp("", "wetland-*")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(scratch)) }()
	e = &Examination{Advice: Go}
	e.takeReasons("database", "login tried", &why)
	p, beside, err := s.readPackage(ctx, o.Package, o.Pick, scratch, &why)
	if err != nil {
		return nil, err
	}
	if p == nil {
		e.takeReasons("package", "", &why)
		return e, nil
	}
	defer p.Close()
	return e, s.examine(ctx, e, p, Company{Beside: beside}, o, &why)
}

func (s *session) examine(ctx context.Context, e *Examination, p *packages.Package, with Company, o ExamineOptions, why *reasons) error {
	count, size := p.Tree.Total()
	e.add("package", Go, fmt.Sprintf("%s %s, %s (%s), every byte read", p.Header.Kind, p.Title(), plural(count, "file"), bytesText(size)), "")
	e.Beside = with.Beside
	for _, one := range with.Beside {
		title := fmt.Sprintf("%s %s %s came along with it", one.Kind, one.Name, versionText(one.Version))
		switch {
		case one.Installed == "":
			e.add("companion", Care, title+", and is not installed", "If the site needs it, install it, too: wetland update "+path.Base(p.Origin)+" --pick "+one.Folder)
		case one.Differs():
			e.add("companion", Care, fmt.Sprintf("%s, and %s is installed: they are meant to go together", title, one.Installed), "Put both on the shelf (wetland shelve) and update it, too: wetland update "+one.Folder)
		default:
			e.add("companion", Go, title+", and is installed in that version", "")
		}
	}
	// The size of the step is told with the distance, once.
	fit := o.Allowed
	fit.Major = true
	e.Target = s.target(p, fit, why)
	live := s.site.ComponentPath(e.Target.Kind, e.Target.Folder)
	s.checkParent(p, with, why)
	e.takeReasons("fit", "it belongs to what is installed in "+live, why)
	installed, ok := site.Component(s.components, e.Target.Kind, e.Target.Folder)
	if !ok {
		e.add("distance", Care, "it is not installed yet: it will be installed, not active", "Is this the right site? If so, switch it on in the CMS afterwards.")
	} else {
		if err := s.examineInstalled(ctx, e, p, installed, o); err != nil {
			return err
		}
	}
	s.checkRequirements(ctx, e, p, with)
	s.checkPlace(ctx, e.Target, p, why)
	e.takeReasons("place", "the folder can be written, and its owner kept", why)
	if err := s.checkSpace(ctx, e); err != nil {
		return err
	}
	s.checkSwap(ctx, e, live)
	s.checkSite(ctx, why)
	e.takeReasons("site", "it is what answers at its address", why)
	s.examineTouched(ctx, e, p)
	for _, line := range s.site.CMS.Warnings(ctx, s.db, installed) {
		e.add("warning", Care, line, "")
	}
	return s.checkAutomatic(ctx, e, installed)
}

// checkSpace compares what a snapshot may need with what is free. A snapshot that finds
// no room stops the update before anything is touched.
func (s *session) checkSpace(ctx context.Context, e *Examination) error {
	if s.store == nil {
		return nil
	}
	needs, err := s.snapshotSize(ctx)
	if err != nil {
		return err
	}
	free, err := s.site.Workspace.FreeSpace(ctx)
	if err != nil {
		return err
	}
	what := fmt.Sprintf("a snapshot needs at most %s in the store, and %s are free", bytesText(needs), bytesText(int64(free)))
	if free < uint64(needs) {
		e.add("space", Care, what, "Make room on the disk of "+s.site.Workspace.Dir+": for one, wetland tidy.")
	} else {
		e.add("space", Go, what, "")
	}
	return nil
}

// snapshotSize returns how many bytes a snapshot may need in the store, at most.
func (s *session) snapshotSize(ctx context.Context) (int64, error) {
	if s.store == nil {
		return 0, nil
	}
	needs, err := s.store.Needs(ctx, snapshot.Subject{Site: s.site})
	if err != nil {
		return 0, fmt.Errorf("estimate the size of a snapshot: %w", err)
	}
	if s.db == nil {
		return needs, nil
	}
	rows, err := s.db.Size(ctx)
	if err != nil {
		return 0, fmt.Errorf("ask the database for its size: %w", err)
	}
	return needs + rows, nil
}

// checkSwap tells whether the swap will be without a gap, as far as that is known
// without trying it.
func (s *session) checkSwap(ctx context.Context, e *Examination, live string) {
	switch {
	case !s.site.Files.CanExchange():
		e.add("swap", Care, "this system cannot exchange two folders in one step: visitors may find the folder missing for an instant", "An update asks for consent: --allow-gap.")
	case !s.sameDevice(ctx, path.Dir(s.site.Root), live):
		e.add("swap", Go, "in one step, if the disk allows it: an update tries that first", "")
	default:
		e.add("swap", Go, "in one step, without a gap", "")
	}
}

// examineInstalled compares with what is installed: distance, files, hand edits,
// child themes.
func (s *session) examineInstalled(ctx context.Context, e *Examination, p *packages.Package, installed cms.Component, o ExamineOptions) error {
	present, err := files.ReadTree(ctx, s.site.Files, installed.Path, nil)
	if err != nil {
		return err
	}
	e.Added, e.Changed, e.Removed = splitDifferences(present, p.Tree)
	for _, name := range o.Diff {
		e.Diffs = append(e.Diffs, changeOf(ctx, s.site.Files, installed, present, p, path.Clean(name)))
	}
	distance := version.Between(installed.Version, p.Header.Version)
	advice, do := Go, ""
	switch {
	case distance == version.Major && !o.Major:
		advice, do = No, largeStepAdvice
	case distance == version.Major, distance == version.Unclear:
		advice = Care
	}
	e.add("distance", advice, fmt.Sprintf("%s -> %s, %s", versionText(installed.Version), versionText(p.Header.Version), distance.Meaning()), do)
	if far := majors(installed.Version, p.Header.Version); far > 1 {
		e.add("distance", Care, fmt.Sprintf("the installed version is %d major releases behind", far), "Ask the vendor whether it must be reached one major release after the other.")
	}
	e.add("files", Go, fmt.Sprintf("%d added, %d changed, %d removed", len(e.Added), len(e.Changed), len(e.Removed)), "")
	if e.Log = changeLog(p, installed.Version); e.Log == "" {
		e.add("change log", Care, "the package has none for these versions", "Ask the vendor what changed.")
	}
	edits, err := s.handEdits(ctx, installed)
	if err != nil {
		return err
	}
	switch {
	case edits == nil:
		e.add("hand edits", Care, fmt.Sprintf("cannot be known: the original of version %s is not at hand", versionText(installed.Version)), fmt.Sprintf("If the vendor offers it, put it on the shelf: wetland shelve %s-%s.zip", installed.Folder, installed.Version))
	case edits.None():
		e.add("hand edits", Go, "none: equal to "+edits.Against, "")
	case o.LoseEdits:
		e.add("hand edits", Care, "will be overwritten: "+list(edits.All(), 4), "")
	default:
		e.add("hand edits", No, "would be overwritten: "+list(edits.All(), 4), editsAdvice(installed.Kind))
	}
	s.checkChildren(ctx, e, installed, o.Package)
	return nil
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

func (s *session) handEdits(ctx context.Context, installed cms.Component) (*Edits, error) {
	shelf, err := s.shelf().List()
	if err != nil {
		return nil, err
	}
	return HandEdits(ctx, s.site, installed, shelf)
}

// checkChildren names the files of child themes that stand in for files which
// change or go in this version: the child goes on showing its old ones.
func (s *session) checkChildren(ctx context.Context, e *Examination, parent cms.Component, named string) {
	if parent.Kind != cms.Theme {
		return
	}
	for _, child := range s.components {
		if child.Kind != cms.Theme || child.Parent != parent.Folder {
			continue
		}
		own, err := files.ReadTree(ctx, s.site.Files, child.Path, nil)
		if err != nil {
			e.add("child theme", Care, fmt.Sprintf("%s cannot be read: %v", child.Folder, err), "")
			continue
		}
		var over []string
		for _, item := range own {
			if item.Kind == files.File && !strings.HasPrefix(path.Base(item.Path), "theme.") && item.Path != "style.css" &&
				(slices.Contains(e.Changed, item.Path) || slices.Contains(e.Removed, item.Path)) {
				over = append(over, item.Path)
			}
		}
		if len(over) > 0 {
			e.add("child theme", Care, fmt.Sprintf("%s overrides files that change in this version: %s", child.Folder, list(over, 4)), "Check whether the child's own files should change in the same way: wetland examine "+named+" --diff "+over[0])
		} else {
			e.add("child theme", Go, child.Folder+" overrides no file that changes", "")
		}
	}
}

// checkRequirements compares what the author requires with what is there.
func (s *session) checkRequirements(ctx context.Context, e *Examination, p *packages.Package, with Company) {
	_, has, _ := strings.Cut(s.site.CMS.System(), " ")
	if want := p.Header.RequiresCMS; want != "" {
		if version.Compare(has, want) < 0 {
			e.add("requirements", No, fmt.Sprintf("it needs version %s of the CMS, and this is %s", want, s.site.CMS.System()), "Bring the CMS up to date first.")
		} else {
			e.add("requirements", Go, fmt.Sprintf("it needs version %s of the CMS, and this is %s", want, s.site.CMS.System()), "")
		}
	}
	if want := p.Header.RequiresPHP; want != "" {
		s.checkPHP(ctx, e, want)
	}
	for _, folder := range p.Header.RequiresPlugins {
		s.checkRequiredPlugin(e, folder, with)
	}
}

// checkPHP compares the wanted version of PHP with the site's own: as its answers or
// wetland.toml name it. The php on the command line need not be the site's.
func (s *session) checkPHP(ctx context.Context, e *Examination, want string) {
	needs := "it needs PHP " + want + ", and "
	runs, says := s.fetcher.PHPVersion(ctx), "the site runs "
	if runs == "" {
		runs, says = s.site.Workspace.Config.Site.PHP, "wetland.toml says that the site runs "
	}
	const look = "Look up at your host which PHP the site runs, and write it down: [site] php in " + site.ConfigName
	switch {
	case runs != "" && version.Compare(runs, want) < 0:
		e.add("requirements", No, needs+says+runs, "Ask your host for a newer PHP.")
	case runs != "":
		e.add("requirements", Go, needs+says+runs, "")
	default:
		has := "the site does not tell which it runs"
		if local := s.site.LocalPHP(ctx); local != "" {
			has += "; the php on this machine's command line is " + local + ", which is weak evidence: the site may run another"
		}
		e.add("requirements", Care, needs+has, look)
	}
}

func (s *session) checkRequiredPlugin(e *Examination, folder string, with Company) {
	switch plugin, ok := site.Component(s.components, cms.Plugin, folder); {
	case ok && plugin.Active:
		e.add("requirements", Go, "it needs the plugin "+folder+", which is active", "")
	case ok && s.db == nil:
		e.add("requirements", Care, "it needs the plugin "+folder+", and whether that is active cannot be known", "")
	case ok:
		e.add("requirements", Care, "it needs the plugin "+folder+", which is installed, but not active", "Switch that plugin on in the CMS first.")
	case with.comes(cms.Plugin, folder):
		e.add("requirements", Care, "it needs the plugin "+folder+", which is installed along with it, not active", "Switch that plugin on in the CMS afterwards.")
	case slices.ContainsFunc(with.Beside, func(b Beside) bool { return b.Kind == cms.Plugin && b.Folder == folder }):
		e.add("requirements", No, "it needs the plugin "+folder+", which is not installed. It came along in the bundle", "Install that first: wetland update FILE --pick "+folder)
	default:
		e.add("requirements", No, "it needs the plugin "+folder+", which is not installed", "Get that plugin and install it first.")
	}
}

func (s *session) checkAutomatic(ctx context.Context, e *Examination, installed cms.Component) error {
	automatic, err := s.site.CMS.AutomaticUpdates(ctx, s.db)
	if err != nil {
		return err
	}
	if name := fmt.Sprintf("the %s %s", installed.Kind, installed.Folder); slices.Contains(automatic, name) {
		e.add("automatic updates", Care, "the CMS updates "+name+" by itself, and may undo this", "Switch that off in the CMS if you mean to stay at a version.")
	}
	return nil
}

// Files in which packages tell what changed, and the lines that begin a version
// there: "## 2.5.0", "= 2.5.0 =", "Version 2.5.0 (May 2026)", "2.5.0 - 2026-05-01".
var (
	logFiles  = []string{"changes.md", "changelog.md", "changelog.txt", "CHANGELOG.md", "CHANGELOG.txt", "CHANGES.md", "changes.txt", "readme.txt", "README.md"}
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
