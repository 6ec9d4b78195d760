package cms

import (
	"context"
	"path"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/files"
)

// CoreFiles says which files of a site are the CMS itself.
type CoreFiles struct {
	Root    string   // absolute; the names below are those directly in it
	Folders []string // all that is in them is the CMS's, and is replaced whole
	// Owners are patterns of path.Match of files that packages may bring, and that are the owner's on a site.
	Owners  []string
	Content string // the folder of packages in which themes and plugins are; on a site it is the owner's
	// Translation is the folder in Content in which a release in another language has its translation; "": it has none.
	Translation string
	// Spare are files that nothing needs, and that owners take away: one that is gone stays so.
	Spare []string
	// Version is the file that says which version it is.
	Version string
	// Loader is the file that every script of the CMS loads before all others, and Gate is what stands in its place
	// while files are exchanged: each request is told to come back soon.
	Loader, Gate string
	// Forgets is in what the gate answers where nothing of the scripts that led to it stays compiled: these are
	// exchanged, too, and visitors ask for them meanwhile.
	Forgets string
	// Forget is a path at which the gate has PHP drop all that it keeps compiled of the folders, too: scripts that do not
	// pass the loader go on loading what is in them. Its answer tells by Forgets whether that is so. "": there is none.
	Forget string
}

// gateWords are in the first line of every gate.
const gateWords = "put up by Wetland while the CMS is replaced: recover takes it away"

// GateMark is the first line of the gate, by which it is known. It is the same in each version of Wetland.
func (c CoreFiles) GateMark() string {
	mark, _, _ := strings.Cut(c.Gate, "\n")
	return mark
}

// Parts lists the names directly in Root that a package replaces there, in their order, and those that it brings but
// that stay away, as their owner wanted. formerly are files of earlier versions, which go.
func (c CoreFiles) Parts(brings files.Tree, present []files.Entry, formerly []string) (parts, stayAway []string) {
	there := map[string]files.Kind{}
	for _, entry := range present {
		there[entry.Name] = entry.Kind
	}
	for _, item := range brings {
		switch _, is := there[item.Path]; {
		case item.Path == "." || path.Dir(item.Path) != "." || !c.isOwn(item):
		case item.Kind == files.File && !is && slices.Contains(c.Spare, item.Path):
			stayAway = append(stayAway, item.Path)
		default:
			parts = append(parts, item.Path)
		}
	}
	for _, name := range formerly {
		if there[name] == files.File && !slices.Contains(parts, name) && c.isOwn(files.Item{Path: name, Kind: files.File}) {
			parts = append(parts, name)
		}
	}
	for _, name := range c.Folders {
		if there[name] == files.Folder && !slices.Contains(parts, name) {
			parts = append(parts, name)
		}
	}
	slices.Sort(parts)
	return parts, stayAway
}

// isOwn tells of something directly in the root of a package that belongs to the CMS itself.
func (c CoreFiles) isOwn(item files.Item) bool {
	if item.Kind == files.Folder {
		return slices.Contains(c.Folders, item.Path)
	}
	return item.Kind == files.File && !slices.ContainsFunc(c.Owners, func(pattern string) bool { is, _ := path.Match(pattern, item.Path); return is })
}

// Only returns what of a tree is in its parts.
func Only(tree files.Tree, parts []string) (only files.Tree) {
	for _, item := range tree {
		if slices.ContainsFunc(parts, func(part string) bool { return files.Within(item.Path, part) }) {
			only = append(only, item)
		}
	}
	return only
}

// A Replaceable site is of a CMS that can be replaced by another version of itself.
type Replaceable interface {
	Site
	Core() CoreFiles
	// Formerly lists files that earlier versions of the CMS had and a package's version has not, with their paths
	// below its folder, as the package tells; none where it tells nothing.
	Formerly(of Folder) ([]string, error)
	// PendingUpgrade is the path whose visit has the CMS bring its tables to the version of its files; "": they are.
	PendingUpgrade(ctx context.Context, db database.Database) (visit string, err error)
	// StoredAnew returns what tells of rows of a table whose content a newer release merely stored in a form that the one
	// before cannot read: they go back with the release. nil: that table has none.
	StoredAnew(table database.Table) func(before, now database.Row) bool
	// MadeAnew tells of a row that the CMS rewrites by itself, and that belongs to its release.
	MadeAnew(table database.Table, row database.Row) bool
	// Between counts the releases from one version to a later one by what its makers call a major release; 0: none, or it
	// cannot be told.
	Between(from, to string) int
	// TestedUpTo is the version that a theme or plugin says it was tested with; "": it says none.
	TestedUpTo(ctx context.Context, component Component) string
	// LostWith lists what cannot be used any more once an older release is in place.
	LostWith(ctx context.Context, db database.Database, to string) ([]string, error)
	// Vitals are asked before the CMS is replaced, and after.
	Vitals() []Vital
	// Jobs names what the CMS does again and again at set times, in order; none if db is nil.
	Jobs(ctx context.Context, db database.Database) ([]string, error)
}

// Vital is a request whose answer shows that something of the CMS works which no page shows.
type Vital struct {
	What string // for people, as the beginning of a sentence
	Path string
	JSON bool // its answer is JSON
	// SignedIn asks in the session of whoever looks after the site, where wetland.toml says how to open one.
	SignedIn bool
	// Token is a path whose answer, in that session, is put behind Path: proof that the request is meant. "": none is
	// wanted.
	Token string
}
