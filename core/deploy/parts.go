package deploy

import (
	"context"
	"crypto/rand"
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

// IsCore tells of a change that replaces the CMS itself.
func (c *Change) IsCore() bool { return c.Target.Kind == cms.Core }

// inParts tells of a change that replaces names in a folder that holds other things, too.
func (c *Change) inParts() bool { return len(c.Target.Parts) > 0 }

// standAt is what a change replaces, if it were at a place.
func (c *Change) standAt(at string) cms.Stand { return cms.Stand{Folder: at, Parts: c.Target.Parts} }

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
func (c *Change) brings() files.Tree { return c.standAt(c.Live).Only(c.Pkg.Tree) }

// around puts a private folder around parts that wait.
func (c *Change) around(tree files.Tree) files.Tree {
	if !c.inParts() {
		return tree
	}
	return append(files.Tree{{Path: ".", Kind: files.Folder, Mode: 0o700, Owner: files.Unowned, Group: files.Unowned}}, tree...)
}

// asPackage is a tree as a package has it.
func (c *Change) asPackage(tree files.Tree) files.Tree {
	tree = slices.Clone(c.around(tree))
	if c.inParts() {
		tree[0].Mode = 0o755
	}
	return tree
}

// treeAt reads what of a change is at a place. Parts that are not there are none of the tree.
func (c *Change) treeAt(ctx context.Context, s *session.Session, at string) (files.Tree, error) {
	return c.standAt(at).Read(ctx, s.Site.Files)
}

func (c *Change) markLike(ctx context.Context, s *session.Session, staged string, tree files.Tree) error {
	scope, err := c.standAt(c.Live).Scope(ctx, s.Site.Files)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return markLike(ctx, s, staged, tree, c.Live, scope)
}

// TreeIn is what a snapshot has of a change.
func (c *Change) TreeIn(from *snapshot.Manifest) (files.Tree, error) {
	if !c.inParts() {
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
	if !c.inParts() {
		return from.AreaOf(c.Live)
	}
	area, part, err := from.AreaOf(c.Places()[0])
	return area, path.Dir(part), err
}

// part returns what of a tree is one part.
func part(tree files.Tree, name string) files.Tree {
	return slices.DeleteFunc(slices.Clone(tree), func(item files.Item) bool { return item.Path != name && !strings.HasPrefix(item.Path, name+"/") })
}

// exchangePart puts one part in place as in a tree, unless it is so, by the way given. from makes what waits nowhere; nil:
// it waits for certain.
func (c *Change) exchangePart(ctx context.Context, s *session.Session, name string, want files.Tree, from func() (string, error), swap func(ctx context.Context, s *session.Session, live, staged string) (files.Swapped, error)) (done files.Swapped, err error) {
	live, wanted := path.Join(c.Live, name), part(want, name)
	if c.partIs(ctx, s, c.Live, name, wanted) {
		return done, nil
	}
	if len(wanted) == 0 {
		return done, s.Site.Files.Rename(ctx, live, c.Staged+".gone-"+strings.ToLower(rand.Text()[:8])+"-"+name)
	}
	at, err := c.findPart(ctx, s, name, wanted, from)
	if err != nil {
		return done, err
	}
	return swap(ctx, s, live, at)
}

// Put puts what is staged in place: a folder in one step, or parts one right after the other. Where a gap is allowed, also
// by two renames.
func (c *Change) Put(ctx context.Context, s *session.Session, allowGap bool) (files.Swapped, error) {
	if !c.inParts() {
		return Swap(ctx, s, c.Live, c.Staged, allowGap)
	}
	return c.putAll(ctx, s, c.NewTree, nil, allowGap)
}

// putAll puts all parts in place as in a tree.
func (c *Change) putAll(ctx context.Context, s *session.Session, want files.Tree, from func() (string, error), allowGap bool) (all files.Swapped, err error) {
	for _, name := range c.Target.Parts {
		done, err := c.exchangePart(ctx, s, name, want, from, func(ctx context.Context, s *session.Session, live, staged string) (files.Swapped, error) {
			return Swap(ctx, s, live, staged, allowGap)
		})
		if err != nil {
			return all, err
		}
		if all.Gap = max(all.Gap, done.Gap); done.How != "" {
			all.How = done.How
		}
	}
	return all, nil
}
