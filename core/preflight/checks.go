package preflight

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"wetland/core/advice"
	"wetland/core/database"
	"wetland/core/deploy"
	"wetland/core/files"
	"wetland/core/identity"
	"wetland/core/packages"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/shelf"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/version"
)

// TargetOf finds what the package is to replace, and what stands against that.
func TargetOf(s *session.Session, p *packages.Package, allowed Allowed, why *runs.Reasons) *runs.Target {
	t := &runs.Target{Kind: p.Header.Kind, Folder: p.Folder, Name: cmp.Or(p.Header.Name, p.Folder), To: p.Header.Version,
		Package: p.Origin, Hash: p.Hash}
	if absolute, err := filepath.Abs(p.Origin); err == nil {
		t.Package = absolute
	}
	installed, ok := site.Component(s.Components, p.Header.Kind, p.Folder)
	if err := checkKind(s, t, ok); err != nil {
		why.AddError(err, "Bring it in by the CMS's own dashboard first. From then on Wetland brings in its new versions.")
		return t
	}
	if !ok && t.Kind == cms.Core {
		why.Add(fmt.Sprintf("which version of %s is installed cannot be read", p.Header.Name), "Look at its files: a"+
			" release of it is brought in over another one alone.")
		return t
	}
	if !ok {
		t.New = true
		explainMissing(s, p, why)
		return t
	}
	t.From = installed.Version
	if t.Kind != cms.Core {
		t.Parts = takeParts(installed, p, why)
	}
	if installed.Problem != "" && !allowed.Return {
		why.Add(fmt.Sprintf("the header of the installed %s cannot be read: %s", p.Folder, installed.Problem),
			"Fix or reinstall it by hand first.")
	}
	if installed.Name != "" && p.Header.Name != "" && !strings.EqualFold(installed.Name, p.Header.Name) {
		why.Add(fmt.Sprintf("the package is %q, but the folder %s holds %q", p.Header.Name, p.Folder, installed.Name),
			"Check whether this is the right package: two different ones share a folder's name.")
	}
	switch t.Kind.Distance(t.From, t.To) {
	case version.Backward:
		if !allowed.Older {
			why.Add(fmt.Sprintf("the package is version %s, older than the installed %s", t.To, t.From), "Is it the right"+
				" download? To go back on purpose, add --allow-older.")
		}
	case version.Major:
		if !allowed.Major {
			why.Advise(fmt.Sprintf("from %s to %s is %s", t.From, t.To, version.Major.Meaning()), largeStep(s, p)...)
		}
	case version.Same:
		if !allowed.Same {
			why.Add(fmt.Sprintf("version %s is installed already", t.From), "To overwrite it with the package's files all the"+
				" same, add --allow-same.")
		}
	}
	return t
}

// checkKind refuses what cannot be replaced on this site.
func checkKind(s *session.Session, t *runs.Target, installed bool) error {
	if _, can := s.Site.CMS.(cms.Replaceable); can && t.Kind == cms.Core || installed && t.Kind != cms.Core {
		return nil
	}
	_, err := s.Site.CMS.Layout().Folder(t.Kind, t.Folder)
	return err
}

// largeStep is what to do about another major release.
func largeStep(s *session.Session, p *packages.Package) []advice.Step {
	named := p.Origin
	if rel, err := filepath.Rel(s.Shelf().Dir, named); err == nil && filepath.IsLocal(rel) {
		named = p.Folder + "@" + p.Header.Version
	}
	return []advice.Step{advice.Lead("Rehearse it first, on a private copy of the site:", advice.Rehearse, named),
		advice.Do("To take the step, add --allow-major.")}
}

// explainMissing refuses a package that is not installed yet and would land beside
// what it is probably meant for.
func explainMissing(s *session.Session, p *packages.Package, why *runs.Reasons) {
	for _, other := range s.Components {
		switch {
		case other.Folder == p.Folder && other.Kind != p.Header.Kind:
			why.Add(fmt.Sprintf("the package is a %s, but %s is installed as a %s", p.Header.Kind, p.Folder, other.Kind),
				"Get the package of the right kind.")
			return
		case other.Kind == p.Header.Kind && strings.EqualFold(other.Name, p.Header.Name):
			why.Add(fmt.Sprintf("the package's folder is %s, but %s is installed in the folder %s", p.Folder, other.Name,
				other.Folder), fmt.Sprintf("Get the installable zip, whose folder is called %s: under another name it would be"+
				" installed beside the old one, and not be active.", other.Folder))
			return
		}
	}
}

// CheckParent refuses a child theme whose parent is neither installed nor comes along, and a
// package that would make something else of a child theme: without its parent it has no
// templates.
func CheckParent(s *session.Session, p *packages.Package, with Company, why *runs.Reasons) {
	parent := p.Header.Parent
	if installed, ok := site.Component(s.Components, p.Header.Kind, p.Folder); ok && installed.Parent != "" &&
		parent != installed.Parent {
		now := "names no parent"
		if parent != "" {
			now = "names " + parent + " as its parent"
		}
		why.Add(fmt.Sprintf("the installed version is a child theme of %s, and the package %s", installed.Parent, now),
			"Ask who made the package whether that is meant: its header needs the line that names the parent theme.")
	}
	if p.Header.Kind != cms.Theme || parent == "" || with.comes(cms.Theme, parent) {
		return
	}
	if _, ok := site.Component(s.Components, cms.Theme, parent); !ok {
		why.Add(fmt.Sprintf("it is a child theme of %s, which is not installed", parent), "Install the parent theme first,"+
			" or together with it.")
	}
}

// Company is what comes along with a package.
type Company struct {
	Coming []string       // components whose packages are wanted together with it, as kind/folder
	Beside []shelf.Beside // what came in one bundle with it
}

// comes tells of a component whose package is one of several that are wanted.
func (c Company) comes(kind cms.Kind, folder string) bool {
	return slices.Contains(c.Coming, string(kind)+"/"+folder)
}

// CheckPlace finds out, without touching anything, whether the files can be replaced.
func CheckPlace(ctx context.Context, s *session.Session, t *runs.Target, p *packages.Package, why *runs.Reasons) {
	live, err := PlaceOf(s, t.Kind, t.Folder)
	if err != nil || t.Kind == cms.Core {
		return // which is refused, or looked at by itself
	}
	if len(t.Parts) > 0 {
		c := &deploy.Change{Target: t, Live: live}
		together(why,
			func(why *runs.Reasons) { checkWritable(ctx, s, live, why) },
			func(why *runs.Reasons) { checkRoom(ctx, s, live, p, why) },
			func(why *runs.Reasons) { checkParts(ctx, s, c.Places(), why) },
		)
		return
	}
	fsys := s.Site.Files
	entry, err := fsys.Lstat(ctx, live)
	if err == nil && t.New {
		why.Add(fmt.Sprintf("%s is there, but is no %s that the CMS knows", live, t.Kind), "Find out what it is, then move"+
			" it out of the way.")
		return
	}
	if t.New {
		checkWritable(ctx, s, path.Dir(live), why)
		return
	}
	if err != nil {
		why.Add(fmt.Sprintf("%s cannot be looked at: %v", live, err), "Run Wetland as the user who owns the site's files.")
		return
	}
	if entry.Kind == files.Link {
		why.Add(fmt.Sprintf("%s is a symbolic link to %s", live, entry.Target), "Replace the link by the real folder"+
			" first, or update where it points to.")
		return
	}
	together(why,
		func(why *runs.Reasons) { checkWritable(ctx, s, path.Dir(live), why) },
		func(why *runs.Reasons) { checkWritable(ctx, s, live, why) },
		func(why *runs.Reasons) { checkOwner(ctx, s, live, entry, why) },
		func(why *runs.Reasons) { checkGroup(ctx, s, live, entry, why) },
		func(why *runs.Reasons) { checkMounts(ctx, s, live, why) },
		func(why *runs.Reasons) { checkRoom(ctx, s, path.Dir(live), p, why) },
		func(why *runs.Reasons) { checkCollisions(ctx, s, live, why) },
	)
}

// together makes checks at the same time, and adds what stands against it in their order.
func together(why *runs.Reasons, checks ...func(why *runs.Reasons)) {
	found := make([]runs.Reasons, len(checks))
	var all sync.WaitGroup
	for i, check := range checks {
		all.Go(func() { check(&found[i]) })
	}
	all.Wait()
	*why = slices.Concat(append([]runs.Reasons{*why}, found...)...)
}

func checkWritable(ctx context.Context, s *session.Session, folder string, why *runs.Reasons) {
	if err := s.Site.Files.Writable(ctx, folder); err != nil {
		why.Add(fmt.Sprintf("the folder %s cannot be written by %s", folder, actor(ctx, s)), actAsOwner(s)+
			", or fix the folder's permissions.")
	}
}

func checkRoom(ctx context.Context, s *session.Session, folder string, p *packages.Package, why *runs.Reasons) {
	_, size := p.Tree.Total()
	CheckRoom(ctx, s, folder, size, why)
}

// actor names the user as whom the site's files are written.
func actor(ctx context.Context, s *session.Session) string {
	if s.Site.Host.Name() == "" {
		return runs.WhoAmI()
	}
	accounts := s.Site.Host.Accounts()
	return accounts.UserName(ctx, accounts.Self(ctx)) + " on the site's machine"
}

// actAsOwner tells how to act as the user who owns the site's files, as the beginning of a sentence.
func actAsOwner(s *session.Session) string {
	if s.Site.Host.Name() == "" {
		return "Run Wetland as the user who owns the site's files"
	}
	return "Enter the site's machine as the user who owns its files"
}

// actAs tells how to act as another user.
func actAs(s *session.Session, user string) string {
	if s.Site.Host.Name() == "" {
		return "Run Wetland as that user: sudo -u " + phrase.ShellWord(user) + " wetland ..."
	}
	return "Enter the site's machine as that user: root = \"ssh://" + user + "@...\" in wetland.toml."
}

// checkOwner and checkGroup tell apart whether it is the owner or the group that new files cannot be
// given: they are had in different ways.
func checkOwner(ctx context.Context, s *session.Session, live string, entry files.Entry, why *runs.Reasons) {
	accounts := s.Site.Host.Accounts()
	if !s.Site.Files.CanOwn(entry.Owner, files.Unowned) {
		owner := accounts.UserName(ctx, entry.Owner)
		why.Add(fmt.Sprintf("%s belongs to the user %s: %s cannot give the new files that owner", live, owner, actor(ctx, s)),
			actAs(s, owner))
	}
}

func checkGroup(ctx context.Context, s *session.Session, live string, entry files.Entry, why *runs.Reasons) {
	accounts := s.Site.Host.Accounts()
	if !s.Site.Files.CanOwn(files.Unowned, entry.Group) {
		group := accounts.GroupName(ctx, entry.Group)
		why.Add(fmt.Sprintf("%s belongs to the group %s, and %s is not in it: the new files cannot be given that group", live,
			group, actor(ctx, s)),
			fmt.Sprintf("Join the group (as root: usermod -aG %s %s), sign in again, and retry. Or run Wetland as a user who"+
				" is in it. Or, if that group is not needed, give the folder one of your own, set so that new files get it by"+
				" themselves: chgrp -R YOURS %s; find %s -type d -exec chmod g+s {} +",
				phrase.ShellWord(group), phrase.ShellWord(accounts.UserName(ctx, accounts.Self(ctx))), phrase.ShellQuote(live),
				phrase.ShellQuote(live)))
	}
}

// checkCollisions looks for what does not belong into an installed package.
func checkCollisions(ctx context.Context, s *session.Session, live string, why *runs.Reasons) {
	if _, err := s.Site.Files.Lstat(ctx, path.Join(live, ".git")); err == nil {
		why.Add(fmt.Sprintf("%s is under version control (.git): replacing it would throw its history away", live),
			"Update it by that version control, or move .git elsewhere first.")
	} else if !errors.Is(err, fs.ErrNotExist) {
		why.Add(fmt.Sprintf("%s cannot be read: %v", live, err), "Run Wetland as the user who owns the site's files.")
	}
}

// CheckSite asks the CMS what stands against an update of any kind.
func CheckSite(ctx context.Context, s *session.Session, why *runs.Reasons) {
	together(why, func(why *runs.Reasons) {
		for _, sign := range s.Site.CMS.Busy(ctx, s.DB) {
			why.Add(sign+".", "")
		}
	}, func(why *runs.Reasons) {
		for _, obstacle := range s.Site.CMS.Obstacles(ctx, s.DB) {
			why.Add(obstacle, "")
		}
	}, func(why *runs.Reasons) { checkIdentity(ctx, s, why) }, func(why *runs.Reasons) { CheckDatabase(ctx, s, why) })
}

// CheckDatabase refuses what may have to change tables where nobody can.
func CheckDatabase(ctx context.Context, s *session.Session, why *runs.Reasons) {
	if s.DB == nil {
		return
	}
	if err := database.Ready(ctx, s.DB); err != nil && ctx.Err() == nil {
		why.Add(fmt.Sprintf("the tables could not be changed now: %v", err), "Rows could not be put back. See to the"+
			" database server first: does it take writes, and a second connection of this user?")
	}
}

// CheckRoom refuses to write so many bytes below a folder of the site where they do not fit.
func CheckRoom(ctx context.Context, s *session.Session, folder string, size int64, why *runs.Reasons) {
	if free, err := s.Site.Files.FreeSpace(ctx, folder); err == nil && free < uint64(size)*2 {
		why.Add(fmt.Sprintf("only %s are free on the site's disk, and the new files need %s", phrase.Bytes(int64(free)),
			phrase.Bytes(size)), "Make room first.")
	}
}

// checkIdentity refuses an address at which another site answers.
func checkIdentity(ctx context.Context, s *session.Session, why *runs.Reasons) {
	candidates, err := s.Site.CMS.PublicFiles(ctx, s.Components)
	if err != nil {
		why.Add(fmt.Sprintf("the site's files cannot be read: %v", err), "Run Wetland as the user who owns them.")
		return
	}
	proof := identity.Identify(ctx, s.Fetcher, s.Site.Files, candidates)
	switch {
	case proof.Proved():
	case len(proof.Other) > 0:
		why.Add(fmt.Sprintf("%s is not what answers at %s: %s (%s differ)", s.Site.Place(), s.Site.Address, proof,
			phrase.List(proof.Other, 3)),
			"Check root and address in wetland.toml: judging another site's pages would prove nothing.")
	default:
		why.Add(fmt.Sprintf("it cannot be proved that %s is what answers at %s (%s)", s.Site.Place(), s.Site.Address,
			phrase.List(proof.Unasked, 2)),
			"Is the web server running, and the address right?")
	}
}

// checkMounts refuses components that cannot be exchanged as a whole.
func checkMounts(ctx context.Context, s *session.Session, live string, why *runs.Reasons) {
	folder, err := deploy.Mounted(ctx, s, live)
	switch {
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		why.Add(fmt.Sprintf("it cannot be found out whether something is mounted in %s: %v", live, err), "Run Wetland as"+
			" the user who owns the site's files.")
	case folder == live:
		why.Add(live+" is a mount point: it cannot be exchanged in one step, and other sites may use the same files",
			"Update the files at the place they are mounted from, or unmount them and put the real folder here.")
	case folder != "":
		why.Add(fmt.Sprintf("%s, inside of the component, is a mount point: it would not come along when the folder around"+
			" it is exchanged", folder), "Unmount it for the update, or move what is mounted there out of the component.")
	}
}

// CheckNotice refuses to promise a notice where the CMS has none.
func CheckNotice(s *session.Session, why *runs.Reasons) {
	if name, _ := s.Site.CMS.Notice(time.Now()); s.Notice && name == "" {
		why.Add("this CMS has no notice that expires by itself", "Leave out --notice.")
	}
}

// EditsAdvice says what to do about edits by hand.
func EditsAdvice(kind cms.Kind) string {
	place := map[cms.Kind]string{cms.Theme: "a child theme",
		cms.Plugin: "a plugin of your own, which hooks into this one"}[kind]
	return "Move the edits into " + cmp.Or(place, "a component of your own") + ", or accept the loss: --lose-edits. The" +
		" snapshot and the shelf keep them."
}
