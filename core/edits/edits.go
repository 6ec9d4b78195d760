// Package edits finds what people changed by hand in an installed theme or plugin, by its original,
// and keeps it as a patch. Begin reading at HandEdits.
package edits

import (
	"context"

	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
)

// Edits are the paths in which an installed component differs from its original.
type Edits struct {
	Against string   `json:"against"` // what the original is
	Added   []string `json:"added"`
	Changed []string `json:"changed"`
	Removed []string `json:"removed"`
}

// None tells whether nothing was edited.
func (e *Edits) None() bool { return len(e.Added)+len(e.Changed)+len(e.Removed) == 0 }

// All lists the edited paths.
func (e *Edits) All() []string {
	all := append([]string(nil), e.Changed...)
	return append(append(all, e.Added...), e.Removed...)
}

// HandEdits compares an installed component with its original: the vendor's
// package of this version on the shelf, or what a run installed. It returns nil
// when no original is at hand: then nobody can know. present is what is installed, if that was read
// just now; nil: it is read here.
func HandEdits(ctx context.Context, s *site.Site, c cms.Component, present files.Tree, shelf []packages.Entry) (*Edits, error) {
	stand, known := c.Stand()
	if !known {
		return nil, nil // no package is the original of such a one
	}
	entry, onShelf := OriginalOnShelf(c, shelf)
	installed, err := runs.InstalledTree(s.Workspace, c.Kind, c.Folder, c.Version)
	if err != nil || (!onShelf && installed == nil) {
		return nil, err
	}
	if present == nil {
		if present, err = stand.Read(ctx, s.Files); err != nil {
			return nil, err
		}
	}
	edits := &Edits{Against: "what was installed by an update"}
	if onShelf {
		edits.Against = entry.Title() + " on the shelf"
		if packages.ContentOf(present) == entry.Content {
			return edits, nil // told without unpacking the archive
		}
		p, err := packages.Open(ctx, entry.File, s.CMS.ReadHeader)
		if err != nil {
			return nil, err
		}
		installed = stand.Only(p.Tree)
		if err := p.Close(); err != nil {
			return nil, err
		}
	}
	edits.Added, edits.Changed, edits.Removed = SplitDifferences(installed, present)
	return edits, nil
}

// SplitDifferences sorts the differences in content from one tree to another.
func SplitDifferences(before, now files.Tree) (added, changed, removed []string) {
	for _, differ := range files.Content.Compare(before, now) {
		switch differ.Side {
		case files.OnlyBefore:
			removed = append(removed, differ.Path)
		case files.OnlyNow:
			added = append(added, differ.Path)
		default:
			changed = append(changed, differ.Path)
		}
	}
	return added, changed, removed
}

// OriginalOnShelf finds the vendor's package of the installed version. What was
// read off the site itself is no original.
func OriginalOnShelf(c cms.Component, shelf []packages.Entry) (packages.Entry, bool) {
	for _, entry := range shelf {
		if entry.Kind == c.Kind && entry.Folder == c.Folder && entry.Version == c.Version && !entry.FromSite {
			return entry, true
		}
	}
	return packages.Entry{}, false
}

// OfInstalled finds the edits by hand of an installed component, as HandEdits does, with what is on the
// shelf.
func OfInstalled(ctx context.Context, s *session.Session, installed cms.Component, present files.Tree) (*Edits, error) {
	shelf, err := s.Shelf().List()
	if err != nil {
		return nil, err
	}
	return HandEdits(ctx, s.Site, installed, present, shelf)
}
