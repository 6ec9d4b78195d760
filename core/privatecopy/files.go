package privatecopy

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"sync"

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
	// one duplicates at a time: file systems make names one after the other, and several that wait for it only
	// take processors from the database, which is being made meanwhile.
	one sync.Mutex
}

func (p *putting) all(ctx context.Context) error {
	if err := files.MakeAll(ctx, p.here, path.Dir(p.at), forAll); err != nil {
		return err
	}
	tree := p.area.Tree()
	p.disown(tree)
	levels, err := p.makeFolders(ctx, tree)
	if err != nil {
		return err
	}
	source := snapshot.Source(ctx, p.Store, p.area.Items)
	err = files.AtOnce(ctx, p.here, len(tree), func(ctx context.Context, i int) error {
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
	return p.settle(ctx, levels)
}

// disown has those own what is written who can, where its owners cannot be given.
func (p *putting) disown(tree files.Tree) {
	can := map[[2]int]bool{}
	for i := range tree {
		owners := [2]int{tree[i].Owner, tree[i].Group}
		if _, known := can[owners]; !known {
			can[owners] = p.here.CanOwn(owners[0], owners[1])
		}
		if !can[owners] {
			tree[i].Owner, tree[i].Group = files.Unowned, files.Unowned
		}
	}
}

// makeFolders makes the folders of a tree, by level, and returns those that it made: another area may have begun
// some of them.
func (p *putting) makeFolders(ctx context.Context, tree files.Tree) (levels []files.Tree, err error) {
	for _, folders := range files.ByLevel(tree) {
		made := make([]bool, len(folders))
		err := files.AtOnce(ctx, p.here, len(folders), func(ctx context.Context, i int) error {
			if _, err := p.here.Lstat(ctx, path.Join(p.at, folders[i].Path)); err == nil {
				return nil
			}
			made[i] = true
			return files.WriteItem(ctx, p.here, p.at, folders[i], nil)
		})
		if err != nil {
			return nil, err
		}
		var own files.Tree
		for i, is := range made {
			if is {
				own = append(own, folders[i])
			}
		}
		levels = append(levels, own)
	}
	return levels, nil
}

// settle gives folders their own modes and times, once all that belongs in them is there.
func (p *putting) settle(ctx context.Context, levels []files.Tree) error {
	for _, folders := range slices.Backward(levels) {
		err := files.AtOnce(ctx, p.here, len(folders), func(ctx context.Context, i int) error {
			return p.here.Settle(ctx, path.Join(p.at, folders[i].Path), folders[i].Attributes())
		})
		if err != nil {
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
	p.one.Lock()
	defer p.one.Unlock()
	if !same() || files.Duplicate(ctx, p.Site.Files, live, p.here, at, item.Attributes()) != nil {
		return false
	}
	return same() || p.here.Remove(ctx, at) != nil // which the writing of it will tell
}
