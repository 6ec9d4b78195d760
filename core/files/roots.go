package files

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
)

// Roots are the folders of a disk in which a site lies, each opened once. It is an FS whose
// names are whole, as settings and snapshots write them and people read them; a name outside
// of all roots is ErrOutside, and nothing is done.
type Roots struct {
	Disk Disk
	lock sync.RWMutex
	open []root // the longest names first
}

type root struct {
	name string
	fsys FS
}

// ErrOutside says that a name is in none of the folders that may be reached.
var ErrOutside = errors.New("it is outside of the folders that belong to the site")

var _ interface {
	Able
	TreeReader
	TreeWriter
	StepTaker
} = (*Roots)(nil)

// NewRoots returns the roots of a disk, with the folders open.
func NewRoots(ctx context.Context, disk Disk, folders ...string) (*Roots, error) {
	r := &Roots{Disk: disk}
	for _, folder := range folders {
		if err := r.Reach(ctx, folder); err != nil {
			return nil, errors.Join(err, r.Close())
		}
	}
	return r, nil
}

// Reach opens a folder, so that what is below it can be reached.
func (r *Roots) Reach(ctx context.Context, folder string) error {
	folder = path.Clean(folder)
	if _, _, err := r.at("reach", folder); err == nil {
		return nil
	}
	return r.openRoot(ctx, folder)
}

// ReachNearest is Reach; of a folder that does not exist it opens the nearest one above, so that
// it can be made.
func (r *Roots) ReachNearest(ctx context.Context, folder string) error {
	err := r.Reach(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) && path.Dir(folder) != folder {
		return r.ReachNearest(ctx, path.Dir(folder))
	}
	return err
}

func (r *Roots) openRoot(ctx context.Context, folder string) error {
	fsys, err := r.Disk.Open(ctx, folder)
	if err != nil {
		return err
	}
	r.lock.Lock()
	defer r.lock.Unlock()
	r.open = append(r.open, root{folder, fsys})
	slices.SortStableFunc(r.open, func(a, b root) int { return cmp.Compare(len(b.name), len(a.name)) })
	return nil
}

// ReachTogether opens a folder that both are in, so that names can be moved from one to the
// other.
func (r *Roots) ReachTogether(ctx context.Context, a, b string) error {
	if _, _, _, err := r.both("reach", a, b); err == nil {
		return nil
	}
	common := path.Clean(a)
	for !holds(common, path.Clean(b)) && path.Dir(common) != common {
		common = path.Dir(common)
	}
	if !holds(common, path.Clean(b)) {
		return nil // on another drive, into which nothing is renamed
	}
	return r.openRoot(ctx, common)
}

func holds(folder, name string) bool {
	return name == folder || strings.HasPrefix(name, strings.TrimSuffix(folder, "/")+"/")
}

// below returns the name relative to the root.
func (r root) below(name string) string {
	if name == r.name {
		return "."
	}
	return strings.TrimPrefix(name[len(strings.TrimSuffix(r.name, "/")):], "/")
}

func (r *Roots) at(op, name string) (FS, string, error) {
	fsys, below, _, err := r.both(op, name, name)
	return fsys, below, err
}

// both returns the innermost root that two names are in, and their names below it.
func (r *Roots) both(op, a, b string) (fsys FS, belowA, belowB string, err error) {
	a, b = path.Clean(a), path.Clean(b)
	r.lock.RLock()
	defer r.lock.RUnlock()
	for _, one := range r.open {
		if holds(one.name, a) && holds(one.name, b) {
			return one.fsys, one.below(a), one.below(b), nil
		}
	}
	return nil, "", "", &fs.PathError{Op: op, Path: b, Err: ErrOutside}
}

// Close closes all roots.
func (r *Roots) Close() error {
	r.lock.Lock()
	defer r.lock.Unlock()
	var all error
	for _, one := range r.open {
		all = errors.Join(all, one.fsys.Close())
	}
	r.open = nil
	return all
}

// The calls below are those of the root that a name is in.

func (r *Roots) Lstat(ctx context.Context, name string) (Entry, error) {
	fsys, below, err := r.at("lstat", name)
	if err != nil {
		return Entry{}, err
	}
	entry, err := fsys.Lstat(ctx, below)
	entry.Name = path.Base(name)
	return entry, err
}

func (r *Roots) List(ctx context.Context, name string) ([]Entry, error) {
	fsys, below, err := r.at("list", name)
	if err != nil {
		return nil, err
	}
	return fsys.List(ctx, below)
}

func (r *Roots) Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error) {
	fsys, below, err := r.at("open", name)
	if err != nil {
		return nil, err
	}
	return fsys.Open(ctx, below, offset)
}

func (r *Roots) Create(ctx context.Context, name string, with Attributes) (io.WriteCloser, error) {
	fsys, below, err := r.at("create", name)
	if err != nil {
		return nil, err
	}
	return fsys.Create(ctx, below, with)
}

func (r *Roots) Mkdir(ctx context.Context, name string, with Attributes) error {
	return r.call("mkdir", name, func(fsys FS, below string) error { return fsys.Mkdir(ctx, below, with) })
}

func (r *Roots) Symlink(ctx context.Context, target, name string, with Attributes) error {
	return r.call("symlink", name, func(fsys FS, below string) error { return fsys.Symlink(ctx, target, below, with) })
}

func (r *Roots) Settle(ctx context.Context, name string, with Attributes) error {
	return r.call("change", name, func(fsys FS, below string) error { return fsys.Settle(ctx, below, with) })
}

func (r *Roots) Remove(ctx context.Context, name string) error {
	return r.call("remove", name, func(fsys FS, below string) error { return fsys.Remove(ctx, below) })
}

func (r *Roots) RemoveAll(ctx context.Context, name string) error {
	return r.call("remove", name, func(fsys FS, below string) error { return fsys.RemoveAll(ctx, below) })
}

func (r *Roots) SyncFolder(ctx context.Context, name string) error {
	return r.call("sync", name, func(fsys FS, below string) error { return fsys.SyncFolder(ctx, below) })
}

func (r *Roots) Writable(ctx context.Context, name string) error {
	return r.call("write in", name, func(fsys FS, below string) error { return fsys.Writable(ctx, below) })
}

func (r *Roots) call(op, name string, do func(fsys FS, below string) error) error {
	fsys, below, err := r.at(op, name)
	if err != nil {
		return err
	}
	return do(fsys, below)
}

// Rename moves a name within one root.
func (r *Roots) Rename(ctx context.Context, old, new string) error {
	fsys, belowOld, belowNew, err := r.both("rename", old, new)
	if err != nil {
		return err
	}
	return fsys.Rename(ctx, belowOld, belowNew)
}

// Exchange swaps two names of one root.
func (r *Roots) Exchange(ctx context.Context, a, b string) error {
	fsys, belowA, belowB, err := r.both("exchange", a, b)
	if err != nil {
		return err
	}
	return Exchange(ctx, fsys, belowA, belowB)
}

func (r *Roots) CopyMarks(ctx context.Context, from, to string) error {
	fsys, belowFrom, belowTo, err := r.both("give marks to", from, to)
	if err != nil {
		return err
	}
	return CopyMarks(ctx, fsys, belowFrom, belowTo)
}

// Duplicate makes a new file out of one in a root. Where to is Roots, it is made in one of theirs.
func (r *Roots) Duplicate(ctx context.Context, name string, to FS, at string, with Attributes) error {
	return r.call("duplicate", name, func(from FS, below string) error {
		if all, ok := to.(*Roots); ok {
			return all.call("make", at, func(fsys FS, belowAt string) error { return Duplicate(ctx, from, below, fsys, belowAt, with) })
		}
		return Duplicate(ctx, from, below, to, at, with)
	})
}

// Distant tells whether a root is on another machine.
func (r *Roots) Distant() bool {
	r.lock.RLock()
	defer r.lock.RUnlock()
	return slices.ContainsFunc(r.open, func(one root) bool {
		far, ok := one.fsys.(Distant)
		return ok && far.Distant()
	})
}

// CanExchange tells whether all roots may be able to exchange names.
func (r *Roots) CanExchange() bool { return r.all(CanExchange) }

// CanOwn tells whether entries of all roots can be given this owner and group.
func (r *Roots) CanOwn(owner, group int) bool {
	return r.all(func(fsys FS) bool { return CanOwn(fsys, owner, group) })
}

func (r *Roots) all(can func(FS) bool) bool {
	r.lock.RLock()
	defer r.lock.RUnlock()
	return !slices.ContainsFunc(r.open, func(one root) bool { return !can(one.fsys) })
}

func (r *Roots) MountedAt(ctx context.Context, name string) (mounted bool, err error) {
	err = r.call("ask what is mounted at", name, func(fsys FS, below string) (err error) {
		mounted, err = MountedAt(ctx, fsys, below)
		return err
	})
	return mounted, err
}

func (r *Roots) Lock(ctx context.Context, name string, counts func(user int) bool) (unlock func() error, err error) {
	err = r.call("lock", name, func(fsys FS, below string) (err error) {
		unlock, err = Lock(ctx, fsys, below, counts)
		return err
	})
	return unlock, err
}

func (r *Roots) FreeSpace(ctx context.Context, name string) (free uint64, err error) {
	err = r.call("ask for the free space at", name, func(fsys FS, below string) (err error) {
		free, err = FreeSpace(ctx, fsys, below)
		return err
	})
	return free, err
}

// there does something with a root that reads whole trees.
func (r *Roots) there(top string, do func(able TreeReader, below string) error) error {
	return r.call("read", top, func(fsys FS, below string) error {
		able, ok := fsys.(TreeReader)
		if !ok {
			return errors.ErrUnsupported
		}
		return do(able, below)
	})
}

func (r *Roots) WalkTree(ctx context.Context, top string, scope Scope, visit func(string, Entry) error, failed func(string, error) error) error {
	return r.there(top, func(able TreeReader, below string) error {
		return able.WalkTree(ctx, below, scope, func(at string, entry Entry) error {
			if at == "." {
				entry.Name = path.Base(top)
			}
			return visit(at, entry)
		}, func(name string, err error) error {
			if rest, ok := strings.CutPrefix(name, below); ok && below != "." {
				name = rest
			}
			return failed(path.Join(top, name), err)
		})
	})
}

func (r *Roots) ReadTree(ctx context.Context, top string, scope Scope) (tree Tree, err error) {
	err = r.there(top, func(able TreeReader, below string) (err error) {
		tree, err = able.ReadTree(ctx, below, scope)
		return err
	})
	return tree, err
}

func (r *Roots) HashFiles(ctx context.Context, top string, names []string, each func(int, string, int64, error) error) error {
	return r.there(top, func(able TreeReader, below string) error { return able.HashFiles(ctx, below, names, each) })
}

func (r *Roots) ReadFiles(ctx context.Context, top string, names []string, each func(int, *Reading, error) error) error {
	return r.there(top, func(able TreeReader, below string) error { return able.ReadFiles(ctx, below, names, each) })
}

func (r *Roots) PutTree(ctx context.Context, top string, tree Tree, source Source, wrote func(bytes int64)) error {
	return r.call("write", top, func(fsys FS, below string) error {
		able, ok := fsys.(TreeWriter)
		if !ok {
			return errors.ErrUnsupported
		}
		return able.PutTree(ctx, below, tree, source, wrote)
	})
}

// TakeSteps takes those that are all in one root.
func (r *Roots) TakeSteps(ctx context.Context, steps []Step) (Taken, error) {
	r.lock.RLock()
	at := slices.IndexFunc(r.open, func(one root) bool { return !slices.ContainsFunc(steps, func(s Step) bool { return !s.in(one.name) }) })
	if at < 0 {
		r.lock.RUnlock()
		return Taken{}, ErrNoSteps
	}
	in := r.open[at]
	r.lock.RUnlock()
	able, ok := in.fsys.(StepTaker)
	if !ok {
		return Taken{}, ErrNoSteps
	}
	below := slices.Clone(steps)
	for i := range below {
		below[i].Name = in.below(path.Clean(below[i].Name))
		if below[i].Other != "" {
			below[i].Other = in.below(path.Clean(below[i].Other))
		}
	}
	return able.TakeSteps(ctx, below)
}
