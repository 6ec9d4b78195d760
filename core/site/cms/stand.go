package cms

import (
	"context"
	"path"
	"slices"

	"wetland/core/files"
)

// Stand is where a component is installed.
type Stand struct {
	// Folder is absolute: it is all the component's, or, where there are parts, that in which these are.
	Folder string
	Parts  []string // names directly in it; none: the folder is all the component's
}

// Stand returns where a component is installed. False: in several folders, or, of the CMS itself, it takes a release of it
// to tell.
func (c Component) Stand() (Stand, bool) {
	if whole, ok := c.OneFolder(); ok {
		return Stand{Folder: whole.Path}, true
	}
	if c.Kind == Core || len(c.Places) == 0 {
		return Stand{}, false
	}
	stand := Stand{Folder: path.Dir(c.Places[0].Path)}
	for _, place := range c.Places {
		if path.Dir(place.Path) != stand.Folder {
			return Stand{}, false
		}
		stand.Parts = append(stand.Parts, path.Base(place.Path))
	}
	return stand, true
}

// Only returns what of a tree belongs there.
func (s Stand) Only(tree files.Tree) files.Tree {
	if len(s.Parts) == 0 {
		return tree
	}
	return Only(tree, s.Parts)
}

// Scope leaves out what else is in the folder now.
func (s Stand) Scope(ctx context.Context, disk files.FS) (scope files.Scope, err error) {
	if len(s.Parts) == 0 {
		return scope, nil
	}
	entries, err := disk.List(ctx, s.Folder)
	for _, entry := range entries {
		if !slices.Contains(s.Parts, entry.Name) {
			scope.LeaveOut = append(scope.LeaveOut, entry.Name)
		}
	}
	return scope, err
}

// Read reads what is there. Parts that are not there are none of the tree; nor is the folder around them.
func (s Stand) Read(ctx context.Context, disk files.FS) (files.Tree, error) {
	scope, err := s.Scope(ctx, disk)
	if err != nil {
		return nil, err
	}
	tree, err := files.ReadTree(ctx, disk, s.Folder, scope)
	return s.Only(tree), err // something else may have come into the folder meanwhile
}
