package privatecopy

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"wetland/core/files"
	"wetland/core/snapshot"
)

// putFiles writes the snapshot's files to their own places in the world. A file that is on the site just as in
// the snapshot is duplicated there, which some disks do without copying a byte; all others come from the
// store, and are proved while they are written.
func (b *bringing) putFiles(ctx context.Context) (err error) {
	here, err := files.NewRoots(ctx, b.On, b.top)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, here.Close()) }()
	for _, area := range b.Snapshot.Areas {
		to := putting{bringing: b, here: here, area: area, at: path.Join(b.top, path.Clean("/"+area.Path)), known: b.Snapshot.KnownHashes(area.Name)}
		if err := to.all(ctx); err != nil {
			return fmt.Errorf("write the files of %s to the copy: %w", b.Snapshot.Name, err)
		}
	}
	return nil
}

// putting is one area that is being written.
type putting struct {
	*bringing
	here  *files.Roots
	area  snapshot.Area
	at    string // where it goes
	known func(at string, entry files.Entry) (hash string)
}

func (p *putting) all(ctx context.Context) error {
	if err := files.MakeAll(ctx, p.here, path.Dir(p.at), forAll); err != nil {
		return err
	}
	tree := p.area.Tree()
	var folders []files.Item
	for i := range tree {
		if !p.here.CanOwn(tree[i].Owner, tree[i].Group) {
			tree[i].Owner, tree[i].Group = files.Unowned, files.Unowned
		}
		if tree[i].Kind != files.Folder {
			continue
		}
		if _, err := p.here.Lstat(ctx, path.Join(p.at, tree[i].Path)); err == nil { // another area began it
			continue
		}
		if err := files.WriteItem(ctx, p.here, p.at, tree[i], nil); err != nil { // what is in it comes later in the list
			return err
		}
		folders = append(folders, tree[i])
	}
	source := snapshot.Source(ctx, p.Store, p.area.Items)
	err := files.AtOnce(ctx, p.here, len(tree), func(ctx context.Context, i int) error {
		if tree[i].Kind == files.Folder {
			return nil
		}
		p.Report.Advance(tree[i].Size)
		if p.duplicated(ctx, tree[i]) {
			return nil
		}
		return files.WriteItem(ctx, p.here, p.at, tree[i], source)
	})
	if err != nil {
		return err
	}
	slices.SortStableFunc(folders, func(a, b files.Item) int { return strings.Count(b.Path, "/") - strings.Count(a.Path, "/") })
	for _, folder := range folders {
		if err := p.here.Settle(ctx, path.Join(p.at, folder.Path), folder.Attributes()); err != nil {
			return err
		}
	}
	return nil
}

// duplicated makes a file out of the site's own, if that is as in the snapshot before and after.
func (p *putting) duplicated(ctx context.Context, item files.Item) bool {
	if p.Site == nil || p.Site.Host.Name() != p.On.Name() || item.Kind != files.File {
		return false
	}
	live, at := path.Join(p.area.Path, item.Path), path.Join(p.at, item.Path)
	same := func() bool {
		entry, err := p.Site.Files.Lstat(ctx, live)
		return err == nil && item.Hash != "" && p.known(item.Path, entry) == item.Hash
	}
	if !same() || files.Duplicate(ctx, p.Site.Files, live, p.here, at, item.Attributes()) != nil {
		return false
	}
	return same() || p.here.Remove(ctx, at) != nil // which the writing of it will tell
}
