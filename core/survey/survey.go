// Package survey tells what is installed on a site and what about it deserves a
// look before anything is updated. It changes nothing.
package survey

import (
	"context"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/edits"
	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/runs"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/site/traits"
	"wetland/core/version"
	"wetland/core/workspace"
)

// Survey is what is there.
type Survey struct {
	System     string      `json:"system"`
	Root       string      `json:"root"`
	Address    string      `json:"address"`
	Components []Component `json:"components"`
	Automatic  []string    `json:"automatic_updates"` // what the CMS updates by itself
	Leftovers  []Leftover  `json:"leftovers"`
	Nested     []string    `json:"nested_sites"` // other sites below the root: no part of this one
	Missing    []string    `json:"missing"`      // plugins that something installed requires, in words
	Unknown    []string    `json:"unknown"`      // what could not be found out, and why
}

// NeedsAttention tells whether something in it is no mere information.
func (s *Survey) NeedsAttention() bool {
	return len(s.Leftovers)+len(s.Missing)+len(s.Unknown) > 0 || slices.ContainsFunc(s.Components, func(c Component) bool {
		return c.Changed != "" || c.Problem != "" || c.Edits != nil && !c.Edits.None()
	})
}

// Component is one installed thing.
type Component struct {
	cms.Component
	// StateUnknown says that nobody could be asked whether it is active.
	StateUnknown bool             `json:"state_unknown,omitempty"`
	Newer        string           `json:"newer,omitempty"`    // the newest version on the shelf, if it is newer
	Distance     version.Distance `json:"distance,omitempty"` // to that
	Edits        *edits.Edits     `json:"edits,omitempty"`    // nil: the original is not at hand
	Changed      string           `json:"changed,omitempty"`  // since the last run, by somebody else
	// RequiredBy are the folders of the themes and plugins that need this plugin.
	RequiredBy []string `json:"required_by,omitempty"`
}

// Leftover is something from earlier work by hand.
type Leftover struct {
	Path   string `json:"path"`
	What   string `json:"what"`
	Public bool   `json:"public"` // everybody can fetch it: a danger
}

// Take surveys the workspace's site. A database that cannot be reached leaves
// what it would tell unknown.
func Take(ctx context.Context, w *workspace.Workspace) (*Survey, error) {
	opened, err := site.Open(ctx, w)
	if err != nil {
		return nil, err
	}
	defer opened.Close()
	s := &Survey{System: opened.CMS.System(), Root: opened.Root, Address: opened.Address.String()}
	db, err := opened.OpenDatabase(ctx)
	if err != nil {
		s.Unknown = append(s.Unknown, fmt.Sprintf("what is active, and which updates are automatic: %v", err))
	} else {
		defer db.Close()
	}
	automatic, err := opened.CMS.AutomaticUpdates(ctx, db)
	if err != nil {
		s.Unknown = append(s.Unknown, fmt.Sprintf("which updates are automatic: %v", err))
	}
	for _, one := range automatic {
		s.Automatic = append(s.Automatic, one.Words)
	}
	if err := s.components(ctx, opened, db); err != nil {
		return nil, err
	}
	if s.Leftovers, err = findLeftovers(ctx, opened); err != nil {
		return nil, err
	}
	s.Nested = opened.Nested()
	return s, nil
}

// Diff returns the hand edits of an installed theme or plugin as a unified diff.
// It wraps update.ErrNoOriginal when the original is not on the shelf.
func Diff(ctx context.Context, w *workspace.Workspace, folder string) (string, error) {
	opened, err := site.Open(ctx, w)
	if err != nil {
		return "", err
	}
	defer opened.Close()
	installed, err := opened.CMS.Components(ctx, nil)
	if err != nil {
		return "", err
	}
	shelf, err := packages.Shelf{Dir: w.Shelf()}.List()
	if err != nil {
		return "", err
	}
	for _, c := range installed {
		if _, known := c.Stand(); known && c.Folder == folder {
			return edits.EditsPatch(ctx, opened, c, shelf)
		}
	}
	return "", fmt.Errorf("nothing that is called %s is installed", folder)
}

func (s *Survey) components(ctx context.Context, opened *site.Site, db database.Database) error {
	installed, err := opened.CMS.Components(ctx, db)
	if err != nil {
		return err
	}
	shelf, err := packages.Shelf{Dir: opened.Workspace.Shelf()}.List()
	if err != nil {
		s.Unknown = append(s.Unknown, fmt.Sprintf("what the shelf offers: %v", err))
	}
	for _, one := range installed {
		if err := ctx.Err(); err != nil {
			return err
		}
		c := Component{Component: one, StateUnknown: db == nil}
		c.offer(shelf)
		if _, known := c.Stand(); known {
			if c.Edits, err = edits.HandEdits(ctx, opened, one, nil, shelf); err != nil {
				s.Unknown = append(s.Unknown, fmt.Sprintf("whether %s was edited: %v", c.Folder, err))
			}
			c.sinceLastRun(opened.Workspace)
		}
		s.Components = append(s.Components, c)
	}
	s.companions()
	return nil
}

// companions notes which plugins are required by what, and which of them are missing.
func (s *Survey) companions() {
	for _, c := range s.Components {
		for _, folder := range c.RequiresPlugins {
			is := func(c Component) bool { return c.Kind == cms.Plugin && c.Folder == folder }
			if i := slices.IndexFunc(s.Components, is); i >= 0 {
				s.Components[i].RequiredBy = append(s.Components[i].RequiredBy, c.Folder)
			} else {
				s.Missing = append(s.Missing, fmt.Sprintf("the plugin %s, which %s requires, is not installed", folder, c.Folder))
			}
		}
	}
}

// offer finds the newest version on the shelf.
func (c *Component) offer(shelf []packages.Entry) {
	for _, entry := range shelf {
		if entry.Kind != c.Kind || entry.Folder != c.Folder || version.Compare(entry.Version, c.Version) <= 0 {
			continue
		}
		if c.Newer == "" || version.Compare(entry.Version, c.Newer) > 0 {
			c.Newer, c.Distance = entry.Version, c.Kind.Distance(c.Version, entry.Version)
		}
	}
}

// sinceLastRun notes a version that is not the one which the last run left.
func (c *Component) sinceLastRun(w *workspace.Workspace) {
	last, by, err := runs.LastVersion(w, c.Kind, c.Folder)
	if err == nil && last != "" && version.Compare(last, c.Version) != 0 {
		c.Changed = fmt.Sprintf("%s left version %s, now it is %s: somebody else changed it", by, last, c.Version)
	}
}

// Names that people give to what they mean to throw away later.
var (
	asideName = regexp.MustCompile(`(?i)(^_|[-_. ](old|bak|backup|copy|orig|original|new|save|saved|disabled|off|\d{6,8})\d*$|\(\d+\)$|~$)`)
	// A folder of this very name, too, holds copies.
	asideFolder = regexp.MustCompile(`(?i)^(old|bak|backups?|copy|copies|orig|saved?)[-_. ]?\d*$`)
	dumpName    = regexp.MustCompile(`(?i)\.(sql|sql\.gz|sql\.zip|sql\.bz2|sql\.zst|dump)$`)
	archiveExt  = regexp.MustCompile(`(?i)\.(zip|tar|tgz|tar\.gz|tar\.bz2|tar\.zst|7z|rar|gz)$`)
	settingExt  = regexp.MustCompile(`(?i)^(` + strings.Join(settingsFiles(true), "|") + `)\b.*\.(bak|old|orig|save|txt|swp|copy)$|^(` + strings.Join(settingsFiles(false), "|") + `)[.~_-].+$`)
	scriptName  = regexp.MustCompile(`(?i)^(restore|installer|unzip|backup|dump|migrate|phpinfo|info|test)[-_a-z0-9]*\.php$`)
)

// settingsFiles are patterns of the files that hold a site's settings, with their endings or without.
func settingsFiles(withoutEnding bool) []string {
	return traits.Collect(func(t traits.Traits) []string {
		name := t.Settings
		if withoutEnding {
			name = strings.TrimSuffix(name, path.Ext(name))
		}
		return []string{regexp.QuoteMeta(name)}
	})
}

// findLeftovers looks in the folders where earlier work by hand leaves things.
func findLeftovers(ctx context.Context, opened *site.Site) ([]Leftover, error) {
	var found []Leftover
	layout := opened.CMS.Layout()
	for _, home := range layout.Homes() {
		entries, err := opened.Files.List(ctx, home.Path)
		if err != nil {
			return nil, err
		}
		for _, entry := range entries {
			at := path.Join(home.Path, entry.Name)
			switch {
			case entry.Kind == files.Folder && asideName.MatchString(entry.Name):
				found = append(found, Leftover{Path: at, What: "looks like a copy put aside by hand. The CMS still lists it, and its code can still be called", Public: true})
			case entry.Kind == files.File && (archiveExt.MatchString(entry.Name) || dumpName.MatchString(entry.Name)):
				found = append(found, Leftover{Path: at, What: "an archive: everybody can fetch it", Public: true})
			}
		}
	}
	for _, folder := range slices.Compact([]string{opened.Root, path.Dir(layout.Themes)}) {
		entries, err := opened.Files.List(ctx, folder)
		if err != nil {
			return nil, err
		}
		for _, entry := range entries {
			what := publicDanger(entry)
			if what == "" && entry.Kind == files.File && path.Ext(entry.Name) == ".php" && databaseTool(ctx, opened.Files, path.Join(folder, entry.Name)) {
				what = "a tool for the whole database in one file: everybody can try passwords on it"
			}
			if what != "" {
				found = append(found, Leftover{Path: path.Join(folder, entry.Name), What: what, Public: true})
			}
		}
	}
	return found, nil
}

// mostOfTool is how much of a script is read to tell what it is for.
const mostOfTool = 1 << 20

var (
	logsIn     = regexp.MustCompile(`(?i)mysqli|mysql_connect|new\s+\\?PDO\b|pg_connect`)
	listsAll   = regexp.MustCompile(`(?i)show\s+(full\s+)?tables|show\s+databases|information_schema`)
	asksSecret = regexp.MustCompile(`(?i)type=.?["']?password|password`)
	sendsForm  = regexp.MustCompile(`(?i)<form|<input`)
)

// databaseTool tells of a script that asks for a database's password, logs in and lists its
// tables: it is no part of a CMS.
func databaseTool(ctx context.Context, fsys files.FS, name string) bool {
	file, err := fsys.Open(ctx, name, 0)
	if err != nil {
		return false
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, mostOfTool))
	return err == nil && logsIn.Match(text) && listsAll.Match(text) && asksSecret.Match(text) && sendsForm.Match(text)
}

// publicDanger says why a file in a public folder is a danger, or "".
func publicDanger(entry files.Entry) string {
	switch {
	case entry.Kind == files.Folder && asideFolder.MatchString(entry.Name):
		return "a folder of copies: everybody can fetch and run what is in it"
	case entry.Kind == files.Folder && asideName.MatchString(entry.Name) && !strings.HasPrefix(entry.Name, "_"):
		return "looks like a copy put aside by hand: everybody can fetch what is in it"
	case entry.Kind != files.File:
		return ""
	case dumpName.MatchString(entry.Name):
		return "a database dump: everybody can fetch your visitors' data"
	case settingExt.MatchString(entry.Name):
		return "a copy of the settings: everybody can fetch the database's password"
	case archiveExt.MatchString(entry.Name):
		return "an archive: everybody can fetch it"
	case scriptName.MatchString(entry.Name):
		return "a script for restoring or testing: everybody can run it"
	}
	return ""
}
