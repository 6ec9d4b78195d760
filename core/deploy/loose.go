package deploy

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"wetland/core/files"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

var ErrNoArea = errors.New("the site has no such part any more")

// ReadArea reads an area of a snapshot as it is on the site now. Of what is left out then or
// now nothing is read. It returns ErrNoArea where the site has none of this name.
func ReadArea(ctx context.Context, s *session.Session, area snapshot.Area, known *snapshot.Manifest) (cms.Area, files.Tree, error) {
	areas := s.Site.Areas()
	i := slices.IndexFunc(areas, func(a cms.Area) bool { return a.Name == area.Name })
	if i < 0 {
		return cms.Area{}, nil, fmt.Errorf("%q: %w", area.Name, ErrNoArea)
	}
	now := areas[i]
	now.LeaveOut = slices.Concat(now.LeaveOut, area.LeaveOut)
	tree, err := files.ReadTreeKnowing(ctx, s.Site.Files, area.Path, site.ScopeOf(now), known.KnownHashes(area.Name))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil // its whole folder is gone
	}
	return now, tree, err
}

// LooseChange is a path outside of the components that differs.
type LooseChange struct {
	Area snapshot.Area
	Path string
	Item *snapshot.Item // nil: to be removed
}

// PutLoose removes what is too much, innermost first, then writes the rest: folders, outermost
// first, then files, several at the same time; each file is replaced in one step.
func PutLoose(ctx context.Context, s *session.Session, loose []LooseChange) error {
	for _, change := range slices.Backward(loose) {
		at := path.Join(change.Area.Path, change.Path)
		entry, err := s.Site.Files.Lstat(ctx, at)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if change.Item == nil || (entry.Kind != change.Item.Kind && (entry.Kind == files.Folder || change.Item.Kind == files.Folder)) {
			if err := s.Site.Files.RemoveAll(ctx, at); err != nil {
				return err
			}
		}
	}
	put := func(ctx context.Context, change LooseChange) error {
		if err := putOne(ctx, s, path.Join(change.Area.Path, change.Path), *change.Item); err != nil {
			return fmt.Errorf("put back %s: %w", path.Join(change.Area.Path, change.Path), err)
		}
		s.Report.Advance(change.Item.Size)
		return nil
	}
	var others []LooseChange // than folders, which come before what is in them
	for _, change := range loose {
		switch {
		case change.Item == nil:
		case change.Item.Kind != files.Folder:
			others = append(others, change)
		default:
			if err := put(ctx, change); err != nil {
				return err
			}
		}
	}
	if err := files.AtOnce(ctx, s.Site.Files, len(others), func(ctx context.Context, i int) error { return put(ctx, others[i]) }); err != nil {
		return err
	}
	for _, change := range slices.Backward(loose) {
		if change.Item != nil && change.Item.Kind == files.Folder {
			if err := s.Site.Files.Settle(ctx, path.Join(change.Area.Path, change.Path), change.Item.Attributes()); err != nil {
				return err
			}
		}
	}
	return syncLoose(ctx, s, loose)
}

// syncLoose makes what was written and removed safe against loss of power: after the
// run has ended nobody would look any more.
func syncLoose(ctx context.Context, s *session.Session, loose []LooseChange) error {
	done := map[string]bool{}
	for _, change := range loose {
		above := path.Dir(path.Join(change.Area.Path, change.Path))
		if done[above] {
			continue
		}
		done[above] = true
		if err := s.Site.Files.SyncFolder(ctx, above); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func putOne(ctx context.Context, s *session.Session, at string, item snapshot.Item) error {
	fsys, undo := s.Site.Files, context.WithoutCancel(ctx)
	part := path.Join(path.Dir(at), ".wetland-"+strings.ToLower(rand.Text()[:10]))
	switch item.Kind {
	case files.Folder:
		// Writable by us until everything is in it; putLoose gives its own mode.
		with := item.Attributes()
		with.Mode |= 0o700
		if _, err := fsys.Lstat(ctx, at); err == nil {
			return fsys.Settle(ctx, at, with)
		}
		return fsys.Mkdir(ctx, at, with)
	case files.Link:
		if err := fsys.Symlink(ctx, item.Target, part, item.Attributes()); err != nil {
			return err
		}
	default:
		if err := files.WriteFile(ctx, fsys, part, item.Item, snapshot.Source(ctx, s.Store, []snapshot.Item{item})); err != nil {
			return errors.Join(err, fsys.Remove(undo, part))
		}
		if present, err := fsys.Lstat(ctx, at); err == nil && present.Kind == files.File {
			if err := fsys.CopyMarks(ctx, at, part); err != nil {
				return errors.Join(err, fsys.Remove(undo, part))
			}
		}
	}
	if err := fsys.Rename(ctx, part, at); err != nil {
		return errors.Join(err, fsys.Remove(undo, part))
	}
	return nil
}
