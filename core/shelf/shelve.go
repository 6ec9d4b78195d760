// Package shelf puts packages on the workspace's shelf, from files, bundles and vendors, and opens those
// that are wanted. Begin reading at Shelve and ReadPackage.
//
// It promises that a key goes to the vendor that it is for, and is nowhere else.
package shelf

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"wetland/core/advice"
	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/scratch"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/version"
	"wetland/core/workspace"
)

// Shelved is what became of one archive.
type Shelved struct {
	File    string           `json:"file"`
	Entries []packages.Entry `json:"entries,omitempty"`
	Problem string           `json:"problem,omitempty"` // why it was not taken
}

// Options say how packages are had from vendors.
type Options struct {
	packages.Download
	// AskKey asks a person for a vendor's key to a component; nil: nobody is there.
	AskKey func(ctx context.Context, folder string) (string, error)
}

// Shelve puts packages on the workspace's shelf. Each name is a file, a folder (for
// the zips in it), an address, or NAME@VERSION of a component whose source
// wetland.toml names. A bundle stands for the packages in it. What cannot be taken
// is told in its Problem and does not keep the others off.
func Shelve(ctx context.Context, w *workspace.Workspace, names []string, how Options) ([]Shelved, error) {
	opened, err := site.Open(ctx, w)
	if err != nil {
		return nil, err
	}
	defer opened.Close()
	wanted, err := wantedPackages(ctx, w, names, &how)
	if err != nil {
		return nil, err
	}
	installed, err := opened.CMS.Components(ctx, nil)
	if err != nil {
		return nil, err
	}
	to := shelving{shelf: packages.Shelf{Dir: w.Shelf()}, readHeader: opened.CMS.ReadHeader, installed: installed,
		how: how.Download}
	var all []Shelved
	for _, want := range wanted {
		one := Shelved{File: want.shown}
		one.Entries, err = to.shelve(ctx, want)
		if ctx.Err() != nil {
			return all, ctx.Err()
		}
		if err != nil {
			one.Problem = err.Error()
		}
		all = append(all, one)
	}
	return all, nil
}

// wantedPackage is an archive to be shelved: a file, or an address to fetch it from.
type wantedPackage struct {
	shown   string // for people and labels, without secrets
	file    string
	address string
}

func wantedPackages(
	ctx context.Context, w *workspace.Workspace, names []string, how *Options,
) ([]wantedPackage, error) {
	var wanted []wantedPackage
	for _, name := range names {
		if strings.Contains(name, "://") {
			wanted = append(wanted, wantedPackage{shown: packages.Shown(name), address: name})
			continue
		}
		info, err := os.Stat(name)
		if errors.Is(err, fs.ErrNotExist) && strings.Contains(name, "@") {
			want, err := how.fromSource(ctx, w, name)
			if err != nil {
				return nil, err
			}
			wanted = append(wanted, want)
			continue
		}
		if errors.Is(err, fs.ErrNotExist) {
			return nil, files.Missing(name, err)
		}
		if err != nil {
			return nil, err
		}
		if !info.IsDir() {
			wanted = append(wanted, wantedPackage{shown: filepath.Base(name), file: name})
			continue
		}
		inside, err := filepath.Glob(filepath.Join(name, "*.[zZ][iI][pP]"))
		if err != nil || len(inside) == 0 {
			return nil, fmt.Errorf("the folder %s holds no zip files", name)
		}
		for _, file := range inside {
			wanted = append(wanted, wantedPackage{shown: filepath.Base(file), file: file})
		}
	}
	return wanted, nil
}

// fromSource fills in the address that wetland.toml has for a component.
func (how *Options) fromSource(ctx context.Context, w *workspace.Workspace, name string) (wantedPackage, error) {
	folder, version, _ := strings.Cut(name, "@")
	i := slices.IndexFunc(w.Config.Sources, func(s workspace.Source) bool { return s.Folder == folder })
	if i < 0 {
		return wantedPackage{}, fmt.Errorf("there is no file %s, and %s names no source for %s. Add it: [[sources]] folder"+
			" = %q, address = \"https://vendor.example/{name}/{version}.zip?key={key}\", key_from = \"env NAME\"", name,
			workspace.ConfigName, folder, folder)
	}
	source := w.Config.Sources[i]
	key, err := how.key(ctx, source)
	if err != nil {
		return wantedPackage{}, err
	}
	fill := strings.NewReplacer("{name}", url.PathEscape(folder), "{version}", url.PathEscape(version), "{key}",
		url.QueryEscape(key))
	// What is shown and kept has the key's place, never the key.
	shown := strings.NewReplacer("{name}", folder, "{version}", version).Replace(source.Address)
	return wantedPackage{shown: shown, address: fill.Replace(source.Address)}, nil
}

// key returns the vendor's key from where the source says it is; "" if none is wanted.
func (how *Options) key(ctx context.Context, source workspace.Source) (string, error) {
	setting := "key_from of " + source.Folder
	switch {
	case source.KeyFrom == "":
		return "", nil
	case source.KeyFrom != workspace.AskForKey:
		return workspace.ReadSecret(setting, source.KeyFrom)
	case how.AskKey == nil:
		return "", fmt.Errorf("%s says to ask a person, and nobody is at a terminal. For use without a person, say there"+
			" \"env NAME\" or \"file PATH\"", setting)
	}
	return how.AskKey(ctx, source.Folder)
}

// shelving puts packages on a shelf.
type shelving struct {
	shelf      packages.Shelf
	readHeader packages.HeaderReader
	installed  []cms.Component
	how        packages.Download
}

func (to shelving) shelve(ctx context.Context, want wantedPackage) (entries []packages.Entry, err error) {
	scratch, err := scratch.Folder()
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(scratch)) }()
	file := want.file
	if want.address != "" {
		if file, err = to.how.Fetch(ctx, want.address, want.shown, scratch); err != nil {
			return nil, err
		}
	}
	found, err := packages.Find(ctx, file, cmp.Or(want.file, want.shown), scratch, to.readHeader)
	if err != nil {
		return nil, err
	}
	for _, p := range found {
		fit(to.installed, p)
		entry, addErr := to.shelf.Add(p, want.shown)
		err = errors.Join(err, addErr, p.Close())
		if addErr == nil {
			entries = append(entries, entry)
		}
	}
	return entries, err
}

// OnShelf is a package on the shelf, as it stands to the site.
type OnShelf struct {
	packages.Entry
	Installed string           `json:"installed,omitempty"` // the version that is installed now
	Distance  version.Distance `json:"distance,omitempty"`  // from there to this one
}

// List lists what is on the workspace's shelf, newest version first.
func List(ctx context.Context, w *workspace.Workspace) ([]OnShelf, error) {
	opened, err := site.Open(ctx, w)
	if err != nil {
		return nil, err
	}
	defer opened.Close()
	installed, err := opened.CMS.Components(ctx, nil)
	if err != nil {
		return nil, err
	}
	entries, err := packages.Shelf{Dir: w.Shelf()}.All()
	if err != nil {
		return nil, err
	}
	var all []OnShelf
	for _, entry := range entries {
		one := OnShelf{Entry: entry}
		if component, ok := site.Component(installed, entry.Kind, entry.Folder); ok {
			one.Installed, one.Distance = component.Version, entry.Kind.Distance(component.Version, entry.Version)
		}
		all = append(all, one)
	}
	return all, nil
}

// locate turns what a person named into an archive: a file, or NAME or
// NAME@VERSION from the shelf.
func locate(s *session.Session, name string) (string, error) {
	_, err := os.Stat(name)
	if err == nil || strings.ContainsAny(name, `/\`) || strings.EqualFold(filepath.Ext(name), ".zip") {
		return name, nil
	}
	entry, pickErr := s.Shelf().Pick(name)
	if errors.Is(pickErr, packages.ErrNotOnShelf) && errors.Is(err, fs.ErrNotExist) {
		return "", advice.With(fmt.Errorf("there is no file %s, and %w of that name or version", name,
			packages.ErrNotOnShelf), advice.Lead("To see what the shelf has:", advice.ListShelf))
	}
	if other, ok := s.Shelf().OffSite(entry); pickErr == nil && ok {
		s.Report.End(progress.Note, "package", fmt.Sprintf("%s as its vendor made it; as it was on the site, it is in %s",
			entry.Title(), other.File))
	}
	return entry.File, pickErr
}

// ReadPackage opens what is to be installed, and tells what came in one bundle with it. An archive
// that is no whole zip is an error by itself; anything else wrong with it is a reason beside the
// others.
func ReadPackage(
	ctx context.Context, s *session.Session, name, choice, scratch string, why *runs.Reasons,
) (*packages.Package, []Beside, error) {
	file, err := locate(s, name)
	if err != nil {
		return nil, nil, err
	}
	if err := os.MkdirAll(scratch, 0o700); err != nil {
		return nil, nil, err
	}
	found, err := packages.Find(ctx, file, file, scratch, s.Site.CMS.ReadHeader)
	switch {
	case err != nil && (errors.Is(err, packages.ErrUnreadable) || ctx.Err() != nil):
		return nil, nil, err
	case err != nil:
		why.AddError(err, "Download the installable package from the vendor again, or ask them about it.")
		return nil, nil, nil
	}
	if found, err = withInside(ctx, s, found, scratch); err != nil {
		return nil, nil, err
	}
	picked := pick(found, choice)
	var titles []string
	var beside []Beside
	for i, p := range found {
		fit(s.Components, p)
		titles = append(titles, fmt.Sprintf("%s %s (%s)", p.Header.Kind, p.Title(), p.Folder))
		if i != picked {
			beside = append(beside, besideOf(s, p))
			if err := p.Close(); err != nil {
				return nil, nil, err
			}
		}
	}
	if picked < 0 {
		why.Advise(fmt.Sprintf("%s holds several packages: %s", filepath.Base(file), strings.Join(titles, "; ")),
			advice.Lead("Name one with --pick FOLDER, or put all of them on the shelf:", advice.Shelve, file))
		return nil, nil, nil
	}
	inside, err := companions(ctx, s, found[picked], scratch)
	return found[picked], append(beside, inside...), err
}

// pick chooses the package of a bundle: the one that was named, the only one, or
// the only theme, whose plugins then are its companions. -1: a person must choose.
func pick(found []*packages.Package, named string) int {
	only := -1
	for i, p := range found {
		switch {
		case named != "" && (p.Folder == named || p.Header.Alone == named || strings.EqualFold(p.Header.Name, named)):
			return i
		case named != "":
		case len(found) == 1, p.Header.Kind == cms.Core:
			return i
		case p.Header.Kind == cms.Theme && p.Header.Parent == "":
			if only >= 0 {
				return -1
			}
			only = i
		}
	}
	return only
}

// withInside adds the themes and plugins that the CMS's own package brings along.
func withInside(
	ctx context.Context, s *session.Session, found []*packages.Package, scratch string,
) ([]*packages.Package, error) {
	core, ok := s.Site.CMS.(cms.Replaceable)
	i := slices.IndexFunc(found, func(p *packages.Package) bool { return p.Header.Kind == cms.Core })
	if !ok || i < 0 {
		return found, nil
	}
	inside, err := found[i].Inside(ctx, core.Core().Content, core.Core().Translation, scratch, s.Site.CMS.ReadHeader)
	if err != nil {
		for _, p := range found {
			err = errors.Join(err, p.Close())
		}
		return nil, fmt.Errorf("look at what lies inside the package: %w", err)
	}
	return append(found, inside...), nil
}

// Beside is a package that came in one bundle with the one that is looked at.
type Beside struct {
	Kind      cms.Kind `json:"kind"`
	Folder    string   `json:"folder"`
	Name      string   `json:"name"`
	Version   string   `json:"version"`
	Installed string   `json:"installed,omitempty"` // the version that is installed; empty: none
}

// Differs tells whether the companion's version is not the installed one.
func (b Beside) Differs() bool { return version.Compare(b.Version, b.Installed) != 0 }

// BroughtAlong says in words which themes and plugins a release of the CMS itself brings along.
func BroughtAlong(all []Beside) string {
	var names []string
	for _, one := range all {
		name := one.Folder + " " + phrase.Version(one.Version)
		if one.Installed != "" {
			name += " (installed: " + one.Installed + ")"
		}
		names = append(names, name)
	}
	return "it brings other packages along, and none is installed with it: " + phrase.List(names, 8) +
		". To bring one in, name the same package, with --pick and its name"
}

// companions lists the packages inside the package.
func companions(
	ctx context.Context, s *session.Session, p *packages.Package, scratch string,
) (beside []Beside, err error) {
	inside, err := p.Companions(ctx, scratch, s.Site.CMS.ReadHeader)
	if err != nil {
		return nil, fmt.Errorf("look at what lies inside the package: %w", err)
	}
	for _, one := range inside {
		beside = append(beside, besideOf(s, one))
		if err := one.Close(); err != nil {
			return nil, err
		}
	}
	return beside, nil
}

func besideOf(s *session.Session, p *packages.Package) Beside {
	one := Beside{Kind: p.Header.Kind, Folder: p.Folder, Name: p.Header.Name, Version: p.Header.Version}
	if installed, ok := site.Component(s.Components, one.Kind, one.Folder); ok {
		one.Installed = installed.Version
	}
	return one
}

// fit gives a package the kind and the folder of the installed component that it is meant for. Archives of a vendor's
// repository have folders such as name-2.5.1 or name-main: where a component of that name is installed, and the text
// domain or the folder's own beginning says that it is meant, its folder is the one. What is installed without a
// folder is known by the name of its file. Shelf and updates go by the same rule.
func fit(components []cms.Component, p *packages.Package) {
	if _, ok := site.Component(components, p.Header.Kind, p.Folder); ok {
		return
	}
	same := func(c cms.Component) bool {
		if p.Header.Kind == cms.Core && c.Kind == cms.Core {
			return strings.EqualFold(c.Name, p.Header.Name) // whatever the archive calls its folder
		}
		if _, whole := c.OneFolder(); !whole {
			return isAlone(c, p)
		}
		if c.Kind != p.Header.Kind || c.Name == "" || !strings.EqualFold(c.Name, p.Header.Name) {
			return false
		}
		rest, begins := strings.CutPrefix(p.Folder, c.Folder)
		return c.TextDomain != "" && c.TextDomain == p.Header.TextDomain || begins && ofRepository.MatchString(rest)
	}
	if i := slices.IndexFunc(components, same); i >= 0 {
		p.Header.Kind, p.Folder = components[i].Kind, components[i].Folder
	} else if p.Header.Kind == cms.DropIn || p.Header.Kind == cms.Language {
		p.Folder = p.Header.Alone
	}
}

// isAlone tells whether a package is that of a component without a folder of its own. The package of a must-use plugin
// looks like that of any other: where it lies on the site makes it one.
func isAlone(c cms.Component, p *packages.Package) bool {
	kinds := []cms.Kind{p.Header.Kind}
	if p.Header.Kind == cms.Plugin {
		kinds = append(kinds, cms.MustUse, cms.DropIn)
	}
	if !slices.Contains(kinds, c.Kind) || p.Header.Alone == "" {
		return false
	}
	if c.Kind == cms.Language {
		return c.Folder == p.Header.Alone
	}
	return c.Folder == p.Header.Alone && (strings.EqualFold(c.Name, p.Header.Name) || c.Kind == cms.DropIn)
}

// ofRepository matches what archives of repositories add to the name of a folder.
var ofRepository = regexp.MustCompile(`^[-_.](?:v?\d[\w.+-]*|main|master|trunk|stable|release)$`)
