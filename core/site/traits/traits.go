// Package traits is what is known of each CMS beforehand, as one table of data: names, files, tables
// and the marks of its pages. What has to be worked out is code, in package cms. Begin reading at
// Traits; another CMS begins with a file here.
package traits

import "slices"

// Traits are those of one CMS. Each fact names where it is from, in the CMS's own code, beside it.
type Traits struct {
	Name     string // the word for it in wetland.toml
	Title    string // for people
	PHP      bool   // it runs on PHP
	Marker   string // a file of every site of its kind, below the folder of the CMS itself
	Settings string // the file with the site's own settings
	// Folders of components and uploads, below the folder of what the site's owner adds.
	Themes, Plugins, Uploads string
	// ThemeHeader is the file that says what a theme is, PluginHeader what a plugin is; "" where any
	// of its programs may.
	ThemeHeader, PluginHeader string
	// ChildsOwn are files of a child theme that do not stand in for its parent's.
	ChildsOwn []string
	// Volatile are paths below that folder that are never in a snapshot, nor put back.
	Volatile []string
	Cache    string // the folder of rendered pages, which may be emptied
	// LooseFiles are files of that folder that stand in for a part of the CMS.
	LooseFiles []string
	// Tables say what the site's tables are for, by their names without the prefix, which are
	// patterns of path.Match.
	Tables map[string][]string // by "settings", "visitors' writes", "volatile"
	// OwnSettings are rows of settings that the CMS writes without anybody's doing, and
	// OwnSettingsBegin are the beginnings of others.
	OwnSettings, OwnSettingsBegin []string
	// MadeAnew are those of them that the CMS makes of others, and that belong to a release of it.
	MadeAnew []string
	// Counted are columns in which the CMS counts rows of other tables, by table.
	Counted map[string][]string
	// DesignPosts are types of content that hold how the site looks.
	DesignPosts []string
	// FilesForAll are files of the CMS itself that every visitor can fetch.
	FilesForAll []string
	// FirstPages are files of the CMS itself that are pages, tested even if nothing links to them.
	FirstPages []string
	Pages      Pages
}

// Pages are the marks of a CMS's pages: they are looked for on every page, whichever CMS made it.
type Pages struct {
	// Errors are the forms in which it shows that it failed.
	Errors []Shape
	// Ornaments is a CSS selector of pictures that are as large as letters, and say nothing.
	Ornaments string
	// Known is a CSS selector of what tells its pages from others'; Search is the query that
	// it searches by even where no form is shown.
	Known, Search string
	// Actions are parts of addresses whose visit does something, or needs a session.
	Actions []string
	// Sitemaps are the addresses of its own.
	Sitemaps []string
}

// Shape is a form of text.
type Shape struct {
	Key     string // in small letters, in every match: looking for it is quick
	Pattern string // a regular expression
}

// Known are the traits of every CMS, in the order in which sites are recognised.
func Known() []Traits { return []Traits{WordPress, Rowlock} }

// Collect gathers what one part of all traits lists.
func Collect[T any](part func(Traits) []T) (all []T) {
	for _, one := range Known() {
		all = append(all, part(one)...)
	}
	return all
}

// Of are the traits of the CMS with this name in wetland.toml; of none they are empty.
func Of(name string) Traits {
	i := slices.IndexFunc(Known(), func(t Traits) bool { return t.Name == name })
	if i < 0 {
		return Traits{}
	}
	return Known()[i]
}
