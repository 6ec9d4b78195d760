package preflight

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"wetland/core/advice"
	"wetland/core/deploy"
	"wetland/core/edits"
	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/shelf"
	"wetland/core/site/cms"
	"wetland/core/version"
)

// CoreStep is what replacing the CMS itself does to the files in the site's root.
type CoreStep struct {
	Parts    []string `json:"parts"`               // names in the root that are replaced, or go
	StayAway []string `json:"stay_away,omitempty"` // files of the package that the owner had taken away
	Unknown  []string `json:"unknown,omitempty"`   // files in the CMS's own folders that it never had: they would go
	Edited   []string `json:"edited,omitempty"`    // files that were edited by hand
	// Brings are the themes and plugins that come along with it: none of them is installed with it.
	Brings  []shelf.Beside `json:"brings,omitempty"`
	Against string         `json:"against,omitempty"` // the package on the shelf that tells what was edited; "": none does
}

// FindCoreStep finds out which files are the CMS's own.
func FindCoreStep(ctx context.Context, s *session.Session, p *packages.Package, installed cms.Component) (step CoreStep, err error) {
	core, ok := s.Site.CMS.(cms.Replaceable)
	if !ok {
		return step, cms.ErrKind
	}
	its := core.Core()
	entries, err := s.Site.Files.List(ctx, its.Root)
	if err != nil {
		return step, err
	}
	formerly, err := core.Formerly(p.Files())
	if err != nil {
		return step, err
	}
	known, against, err := originalTree(ctx, s, installed)
	if err != nil {
		return step, err
	}
	step.Against = against
	for _, item := range known {
		formerly = append(formerly, item.Path)
	}
	step.Parts, step.StayAway = its.Parts(p.Tree, entries, formerly)
	if step.Unknown, err = unknownIn(ctx, s, its, p, formerly); err != nil || known == nil {
		return step, err
	}
	c := &deploy.Change{Target: &runs.Target{Parts: step.Parts}, Live: its.Root}
	present, err := deploy.Present(ctx, s, c)
	for _, differ := range files.Content.Compare(cms.Only(known, step.Parts), present) {
		if differ.Side != files.OnlyNow {
			step.Edited = append(step.Edited, differ.Path)
		}
	}
	return step, err
}

// originalTree is the tree of the installed version, where the shelf has its package.
func originalTree(ctx context.Context, s *session.Session, installed cms.Component) (files.Tree, string, error) {
	entries, err := s.Shelf().List()
	if err != nil {
		return nil, "", err
	}
	entry, ok := edits.OriginalOnShelf(installed, entries)
	if !ok {
		return nil, "", nil
	}
	p, err := packages.Open(ctx, entry.File, s.Site.CMS.ReadHeader)
	if err != nil {
		return nil, "", err
	}
	return p.Tree, entry.Title(), p.Close()
}

// unknownIn lists files in the folders of the CMS that neither the package nor any earlier version has.
func unknownIn(ctx context.Context, s *session.Session, core cms.CoreFiles, p *packages.Package, formerly []string) (unknown []string, err error) {
	had := map[string]bool{}
	for _, name := range formerly {
		had[name] = true
	}
	for _, item := range p.Tree {
		had[item.Path] = had[item.Path] || item.Kind == files.File
	}
	isKnown := func(at string) bool {
		for ; at != "." && !slices.Contains(core.Folders, at); at = path.Dir(at) {
			if had[at] {
				return true
			}
		}
		return false
	}
	for _, folder := range core.Folders {
		err := files.Walk(ctx, s.Site.Files, path.Join(core.Root, folder), files.Scope{}, func(at string, entry files.Entry) error {
			if whole := path.Join(folder, at); entry.Kind != files.Folder && !isKnown(whole) {
				unknown = append(unknown, whole)
			}
			return nil
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	slices.Sort(unknown)
	return unknown, nil
}

// CheckCore finds what stands against replacing the CMS itself, but for its requirements.
func CheckCore(ctx context.Context, s *session.Session, c *deploy.Change, step CoreStep, allowed Allowed, why *runs.Reasons) {
	core, ok := s.Site.CMS.(cms.Replaceable)
	if !ok {
		return // which is refused
	}
	its := core.Core()
	if !s.Site.Host.Abilities().Run && s.Site.Host.Name() != "" {
		why.Add("the site's machine lets files be moved, and no program be run: the many files of the CMS itself would be mixed for as long as the line takes", "Ask your host for a full shell. Or take a snapshot, and update the CMS in its own dashboard.")
		return
	}
	if s.NoDatabase != nil {
		why.Add("the CMS brings its tables to its own version, and they are not in Wetland's hands", "Leave out --without-database, or update the CMS in its own dashboard.")
	}
	for _, name := range append([]string{its.Loader}, its.Folders...) {
		if !slices.ContainsFunc(c.Pkg.Tree, func(item files.Item) bool { return item.Path == name }) {
			why.Add(fmt.Sprintf("the package has no %s: it is no whole release of %s", name, c.Pkg.Header.Name), "Download the whole release again.")
		}
	}
	if len(step.Unknown) > 0 && !allowed.LoseEdits && !allowed.Return {
		why.Add(fmt.Sprintf("files in the folders of %s are not its own, and would go: %s", c.Pkg.Header.Name, phrase.List(step.Unknown, 5)), "Find out who put them there: none belongs there, and some are left by attackers. Move what you need elsewhere. They stay in the snapshot; to let them go, add --lose-edits.")
	}
	if len(step.Edited) > 0 && !allowed.LoseEdits && !allowed.Return {
		why.Add(fmt.Sprintf("%s was edited by hand, and the update would overwrite that: %s", c.Pkg.Header.Name, phrase.List(step.Edited, 4)), "Whatever it was for belongs into a plugin. They stay in the snapshot; to let them go, add --lose-edits.")
	}
	together(why,
		func(why *runs.Reasons) { checkWritable(ctx, s, its.Root, why) },
		func(why *runs.Reasons) { checkRoom(ctx, s, path.Dir(its.Root), c.Pkg, why) },
		func(why *runs.Reasons) { checkParts(ctx, s, c.Places(), why) },
	)
	if _, err := s.Site.Files.Lstat(ctx, path.Join(its.Root, ".git")); err == nil {
		why.Add(fmt.Sprintf("%s is under version control (.git)", its.Root), "Update the CMS by that version control.")
	}
}

// checkParts looks at each part that is there of what has no folder of its own.
func checkParts(ctx context.Context, s *session.Session, places []string, why *runs.Reasons) {
	owners, groups := map[int]bool{}, map[int]bool{}
	for _, at := range places {
		entry, err := s.Site.Files.Lstat(ctx, at)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil:
			why.Add(fmt.Sprintf("%s cannot be looked at: %v", at, err), "Run Wetland as the user who owns the site's files.")
			continue
		case entry.Kind == files.Link:
			why.Add(fmt.Sprintf("%s is a symbolic link to %s", at, entry.Target), "What other sites share is updated where it is. Else replace the link by what it points to.")
			continue
		}
		if !owners[entry.Owner] {
			checkOwner(ctx, s, at, entry, why)
		}
		if !groups[entry.Group] {
			checkGroup(ctx, s, at, entry, why)
		}
		owners[entry.Owner], groups[entry.Group] = true, true
		if entry.Kind == files.Folder {
			checkMounts(ctx, s, at, why)
			checkCollisions(ctx, s, at, why)
		}
	}
}

// examineCore holds a release of the CMS itself against the one that is installed.
func examineCore(ctx context.Context, s *session.Session, e *Examination, p *packages.Package, installed cms.Component, o Options, why *runs.Reasons) error {
	step, err := FindCoreStep(ctx, s, p, installed)
	if err != nil {
		return err
	}
	e.Target.Parts = step.Parts
	root, err := PlaceOf(s, cms.Core, installed.Folder)
	if err != nil {
		return err
	}
	c := &deploy.Change{Pkg: p, Target: e.Target, Live: root}
	present, err := deploy.Present(ctx, s, c)
	if err != nil {
		return err
	}
	e.Added, e.Changed, e.Removed = edits.SplitDifferences(present, cms.Only(p.Tree, step.Parts))
	e.Add("files", Go, fmt.Sprintf("%d added, %d changed, %d removed", len(e.Added), len(e.Changed), len(e.Removed)), "")
	examineDistance(s, e, p, installed, o)
	CheckCore(ctx, s, c, step, o.Allowed, why)
	e.takeReasons("its own files", "", why)
	return ExamineCore(ctx, s, e, p, installed, step)
}

// ExamineCore says what there is to know before the CMS itself is replaced.
func ExamineCore(ctx context.Context, s *session.Session, e *Examination, p *packages.Package, installed cms.Component, step CoreStep) error {
	if len(step.StayAway) > 0 {
		e.Add("stays away", Go, "what the site's owner took away is not brought back: "+phrase.List(step.StayAway, 5), "")
	}
	core, can := s.Site.CMS.(cms.Replaceable)
	if !can {
		return nil // which is refused
	}
	if far := core.Between(installed.Version, p.Header.Version); far > 1 {
		steps, err := oneByOne(s, installed, p)
		if err != nil {
			return err
		}
		e.advise("distance", Care, fmt.Sprintf("%d major releases lie between: all their upgrades of the tables run in one go", far), steps...)
	}
	lost, err := core.LostWith(ctx, s.DB, p.Header.Version)
	if err != nil {
		return err
	}
	for _, line := range lost {
		e.Add("an older release", Care, line, "")
	}
	if step.Against == "" {
		e.advise("hand edits", Care, fmt.Sprintf("cannot be known: the original of version %s is not at hand", phrase.Version(installed.Version)), advice.Lead("Put it on the shelf:", advice.Shelve, fmt.Sprintf("%s-%s.zip", installed.Folder, installed.Version)))
	}
	for _, c := range s.Components {
		switch c.Kind {
		case cms.DropIn:
			e.Add("drop-in", Care, c.Folder+" stands in for a part of the CMS: it was made for another version of it", "Look whether its maker has a newer one.")
		case cms.MustUse:
			e.Add("must-use plugin", Care, c.Folder+" is always active, and cannot be switched off where it breaks", "")
		}
	}
	if untested := testedUpTo(ctx, s, core, p.Header.Version); len(untested) > 0 {
		e.Add("tested", Care, fmt.Sprintf("not tested with %s, as their makers say: %s", p.Title(), phrase.List(untested, 6)), "Look whether they have newer versions, and update those first.")
	}
	return ctx.Err()
}

// oneByOne is what to do to take the releases between two of the CMS one after the other: those that are at hand are named.
func oneByOne(s *session.Session, installed cms.Component, p *packages.Package) ([]advice.Step, error) {
	entries, err := s.Shelf().List()
	if err != nil {
		return nil, err
	}
	var steps []advice.Step
	for _, entry := range slices.Backward(entries) { // the newest comes first
		between := entry.Kind == cms.Core && entry.Folder == installed.Folder && version.Compare(entry.Version, installed.Version) > 0 && version.Compare(entry.Version, p.Header.Version) < 0
		if named := entry.Title(); between && !entry.Beside {
			steps = append(steps, advice.Lead("To take them one by one, bring in those between first:", advice.Update, named))
		}
	}
	if len(steps) == 0 {
		return advice.Steps("To take them one by one, put the releases between on the shelf, and update to each of them first."), nil
	}
	return steps, nil
}

// testedUpTo lists active themes and plugins that say that they were tested with an older release alone.
func testedUpTo(ctx context.Context, s *session.Session, core cms.Replaceable, to string) []string {
	found := make([]string, len(s.Components))
	_ = files.AtOnce(ctx, s.Site.Files, len(s.Components), func(ctx context.Context, i int) error {
		c := s.Components[i]
		if !c.Active && !c.ParentOfActive {
			return nil
		}
		if tested := core.TestedUpTo(ctx, c); tested != "" && core.Between(tested, to) > 0 {
			found[i] = fmt.Sprintf("%s (%s)", c.Folder, tested)
		}
		return nil
	})
	return slices.DeleteFunc(found, func(words string) bool { return words == "" })
}
