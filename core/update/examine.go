package update

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/version"
)

// target finds what the package is to replace, and what stands against that.
func (s *session) target(p *packages.Package, allowed Allowed, why *reasons) *Target {
	t := &Target{Kind: p.Header.Kind, Folder: p.Folder, Name: p.Header.Name, To: p.Header.Version, Package: p.Origin, Hash: p.Hash}
	if absolute, err := filepath.Abs(p.Origin); err == nil {
		t.Package = absolute
	}
	installed, ok := site.Component(s.components, p.Header.Kind, p.Folder)
	if !ok {
		t.New = true
		s.explainMissing(p, why)
		return t
	}
	t.From = installed.Version
	if installed.Problem != "" && !allowed.Return {
		why.add(fmt.Sprintf("the header of the installed %s cannot be read: %s", p.Folder, installed.Problem), "Fix or reinstall it by hand first.")
	}
	if installed.Name != "" && !strings.EqualFold(installed.Name, p.Header.Name) {
		why.add(fmt.Sprintf("the package is %q, but the folder %s holds %q", p.Header.Name, p.Folder, installed.Name), "Check whether this is the right package: two different ones share a folder's name.")
	}
	switch version.Between(t.From, t.To) {
	case version.Backward:
		if !allowed.Older {
			why.add(fmt.Sprintf("the package is version %s, older than the installed %s", t.To, t.From), "Is it the right download? To go back on purpose, add --allow-older.")
		}
	case version.Major:
		if !allowed.Major {
			why.add(fmt.Sprintf("from %s to %s is %s", t.From, t.To, version.Major.Meaning()), largeStepAdvice)
		}
	case version.Same:
		if !allowed.Same {
			why.add(fmt.Sprintf("version %s is installed already", t.From), "To overwrite it with the package's files all the same, add --allow-same.")
		}
	}
	return t
}

const largeStepAdvice = "Rehearse it on a copy of the site, if there is one. To take the step, add --allow-major."

// explainMissing refuses a package that is not installed yet and would land beside
// what it is probably meant for.
func (s *session) explainMissing(p *packages.Package, why *reasons) {
	for _, other := range s.components {
		switch {
		case other.Folder == p.Folder && other.Kind != p.Header.Kind:
			why.add(fmt.Sprintf("the package is a %s, but %s is installed as a %s", p.Header.Kind, p.Folder, other.Kind), "Get the package of the right kind.")
			return
		case other.Kind == p.Header.Kind && strings.EqualFold(other.Name, p.Header.Name):
			why.add(fmt.Sprintf("the package's folder is %s, but %s is installed in the folder %s", p.Folder, other.Name, other.Folder), fmt.Sprintf("Get the installable zip, whose folder is called %s: under another name it would be installed beside the old one, and not be active.", other.Folder))
			return
		}
	}
}

// checkParent refuses a child theme whose parent is neither installed nor comes along, and a
// package that would make something else of a child theme: without its parent it has no
// templates.
func (s *session) checkParent(p *packages.Package, with Company, why *reasons) {
	parent := p.Header.Parent
	if installed, ok := site.Component(s.components, p.Header.Kind, p.Folder); ok && installed.Parent != "" && parent != installed.Parent {
		now := "names no parent"
		if parent != "" {
			now = "names " + parent + " as its parent"
		}
		why.add(fmt.Sprintf("the installed version is a child theme of %s, and the package %s", installed.Parent, now), "Ask who made the package whether that is meant: its header wants the line that names the parent theme.")
	}
	if p.Header.Kind != cms.Theme || parent == "" || with.comes(cms.Theme, parent) {
		return
	}
	if _, ok := site.Component(s.components, cms.Theme, parent); !ok {
		why.add(fmt.Sprintf("it is a child theme of %s, which is not installed", parent), "Install the parent theme first, or together with it.")
	}
}

// Company is what comes along with a package.
type Company struct {
	Coming []string // components whose packages are wanted together with it, as kind/folder
	Beside []Beside // what came in one bundle with it
}

// comes tells of a component whose package is one of several that are wanted.
func (c Company) comes(kind cms.Kind, folder string) bool {
	return slices.Contains(c.Coming, string(kind)+"/"+folder)
}

// checkPlace finds out, without touching anything, whether the files can be replaced.
func (s *session) checkPlace(ctx context.Context, t *Target, p *packages.Package, why *reasons) {
	fsys, live := s.site.Files, s.site.ComponentPath(t.Kind, t.Folder)
	entry, err := fsys.Lstat(ctx, live)
	if err == nil && t.New {
		why.add(fmt.Sprintf("%s is there, but is no %s that the CMS knows", live, t.Kind), "Find out what it is, and move it away by hand.")
		return
	}
	if t.New {
		if err := fsys.Writable(ctx, path.Dir(live)); err != nil {
			why.add(fmt.Sprintf("the folder %s cannot be written by %s", path.Dir(live), whoAmI()), "Run Wetland as the user who owns the site's files, or fix the folder's permissions.")
		}
		return
	}
	if err != nil {
		why.add(fmt.Sprintf("%s cannot be looked at: %v", live, err), "Run Wetland as the user who owns the site's files.")
		return
	}
	if entry.Kind == files.Link {
		why.add(fmt.Sprintf("%s is a symbolic link to %s", live, entry.Target), "Replace the link by the real folder first, or update where it points to.")
		return
	}
	for _, folder := range []string{path.Dir(live), live} {
		if err := fsys.Writable(ctx, folder); err != nil {
			why.add(fmt.Sprintf("the folder %s cannot be written by %s", folder, whoAmI()), "Run Wetland as the user who owns the site's files, or fix the folder's permissions.")
		}
	}
	s.checkOwner(live, entry, why)
	s.checkMounts(ctx, live, why)
	_, size := p.Tree.Total()
	if free, err := fsys.FreeSpace(ctx, path.Dir(live)); err == nil && free < uint64(size)*2 {
		why.add(fmt.Sprintf("only %s are free on the site's disk, and the new files need %s", bytesText(int64(free)), bytesText(size)), "Make room first.")
	}
	s.checkCollisions(ctx, live, why)
}

// checkOwner tells apart whether it is the owner or the group that new files cannot be given:
// they are had in different ways.
func (s *session) checkOwner(live string, entry files.Entry, why *reasons) {
	const without = files.Unowned
	if !s.site.Files.CanOwn(entry.Owner, without) {
		owner := site.UserName(entry.Owner)
		why.add(fmt.Sprintf("%s belongs to the user %s: %s cannot give the new files that owner", live, owner, whoAmI()), "Run Wetland as that user: sudo -u "+shellWord(owner)+" wetland ...")
	}
	if !s.site.Files.CanOwn(without, entry.Group) {
		group := site.GroupName(entry.Group)
		why.add(fmt.Sprintf("%s belongs to the group %s, and %s is not in it: the new files cannot be given that group", live, group, whoAmI()),
			fmt.Sprintf("Join the group (as root: usermod -aG %s %s), sign in anew, and try again. Or run Wetland as a user who is in it. Or, if that group is not needed, give the folder one of your own, set so that new files get it by themselves: chgrp -R YOURS %s; find %s -type d -exec chmod g+s {} +",
				shellWord(group), shellWord(site.UserName(os.Getuid())), shellQuote(live), shellQuote(live)))
	}
}

// shellWord quotes a name where a shell would read it otherwise.
func shellWord(name string) string {
	if strings.ContainsFunc(name, func(r rune) bool {
		return r != '-' && r != '_' && r != '.' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
	}) {
		return shellQuote(name)
	}
	return name
}

// checkCollisions looks for what does not belong into an installed package.
func (s *session) checkCollisions(ctx context.Context, live string, why *reasons) {
	if _, err := s.site.Files.Lstat(ctx, path.Join(live, ".git")); err == nil {
		why.add(fmt.Sprintf("%s is under version control (.git): replacing it would throw its history away", live), "Update it by that version control, or move .git elsewhere first.")
	} else if !errors.Is(err, fs.ErrNotExist) {
		why.add(fmt.Sprintf("%s cannot be read: %v", live, err), "Run Wetland as the user who owns the site's files.")
	}
}

// checkSite asks the CMS what stands against an update of any kind.
func (s *session) checkSite(ctx context.Context, why *reasons) {
	for _, sign := range s.site.CMS.Busy(ctx, s.db) {
		why.add(sign+".", "")
	}
	for _, obstacle := range s.site.CMS.Obstacles(ctx, s.db) {
		why.add(obstacle, "")
	}
	candidates, err := s.site.CMS.PublicFiles(ctx, s.components)
	if err != nil {
		why.add(fmt.Sprintf("the site's files cannot be read: %v", err), "Run Wetland as the user who owns them.")
		return
	}
	identity := s.fetcher.Identify(ctx, s.site.Files, candidates)
	switch {
	case identity.Proved():
	case len(identity.Other) > 0:
		why.add(fmt.Sprintf("%s is not what answers at %s: %s (%s differ)", s.site.Root, s.site.Address, identity, list(identity.Other, 3)),
			"Check root and address in wetland.toml: judging another site's pages would prove nothing.")
	default:
		why.add(fmt.Sprintf("it cannot be proved that %s is what answers at %s (%s)", s.site.Root, s.site.Address, list(identity.Unasked, 2)),
			"Is the web server running, and the address right?")
	}
}

func inBrackets(text string) string {
	if text == "" {
		return ""
	}
	return " (" + text + ")"
}
