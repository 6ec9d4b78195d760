// Package cms knows how each content management system lays out a site: a file
// for each, behind one interface. Nothing here changes anything on a site, save
// for RebuildLinks and ForgetCaches, which clear what the CMS makes anew by itself.
package cms

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/site/traits"
	"wetland/core/version"
)

// Kind says what a component is.
type Kind string

// The kinds of components.
const (
	Core   Kind = "core"
	Theme  Kind = "theme"
	Plugin Kind = "plugin"
	// MustUse is a plugin that is always active, and DropIn a file that stands in for a part of the CMS.
	MustUse Kind = "must-use plugin"
	DropIn  Kind = "drop-in"
	// Language is a translation of the CMS, of a theme or of a plugin that is installed beside them.
	Language Kind = "language pack"
)

// Kinds lists all of them, in the order in which people think of them.
func Kinds() []Kind { return []Kind{Core, Theme, Plugin, MustUse, DropIn, Language} }

// Distance tells how far it is from one version to another. A translation of a later day is no larger step for the year
// that lies between.
func (k Kind) Distance(from, to string) version.Distance {
	far := version.Between(from, to)
	if k == Language && (far == version.Minor || far == version.Major) {
		return version.Patch
	}
	return far
}

// Header is what a component says of itself.
type Header struct {
	Kind        Kind   `json:"kind"`
	Name        string `json:"name"`
	Version     string `json:"version"` // empty: it names none
	Author      string `json:"author,omitempty"`
	Parent      string `json:"parent,omitempty"` // folder of the parent theme
	TextDomain  string `json:"text_domain,omitempty"`
	RequiresCMS string `json:"requires_cms,omitempty"`
	RequiresPHP string `json:"requires_php,omitempty"`
	// RequiresPlugins are the folders of the plugins that must be active beside it.
	RequiresPlugins  []string `json:"requires_plugins,omitempty"`
	RequiresDatabase string   `json:"requires_database,omitempty"` // the oldest version of MySQL that will do; of the CMS itself
	// Alone is what it is called where it is installed without a folder of its own: the name of its file, or what the
	// names of its files have in common. "": it is not installed so.
	Alone string `json:"-"`
}

// Component is something installed that has a version: a kind, a name and the places that it holds.
type Component struct {
	Header
	Folder string  `json:"folder"` // its name among those of its kind: that of its folder or file
	Places []Place `json:"-"`
	Form   Form    `json:"form,omitempty"`
	Active bool    `json:"active"`
	// ParentOfActive marks the theme that the active child theme builds on.
	ParentOfActive bool   `json:"parent_of_active,omitempty"`
	Problem        string `json:"problem,omitempty"` // why its header could not be read
}

// Place is a folder, with all that is below it, or one file.
type Place struct {
	Path   string // absolute
	Public string // at which visitors fetch it, below the address; "" where they cannot
	Single bool   // it is one file
}

// OneFolder returns the folder that is all of a component, as packages bring it. False: it is of
// another form, which no folder takes the place of.
func (c Component) OneFolder() (Place, bool) {
	if len(c.Places) != 1 || c.Places[0].Single || c.Kind == Core {
		return Place{}, false
	}
	return c.Places[0], true
}

// Form says in what form a component is installed; "" is a folder of its own, as most are.
type Form string

// The forms of components that are no folders of their own.
const (
	SingleFile Form = "single file"
	Beside     Form = "several files"
	Itself     Form = "the CMS itself"
)

// Area is a part of the file system that belongs to the site.
type Area struct {
	Name     string   `json:"name"`                // short and stable: "site", "content", "settings"
	Path     string   `json:"path"`                // absolute
	Only     string   `json:"only,omitempty"`      // if set, of this folder only this one file
	LeaveOut []string `json:"leave_out,omitempty"` // paths below it that are never snapshot nor restored
}

// Layout tells where a site keeps things.
type Layout struct {
	Areas   []Area   `json:"areas"`
	Themes  string   `json:"themes"` // the folder of all themes, absolute
	Plugins string   `json:"plugins"`
	Uploads string   `json:"uploads"`
	Caches  []string `json:"caches,omitempty"` // folders of rendered pages that may be emptied
	// DatabaseFiles are left out of the files, below the first area: they are taken
	// and put through SQL.
	DatabaseFiles []string `json:"database_files,omitempty"`
	// ObjectCache is the file that makes the CMS keep a copy of its settings
	// outside the database; "" if there is none.
	ObjectCache string `json:"object_cache,omitempty"`
	// Always are files, and folders of files, outside of the homes whose code runs with each request, where they are there.
	Always []string `json:"-"`
	// Loader is the file that loads the CMS for a script of PHP; "": there is none.
	Loader string `json:"-"`
	// PublicThemes, PublicPlugins and PublicUploads are the paths at which visitors' browsers
	// fetch files of those folders, below the site's address.
	PublicThemes  string `json:"public_themes"`
	PublicPlugins string `json:"public_plugins"`
	PublicUploads string `json:"public_uploads"`
}

// Folders lists all the places that a layout names, absolute; some may be there twice.
func (l Layout) Folders() []string {
	all := append([]string{l.Themes, l.Plugins, l.Uploads, l.ObjectCache}, l.Caches...)
	for _, area := range l.Areas {
		all = append(all, area.Path)
	}
	return slices.DeleteFunc(all, func(folder string) bool { return folder == "" })
}

// Home is where components of a kind are installed, each as a folder of its name.
type Home struct {
	Kind   Kind
	Path   string // absolute
	Public string // at which visitors fetch what is in it, below the address
}

// Homes lists the homes of all kinds that are installed as folders.
func (l Layout) Homes() []Home {
	return []Home{{Theme, l.Themes, l.PublicThemes}, {Plugin, l.Plugins, l.PublicPlugins}}
}

// HomeAround returns the home that a path is below.
func (l Layout) HomeAround(at string) (Home, bool) {
	homes := l.Homes()
	i := slices.IndexFunc(homes, func(home Home) bool { return files.Below(at, home.Path) })
	if i < 0 {
		return Home{}, false
	}
	return homes[i], true
}

// ErrKind says that components of a kind are not installed as folders of their own.
var ErrKind = errors.New("nothing of that kind and name is installed, and only themes and plugins that are folders can be brought in anew")

// Folder returns the folder of a component of this kind and name, whether it is there or not.
// It returns an error that wraps ErrKind for a kind without a home.
func (l Layout) Folder(kind Kind, name string) (Place, error) {
	for _, home := range l.Homes() {
		if home.Kind == kind {
			return Place{Path: path.Join(home.Path, name), Public: path.Join("/", home.Public, name)}, nil
		}
	}
	return Place{}, fmt.Errorf("%s is a %q: %w", name, kind, ErrKind)
}

// Purpose says what a table is for: it decides what going back does with rows
// that changed meanwhile.
type Purpose string

// The purposes of tables.
const (
	Settings Purpose = "settings"         // written by people and by upgrades
	Visitors Purpose = "visitors' writes" // comments, orders, enquiries, pages
	Volatile Purpose = "volatile"         // sessions, queues, caches
	Unknown  Purpose = "unknown"
)

// Missing is a value of the CMS's settings that could not be read.
type Missing struct {
	Key string // the key in wetland.toml that can give it, such as "database.user"
	Why string
}

// Given holds what wetland.toml says in place of the CMS's own settings.
type Given struct {
	Host, Socket, Name, User, Password, File string
	Port                                     int
}

// Site is one site of a CMS, opened. Where a method takes a database, that may be nil: then nothing
// is known of what only the tables tell. Package cmstest holds a System and its sites against all of
// this.
type Site interface {
	// System names the CMS and its version, for people.
	System() string
	Layout() Layout
	// Database returns how to log in. What could not be read is listed, and is an
	// obstacle only if it is still missing after Given was applied.
	Database(given Given) (database.Login, []Missing)
	// Owns picks the site's tables from all tables of its database.
	Owns(tables []string) []string
	// Components lists what is installed; db may be nil, then nothing is known to
	// be active.
	Components(ctx context.Context, db database.Database) ([]Component, error)
	// ReadHeader reads the header of the component whose files a folder gives.
	// It returns ErrNoHeader where there is none.
	ReadHeader(tree Folder) (Header, error)
	// Address is where the CMS believes it is reached; "" if unknown. db may be nil.
	Address(ctx context.Context, db database.Database) string
	// PublicFiles names files that visitors can fetch, the most telling first:
	// their paths on disk and below the address.
	PublicFiles(ctx context.Context, components []Component) ([]PublicFile, error)
	// Purpose tells what a table is for.
	Purpose(table string) Purpose
	// RewrittenByItself tells of a row that the CMS writes without anybody's doing.
	RewrittenByItself(table database.Table, row database.Row) bool
	// Counted names columns of a table in which the CMS counts rows of others by itself.
	Counted(table string) []string
	// IsDesign tells of a row that holds how the site looks, in a table whose other rows are
	// authors' and visitors': a template, or styles, that are kept in SQL.
	IsDesign(table database.Table, row database.Row) bool
	// Title is what the CMS calls the site; "" if unknown. Whatever people typed can be in it.
	Title(ctx context.Context, db database.Database) string
	// FirstPages are paths to test even if nothing links to them.
	FirstPages() []string
	// Samples lists a page of each kind that the site's tables know; none if db is nil. One may
	// be there that visitors cannot see.
	Samples(ctx context.Context, db database.Database) ([]Sample, error)
	// UsedOn lists pages whose content holds what a plugin puts into pages.
	UsedOn(ctx context.Context, db database.Database, component Component) ([]Sample, error)
	// UpgradeVisits are paths whose visit lets the CMS run upgrades of its tables.
	UpgradeVisits() []string
	// Busy lists signs that the CMS is updating itself right now.
	Busy(ctx context.Context, db database.Database) []string
	// AutomaticUpdates lists what the CMS updates by itself.
	AutomaticUpdates(ctx context.Context, db database.Database) ([]Automatic, error)
	// Warnings lists what to know before this component is replaced.
	Warnings(ctx context.Context, db database.Database, component Component) []string
	// Obstacles lists reasons why this site cannot be updated with this version of
	// Wetland.
	Obstacles(ctx context.Context, db database.Database) []string
	// ErrorLogs are the files in which PHP may log its errors, absolute.
	ErrorLogs() []string
	// RebuildLinks has the CMS work out the addresses of its pages anew at the next visit. It
	// returns an error that wraps errors.ErrUnsupported where there is nothing to rebuild.
	RebuildLinks(ctx context.Context, db database.Database) error
	// ForgetCaches takes out of the tables what the CMS keeps there of themes and plugins for a
	// while, and makes anew by itself. It returns how many rows went.
	ForgetCaches(ctx context.Context, db database.Database) (int, error)
	// Notice is the file that makes the CMS show visitors a notice instead of pages, and
	// its text, of a form that expires by itself; "" if the CMS has none. The first
	// line of the text is the same each time: it tells ours from others'.
	Notice(now time.Time) (file, text string)
	// SettleTime is how long old code may go on answering after files changed.
	SettleTime() time.Duration
}

// Automatic is what a CMS updates by itself.
type Automatic struct {
	Kind   Kind
	Folder string // "": all of that kind
	Words  string
}

// Updates tells whether that is, or may be, a component.
func (a Automatic) Updates(kind Kind, folder string) bool {
	return a.Kind == kind && (a.Folder == "" || a.Folder == folder)
}

// PublicFile is a file that visitors can fetch.
type PublicFile struct{ Disk, Public string }

// Folder gives access to the files of one theme or plugin, wherever they are.
type Folder interface {
	// Names lists the files directly in the folder.
	Names() ([]string, error)
	// Open opens a file directly in the folder.
	Open(name string) (io.ReadCloser, error)
}

// ErrNoHeader says that a folder is neither theme nor plugin.
var ErrNoHeader = errors.New("it has no header of a theme or plugin, and is neither a language pack nor the CMS itself")

// A System recognises sites of one CMS.
type System interface {
	// Name is the word for it in wetland.toml.
	Name() string
	// Detect tells whether the folder holds such a site, with what speaks for it.
	Detect(ctx context.Context, disk *files.Roots, root string) (bool, string)
	// Own names the folder below the root that holds the CMS itself; "" if that is the root.
	Own(ctx context.Context, disk *files.Roots, root string) string
	// Open reads the site's settings, and reaches its folders. prefix begins the names of its
	// tables, where wetland.toml says so; "" is what the CMS's own settings say.
	Open(ctx context.Context, disk *files.Roots, root, prefix string) (Site, error)
}

// purposeIn tells what a table is for, by its name without the prefix.
func purposeIn(known *traits.Traits, table string) Purpose {
	for purpose, tables := range known.Tables {
		if slices.ContainsFunc(tables, func(pattern string) bool { is, _ := path.Match(pattern, table); return is }) {
			return Purpose(purpose)
		}
	}
	return Unknown
}

// isOwnSetting tells of a setting that the CMS writes without anybody's doing.
func isOwnSetting(known *traits.Traits, name string) bool {
	return slices.Contains(known.OwnSettings, name) || slices.ContainsFunc(known.OwnSettingsBegin, func(begin string) bool { return strings.HasPrefix(name, begin) })
}

// Systems lists the known CMSs.
func Systems() []System { return []System{WordPress{}, Rowlock{}} }

// Find returns the system of this name.
func Find(name string) (System, error) {
	for _, system := range Systems() {
		if system.Name() == name {
			return system, nil
		}
	}
	return nil, fmt.Errorf("no CMS is called %q here (known: %s)", name, strings.Join(traits.Collect(func(t traits.Traits) []string { return []string{t.Name} }), ", "))
}

// Detect returns the system whose site is at root, and what speaks for it.
func Detect(ctx context.Context, disk *files.Roots, root string) (System, string, error) {
	systems := Systems()
	found, why := make([]bool, len(systems)), make([]string, len(systems))
	_ = files.AtOnce(ctx, disk, len(systems), func(ctx context.Context, i int) error {
		found[i], why[i] = systems[i].Detect(ctx, disk, root)
		return nil
	})
	if i := slices.Index(found, true); i >= 0 {
		return systems[i], why[i], nil
	}
	none := traits.Collect(func(t traits.Traits) []string { return []string{fmt.Sprintf("no %s site (%s)", t.Title, t.Marker)} })
	return nil, "", fmt.Errorf("%s holds %s", root, strings.Join(none, " and "))
}

// Above returns the site's root where this folder only holds the CMS itself; "" if it is a root.
func Above(ctx context.Context, disk *files.Roots, folder string) string {
	above := path.Dir(folder)
	for _, system := range Systems() {
		if own := system.Own(ctx, disk, above); own != "" && path.Join(above, own) == folder {
			return above
		}
	}
	return ""
}

// nestedDepth is how many folders below a root other sites are looked for.
const nestedDepth = 2

// Nested finds other sites below root, as paths relative to it.
func Nested(ctx context.Context, disk *files.Roots, root string) []string {
	n := nested{disk: disk, root: root}
	for _, system := range Systems() {
		n.own = append(n.own, system.Own(ctx, disk, root))
	}
	return n.in(ctx, "", nestedDepth)
}

// nested are the sites below a root.
type nested struct {
	disk *files.Roots
	root string
	own  []string // folders of the root's own CMS
}

// in finds those below a folder, in the order of their paths. What is below a site is part of it.
func (n nested) in(ctx context.Context, at string, depth int) []string {
	entries, _ := n.disk.List(ctx, path.Join(n.root, at)) // what cannot be listed is told where it matters
	found := make([][]string, len(entries))
	_ = files.AtOnce(ctx, n.disk, len(entries), func(ctx context.Context, i int) error {
		below := path.Join(at, entries[i].Name)
		if entries[i].Kind != files.Folder || slices.Contains(n.own, below) {
			return nil
		}
		var deeper sync.WaitGroup
		if depth > 1 {
			deeper.Go(func() { found[i] = n.in(ctx, below, depth-1) })
		}
		_, _, err := Detect(ctx, n.disk, path.Join(n.root, below))
		deeper.Wait()
		if err == nil {
			found[i] = []string{below}
		}
		return nil
	})
	all := slices.Concat(found...)
	slices.Sort(all)
	return all
}

// diskFolder is a Folder of a disk.
type diskFolder struct {
	ctx  context.Context
	disk *files.Roots
	path string
}

func (d diskFolder) Names() ([]string, error) {
	entries, err := d.disk.List(d.ctx, d.path)
	var names []string
	for _, entry := range entries {
		if entry.Kind == files.File {
			names = append(names, entry.Name)
		}
	}
	return names, err
}

func (d diskFolder) Open(name string) (io.ReadCloser, error) {
	return d.disk.Open(d.ctx, path.Join(d.path, name), 0)
}

// leadsToFolder tells whether an entry is a link to a folder.
func leadsToFolder(ctx context.Context, disk *files.Roots, at string, entry files.Entry) bool {
	if entry.Kind != files.Link {
		return false
	}
	real, err := disk.Disk.Real(ctx, at)
	if err != nil {
		return false
	}
	target, err := disk.Disk.Open(ctx, real)
	if errors.Is(err, files.ErrOutside) {
		return true // it leads out of the site, where nothing is looked at
	}
	return err == nil && target.Close() == nil
}

// CheckFolder refuses names of components' folders that are hidden, or that command lines and
// the CMS read otherwise than as a name. Spaces inside are taken: some vendors have them.
func CheckFolder(name string) error {
	odd := func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) && !strings.ContainsRune("._-+ ", r)
	}
	switch {
	case name == "" || strings.ContainsRune(".-+ ", rune(name[0])) || strings.HasSuffix(name, " "):
		return fmt.Errorf("its folder is called %q: such a name is hidden, or is taken for an option. Names begin with a letter or a digit", name)
	case !utf8.ValidString(name) || strings.ContainsFunc(name, odd):
		return fmt.Errorf("its folder is called %q: only letters, digits, spaces and . _ - + can be in such a name", name)
	}
	return nil
}

// headerSize is how much of a file is searched for a header. WordPress reads
// 8 KiB: get_file_data() in wp-includes/functions.php.
const headerSize = 8 << 10

func readStart(folder Folder, name string, size int64) (string, error) {
	file, err := folder.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, size))
	return string(text), err
}

func readAll(ctx context.Context, disk *files.Roots, name string, limit int64) (string, error) {
	return readStart(diskFolder{ctx, disk, path.Dir(name)}, path.Base(name), limit)
}

// components lists the folders below themes and plugins that system can read.
func components(ctx context.Context, disk *files.Roots, layout Layout, read func(Folder) (Header, error)) ([]Component, error) {
	type place struct {
		home  Home
		entry files.Entry
	}
	homes := layout.Homes()
	inside := make([][]place, len(homes))
	err := files.AtOnce(ctx, disk, len(homes), func(ctx context.Context, i int) error {
		entries, err := disk.List(ctx, homes[i].Path)
		if err != nil {
			return fmt.Errorf("list the %ss: %w", homes[i].Kind, err)
		}
		for _, entry := range entries {
			if entry.Name[0] != '.' { // WordPress passes over them: get_plugins() in wp-admin/includes/plugin.php
				inside[i] = append(inside[i], place{homes[i], entry})
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	places := slices.Concat(inside...)
	found := make([]Component, len(places))
	err = files.AtOnce(ctx, disk, len(places), func(ctx context.Context, i int) error {
		home, entry := places[i].home, places[i].entry
		at := path.Join(home.Path, entry.Name)
		component := Component{Folder: entry.Name, Places: []Place{{Path: at, Public: path.Join("/", home.Public, entry.Name)}}}
		switch {
		case leadsToFolder(ctx, disk, at, entry):
			component.Problem = fmt.Sprintf("a link to %s, not followed", entry.Target)
		case entry.Kind != files.Folder:
			return nil
		default:
			var err error
			component.Header, err = read(diskFolder{ctx, disk, at})
			if component.Header.Kind == DropIn || component.Header.Kind == Language { // which are in no folder
				component.Header, err = Header{}, ErrNoHeader
			}
			if err != nil {
				component.Problem = err.Error()
			}
		}
		component.Kind = home.Kind
		found[i] = component
		return nil
	})
	return slices.DeleteFunc(found, func(c Component) bool { return c.Kind == "" }), err
}
