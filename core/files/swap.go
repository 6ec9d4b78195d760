package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
)

// Source opens the bytes of a tree's files by their path, of several at the same time.
type Source func(item Item) (io.ReadCloser, error)

// SourceIn is the source of a tree that lies at the folder top.
func SourceIn(ctx context.Context, fsys FS, top string) Source {
	return func(item Item) (io.ReadCloser, error) { return fsys.Open(ctx, path.Join(top, item.Path), 0) }
}

// WriteTree makes the tree at the new folder top and proves, while writing, that
// every file got the bytes that the tree promises. wrote, if not nil, is told how many, by
// several goroutines. All of it is safe on disk when WriteTree returns nil; on an error the
// half-written tree is left for RemoveAll.
func WriteTree(ctx context.Context, fsys FS, top string, tree Tree, source Source, wrote func(bytes int64)) error {
	if able, ok := fsys.(TreeWriter); ok {
		err := able.PutTree(ctx, top, tree, source, wrote)
		if !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	if err := MakeFolders(ctx, fsys, top, tree); err != nil {
		return err
	}
	err := AtOnce(ctx, fsys, len(tree), func(ctx context.Context, i int) error {
		item := tree[i]
		if item.Kind == Folder {
			return nil
		}
		if err := WriteItem(ctx, fsys, top, item, source); err != nil {
			return err
		}
		if wrote != nil {
			wrote(item.Size)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return FinishFolders(ctx, fsys, top, tree)
}

// MakeFolders makes the folders of a tree at the new folder top, writable by us until FinishFolders
// gives them their own modes.
func MakeFolders(ctx context.Context, fsys FS, top string, tree Tree) error {
	for _, folders := range ByLevel(tree) { // a folder comes before what is in it
		err := AtOnce(ctx, fsys, len(folders), func(ctx context.Context, i int) error { return WriteItem(ctx, fsys, top, folders[i], nil) })
		if err != nil {
			return err
		}
	}
	return nil
}

// ByLevel returns the folders of a tree by how deep they are, the top first.
func ByLevel(tree Tree) (levels []Tree) {
	for _, item := range tree {
		if item.Kind != Folder {
			continue
		}
		depth := 0
		if item.Path != "." {
			depth = strings.Count(item.Path, "/") + 1
		}
		for len(levels) <= depth {
			levels = append(levels, nil)
		}
		levels[depth] = append(levels[depth], item)
	}
	return levels
}

// atOnce is how many files are written at the same time: each waits for its disk to have it
// safely, and disks that are asked for several at once answer them together.
const atOnce = 8

// atOnceThere is how many calls go to another machine at the same time: each waits for its way.
const atOnceThere = 96

// AtOnce calls do with the numbers from 0 to n-1, several at the same time as is good for fsys, and
// returns the first error.
func AtOnce(ctx context.Context, fsys FS, n int, do func(ctx context.Context, i int) error) error {
	group, inner := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	if far, ok := fsys.(Distant); ok && far.Distant() {
		group.SetLimit(atOnceThere)
	}
	for i := range n {
		if inner.Err() != nil {
			break
		}
		group.Go(func() error { return do(inner, i) })
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return ctx.Err()
}

// WriteItem makes one item of a tree below the top.
func WriteItem(ctx context.Context, fsys FS, top string, item Item, source Source) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	name := path.Join(top, item.Path)
	if err := writeItem(ctx, fsys, name, item, source); err != nil {
		return fmt.Errorf("write %s: %w", name, err)
	}
	return nil
}

func writeItem(ctx context.Context, fsys FS, name string, item Item, source Source) error {
	switch item.Kind {
	case Folder:
		with := item.Attributes()
		with.Mode |= 0o700
		return fsys.Mkdir(ctx, name, with)
	case Link:
		return fsys.Symlink(ctx, item.Target, name, item.Attributes())
	case File:
		return WriteFile(ctx, fsys, name, item, source)
	}
	return fmt.Errorf("cannot make a %s", item.Kind)
}

// WriteFile makes one new file with the item's attributes and proves its bytes.
func WriteFile(ctx context.Context, fsys FS, name string, item Item, source Source) error {
	from, err := source(item)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := fsys.Create(ctx, name, item.Attributes())
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

// FinishFolders gives every folder of a tree its own mode and time, innermost first, and
// makes its names safe.
func FinishFolders(ctx context.Context, fsys FS, top string, tree Tree) error {
	for _, folders := range slices.Backward(ByLevel(tree)) {
		err := AtOnce(ctx, fsys, len(folders), func(ctx context.Context, i int) error {
			item := folders[i]
			name := path.Join(top, item.Path)
			if err := fsys.SyncFolder(ctx, name); err != nil {
				return err
			}
			return fsys.Settle(ctx, name, item.Attributes())
		})
		if err != nil {
			return err
		}
	}
	return fsys.SyncFolder(ctx, path.Dir(top))
}

// MarkTree gives what was written at top the marks of what it replaces at live: each entry
// those of its counterpart; a new file those of a usual one of old, and a new folder those of
// the top. Where nothing is at live, all get what they would inherit from the folder around
// it.
func MarkTree(ctx context.Context, fsys FS, top string, tree Tree, live string, old Tree) error {
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
	var steps []Step
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
		steps = append(steps, Step{Do: DoCopyMarks, Name: path.Join(top, item.Path), Other: from})
	}
	_, err := TakeSteps(ctx, fsys, steps)
	return err
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
// file system. A disk that cannot exchange gets ErrUnsupported and nothing is
// changed. Once begun, a swap is finished, whether or not its context ends.
func Swap(ctx context.Context, fsys FS, live, staged string) (Swapped, error) {
	if err := ctx.Err(); err != nil {
		return Swapped{}, err
	}
	ctx = context.WithoutCancel(ctx)
	taken, err := TakeSteps(ctx, fsys, append([]Step{{Do: DoExchange, Name: live, Other: staged}}, syncBoth(live, staged)...))
	if err == nil {
		return Swapped{How: ByExchange}, nil
	}
	if taken.Steps > 0 {
		return Swapped{}, err
	}
	if _, there := fsys.Lstat(ctx, live); errors.Is(there, fs.ErrNotExist) {
		_, err := TakeSteps(ctx, fsys, append([]Step{{Do: DoRename, Name: staged, Other: live}}, syncBoth(live, staged)...))
		return Swapped{How: ByRename}, err
	}
	return Swapped{}, err
}

// syncBoth makes the names safe that a swap changed.
func syncBoth(live, staged string) []Step {
	return []Step{{Do: DoSyncFolder, Name: path.Dir(live)}, {Do: DoSyncFolder, Name: path.Dir(staged)}}
}

// Cover is a file that is moved to where visitors meet it while a name is absent, and then back.
type Cover struct{ Ready, Shown string }

// SwapByRenames does what Swap does where a disk cannot exchange: the live name is absent between two renames. A cover
// that cannot be moved is no reason to stop; the zero one is none.
func SwapByRenames(ctx context.Context, fsys FS, live, staged string, cover Cover) (Swapped, error) {
	if err := ctx.Err(); err != nil {
		return Swapped{}, err
	}
	ctx = context.WithoutCancel(ctx)
	aside := staged + ".old"
	steps := []Step{{Do: DoRename, Name: live, Other: aside}, {Do: DoRename, Name: staged, Other: live}}
	first := 0
	if cover != (Cover{}) {
		up, down := Step{Do: DoRename, Name: cover.Ready, Other: cover.Shown, Anyway: true}, Step{Do: DoRename, Name: cover.Shown, Other: cover.Ready, Anyway: true}
		steps, first = append(append([]Step{up}, steps...), down), 1
	}
	taken, err := TakeSteps(ctx, fsys, steps)
	if err != nil {
		if taken.Steps > first {
			err = errors.Join(err, fsys.Rename(ctx, aside, live))
		}
		if first > 0 { // steps that are taken one by one ended before it
			_ = steps[len(steps)-1].take(ctx, fsys)
		}
		return Swapped{}, err
	}
	_, err = TakeSteps(ctx, fsys, append([]Step{{Do: DoRename, Name: aside, Other: staged}}, syncBoth(live, staged)...))
	return Swapped{How: ByRenames, Gap: taken.Took}, err
}

// ProbePrefix begins the names of the empty folders that TryExchange makes.
const ProbePrefix = ".wetland-probe-"

// TryExchange finds out whether names in the two folders can be exchanged with
// each other, by exchanging two empty folders of its own and removing them.
func TryExchange(ctx context.Context, fsys FS, a, b, unique string) error {
	private := Attributes{Mode: 0o700, Owner: Unowned, Group: Unowned}
	first, second := path.Join(a, ProbePrefix+unique+"-a"), path.Join(b, ProbePrefix+unique+"-b")
	made := []string{first, second}
	taken, err := TakeSteps(ctx, fsys, []Step{
		{Do: DoMkdir, Name: first, With: private}, {Do: DoMkdir, Name: second, With: private},
		{Do: DoExchange, Name: first, Other: second},
		{Do: DoRemove, Name: first}, {Do: DoRemove, Name: second},
	})
	if err == nil {
		return nil
	}
	for _, name := range made[:min(taken.Steps, len(made))] {
		if left := fsys.Remove(context.WithoutCancel(ctx), name); !errors.Is(left, fs.ErrNotExist) {
			err = errors.Join(err, left)
		}
	}
	return err
}
