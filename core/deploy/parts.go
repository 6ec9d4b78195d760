package deploy

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"wetland/core/files"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// IsCore tells of a change that replaces the CMS itself: not a folder, but parts of the site's root.
func (c *Change) IsCore() bool { return len(c.Target.Parts) > 0 }

// Places lists what the change replaces, absolute.
func (c *Change) Places() (all []string) {
	for _, part := range c.Target.Parts {
		all = append(all, path.Join(c.Live, part))
	}
	if len(all) == 0 {
		return []string{c.Live}
	}
	return all
}

// Places lists what several changes replace, absolute.
func Places(group []*Change) (all []string) {
	for _, c := range group {
		all = append(all, c.Places()...)
	}
	return all
}

// brings is what of the package takes the place of what is there.
func (c *Change) brings() files.Tree {
	if !c.IsCore() {
		return c.Pkg.Tree
	}
	return cms.Only(c.Pkg.Tree, c.Target.Parts)
}

// around puts a private folder around parts that wait.
func (c *Change) around(tree files.Tree) files.Tree {
	if !c.IsCore() {
		return tree
	}
	return append(files.Tree{{Path: ".", Kind: files.Folder, Mode: 0o700, Owner: files.Unowned, Group: files.Unowned}}, tree...)
}

// asPackage is a tree as a package has it.
func (c *Change) asPackage(tree files.Tree) files.Tree {
	tree = slices.Clone(c.around(tree))
	if c.IsCore() {
		tree[0].Mode = 0o755
	}
	return tree
}

// scope says what of a folder is the change's.
func (c *Change) scope(ctx context.Context, s *session.Session, at string) (files.Scope, error) {
	if !c.IsCore() {
		return files.Scope{}, nil
	}
	entries, err := s.Site.Files.List(ctx, at)
	var scope files.Scope
	for _, entry := range entries {
		if !slices.Contains(c.Target.Parts, entry.Name) {
			scope.LeaveOut = append(scope.LeaveOut, entry.Name)
		}
	}
	return scope, err
}

// treeAt reads what of a change is at a place. Parts that are not there are none of the tree.
func (c *Change) treeAt(ctx context.Context, s *session.Session, at string) (files.Tree, error) {
	scope, err := c.scope(ctx, s, at)
	if err != nil {
		return nil, err
	}
	tree, err := files.ReadTree(ctx, s.Site.Files, at, scope)
	if c.IsCore() {
		tree = slices.DeleteFunc(tree, func(item files.Item) bool { return item.Path == "." })
	}
	return tree, err
}

func (c *Change) markLike(ctx context.Context, s *session.Session, staged string, tree files.Tree) error {
	scope, err := c.scope(ctx, s, c.Live)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return markLike(ctx, s, staged, tree, c.Live, scope)
}

// TreeIn is what a snapshot has of a change.
func (c *Change) TreeIn(from *snapshot.Manifest) (files.Tree, error) {
	if !c.IsCore() {
		return from.TreeAt(c.Live)
	}
	area, below, err := c.areaIn(from)
	if err != nil {
		return nil, err
	}
	tree := area.Tree()
	if below != "." {
		tree = tree.Below(below)
	}
	return cms.Only(tree, c.Target.Parts), nil
}

// itemsIn are a snapshot's items below the place of a change, with their paths below it.
func (c *Change) itemsIn(from *snapshot.Manifest) ([]snapshot.Item, error) {
	area, below, err := c.areaIn(from)
	if err != nil || below == "." {
		return area.Items, err
	}
	return area.ItemsBelow(below), nil
}

// areaIn finds the part of the site that the place of a change is in, and where in it.
func (c *Change) areaIn(from *snapshot.Manifest) (snapshot.Area, string, error) {
	if !c.IsCore() {
		return from.AreaOf(c.Live)
	}
	area, part, err := from.AreaOf(c.Places()[0])
	return area, path.Dir(part), err
}

// part returns what of a tree is one part.
func part(tree files.Tree, name string) files.Tree {
	return slices.DeleteFunc(slices.Clone(tree), func(item files.Item) bool { return item.Path != name && !strings.HasPrefix(item.Path, name+"/") })
}
