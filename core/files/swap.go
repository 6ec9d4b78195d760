package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"time"
)

// Source opens the bytes of a tree's files by their path.
type Source func(item Item) (io.ReadCloser, error)

// WriteTree makes the tree at the new folder top and proves, while writing, that
// every file got the bytes that the tree promises. All of it is safe on disk when
// WriteTree returns nil; on an error the half-written tree is left for RemoveAll.
func WriteTree(ctx context.Context, place Place, top string, tree Tree, source Source, wrote func(bytes int64)) error {
	for _, item := range tree {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := writeItem(place, path.Join(top, item.Path), item, source); err != nil {
			return fmt.Errorf("write %s: %w", path.Join(top, item.Path), err)
		}
		if wrote != nil {
			wrote(item.Size)
		}
	}
	return finishFolders(place, top, tree)
}

func writeItem(place Place, name string, item Item, source Source) error {
	switch item.Kind {
	case Folder:
		// Writable by us until everything is in it; finishFolders gives its own mode.
		with := item.Attributes()
		with.Mode |= 0o700
		return place.Mkdir(name, with)
	case Link:
		return place.Symlink(item.Target, name, item.Attributes())
	case File:
		return WriteFile(place, name, item, source)
	}
	return fmt.Errorf("cannot make a %s", item.Kind)
}

// WriteFile makes one new file with the item's attributes and proves its bytes.
func WriteFile(place Place, name string, item Item, source Source) error {
	from, err := source(item)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := place.Create(name, item.Attributes())
	if err != nil {
		return err
	}
	hash, _, err := Hash(io.TeeReader(from, to))
	if err := errors.Join(err, to.Close()); err != nil {
		return err
	}
	if item.Hash != "" && hash != item.Hash {
		return fmt.Errorf("its bytes are not the expected ones (hash %.12s, expected %.12s)", hash, item.Hash)
	}
	return nil
}

// finishFolders gives every folder its own mode and time, innermost first, and
// makes its names safe.
func finishFolders(place Place, top string, tree Tree) error {
	for i := len(tree) - 1; i >= 0; i-- {
		if tree[i].Kind != Folder {
			continue
		}
		name := path.Join(top, tree[i].Path)
		if err := place.SyncFolder(name); err != nil {
			return err
		}
		if err := place.Settle(name, tree[i].Attributes()); err != nil {
			return err
		}
	}
	return place.SyncFolder(path.Dir(top))
}

// MarkTree gives what was written at top the marks of what it replaces at live: each entry
// those of its counterpart; a new file those of a usual one of old, and a new folder those of
// the top. Where nothing is at live, all get what they would inherit from the folder around
// it.
func MarkTree(place Place, top string, tree Tree, live string, old Tree) error {
	known := byPath(old)
	usual := path.Dir(live)
	if _, there := known["."]; there {
		usual = live
	}
	file := usual
	mode := UsualMode(old)
	for _, item := range old {
		if item.Kind == File && item.Mode == mode {
			file = path.Join(live, item.Path)
			break
		}
	}
	for _, item := range tree {
		from := usual
		switch before, had := known[item.Path]; {
		case item.Kind == Link:
			continue
		case had && before.Kind == item.Kind:
			from = path.Join(live, item.Path)
		case item.Kind == File:
			from = file
		}
		if err := place.CopyMarks(from, path.Join(top, item.Path)); err != nil {
			return err
		}
	}
	return nil
}

// UsualMode is the mode that most files of a tree have; 0 if it has none.
func UsualMode(tree Tree) uint32 {
	count := map[uint32]int{}
	best := uint32(0)
	for _, item := range tree {
		if item.Kind == File {
			count[item.Mode]++
			if count[item.Mode] > count[best] {
				best = item.Mode
			}
		}
	}
	return best
}

// How says in what way a tree was put in place.
type How string

// The ways: in one step, by two renames with a gap between them, or into an
// empty place.
const (
	ByExchange How = "exchange"
	ByRenames  How = "two renames"
	ByRename   How = "rename"
)

// Swapped tells how a swap was done and for how long the live name was absent.
type Swapped struct {
	How How
	Gap time.Duration
}

// Swap puts the tree at staged in the place of the one at live, which ends up at
// staged. Where nothing is at live, staged is moved there. Both must be on one
// file system. Without allowGap a place that cannot exchange gets ErrUnsupported
// and nothing is changed.
func Swap(place Place, live, staged string, allowGap bool) (Swapped, error) {
	done, err := swap(place, live, staged, allowGap)
	if err != nil {
		return done, err
	}
	return done, errors.Join(place.SyncFolder(path.Dir(live)), place.SyncFolder(path.Dir(staged)))
}

func swap(place Place, live, staged string, allowGap bool) (Swapped, error) {
	_, err := place.Lstat(live)
	if errors.Is(err, fs.ErrNotExist) {
		return Swapped{How: ByRename}, place.Rename(staged, live)
	}
	if err != nil {
		return Swapped{}, err
	}
	err = place.Exchange(live, staged)
	if err == nil {
		return Swapped{How: ByExchange}, nil
	}
	if !errors.Is(err, ErrUnsupported) || !allowGap {
		return Swapped{}, err
	}
	aside := staged + ".old"
	start := time.Now()
	if err := place.Rename(live, aside); err != nil {
		return Swapped{}, err
	}
	if err := place.Rename(staged, live); err != nil {
		return Swapped{}, errors.Join(err, place.Rename(aside, live))
	}
	gap := time.Since(start)
	return Swapped{How: ByRenames, Gap: gap}, place.Rename(aside, staged)
}

// ProbePrefix begins the names of the empty folders that TryExchange makes.
const ProbePrefix = ".wetland-probe-"

// TryExchange finds out whether names in the two folders can be exchanged with
// each other, by exchanging two empty folders of its own and removing them.
func TryExchange(place Place, a, b, unique string) error {
	private := Attributes{Mode: 0o700, Owner: Unowned, Group: Unowned}
	first, second := path.Join(a, ProbePrefix+unique+"-a"), path.Join(b, ProbePrefix+unique+"-b")
	if err := place.Mkdir(first, private); err != nil {
		return err
	}
	if err := place.Mkdir(second, private); err != nil {
		return errors.Join(err, place.Remove(first))
	}
	return errors.Join(place.Exchange(first, second), place.Remove(first), place.Remove(second))
}
