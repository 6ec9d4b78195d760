package files

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"time"

	"github.com/zeebo/blake3"
)

// Item is one entry of a tree, with what it takes to make it again. Path is
// below the tree's top, slash-separated; the top itself has the path ".".
type Item struct {
	Path     string
	Kind     Kind
	Mode     uint32
	Owner    int
	Group    int
	Modified time.Time
	Size     int64
	Hash     string // hexadecimal BLAKE3 of a file's bytes
	Target   string // where a link points
}

// Attributes returns what to create the item with.
func (i Item) Attributes() Attributes {
	return Attributes{Mode: i.Mode, Owner: i.Owner, Group: i.Group, Modified: i.Modified}
}

// Tree is a folder with all that is in it, in the order of the paths.
type Tree []Item

// Total returns how many files a tree has, and their bytes.
func (t Tree) Total() (count int, bytes int64) {
	for _, item := range t {
		if item.Kind == File {
			count++
			bytes += item.Size
		}
	}
	return count, bytes
}

// Below returns the part of the tree at folder, with paths relative to it.
func (t Tree) Below(folder string) Tree {
	var part Tree
	for _, item := range t {
		switch {
		case item.Path == folder:
			item.Path = "."
		case len(item.Path) > len(folder) && item.Path[:len(folder)+1] == folder+"/":
			item.Path = item.Path[len(folder)+1:]
		default:
			continue
		}
		part = append(part, item)
	}
	return part
}

// Scope is the part of a tree that is meant. The empty one is all of it.
type Scope struct {
	Only     string   // directly in the top: nothing else; "": everything
	LeaveOut []string // paths that are passed over with all below them
}

// Has tells whether a path below the top is meant, if what is above it is.
func (s Scope) Has(at string) bool {
	if at == "." {
		return true
	}
	if s.Only != "" {
		return at == s.Only
	}
	return !slices.Contains(s.LeaveOut, at)
}

// Walk calls visit for the top and everything in the scope below it, folders before what is in
// them. A folder that cannot be listed ends the walk with an error that names it; what
// vanishes during the walk is passed over.
func Walk(ctx context.Context, fsys FS, top string, scope Scope, visit func(path string, entry Entry) error) error {
	return WalkPast(ctx, fsys, top, scope, visit, func(name string, err error) error {
		return fmt.Errorf("list %s: %w", name, err)
	})
}

// WalkPast is Walk, but asks failed, with the whole name, about each folder that
// cannot be listed: nil passes over it.
func WalkPast(ctx context.Context, fsys FS, top string, scope Scope, visit func(path string, entry Entry) error, failed func(name string, err error) error) error {
	if able, ok := fsys.(TreeReader); ok {
		err := able.WalkTree(ctx, top, scope, visit, failed)
		if !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	entry, err := fsys.Lstat(ctx, top)
	if err != nil {
		return err
	}
	w := walk{fsys, top, scope, visit, failed}
	return w.at(ctx, ".", entry)
}

type walk struct {
	fsys   FS
	top    string
	scope  Scope
	visit  func(string, Entry) error
	failed func(string, error) error
}

func (w *walk) at(ctx context.Context, at string, entry Entry) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if !w.scope.Has(at) {
		return nil
	}
	if err := w.visit(at, entry); err != nil {
		return err
	}
	if entry.Kind != Folder {
		return nil
	}
	name := path.Join(w.top, at)
	entries, err := w.fsys.List(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return w.failed(name, err)
	}
	for _, entry := range entries {
		if err := w.at(ctx, path.Join(at, entry.Name), entry); err != nil {
			return err
		}
	}
	return nil
}

// ReadTree describes and hashes everything in the scope at top. Sockets, devices and pipes
// are left out: they hold no content. So is what vanishes meanwhile.
func ReadTree(ctx context.Context, fsys FS, top string, scope Scope) (Tree, error) {
	if able, ok := fsys.(TreeReader); ok {
		tree, err := able.ReadTree(ctx, top, scope)
		if !errors.Is(err, errors.ErrUnsupported) {
			return tree, err
		}
	}
	return ReadTreeKnowing(ctx, fsys, top, scope, func(string, Entry) string { return "" })
}

// ReadTreeKnowing is ReadTree, but does not read the files whose hash is known; "" is
// none.
func ReadTreeKnowing(ctx context.Context, fsys FS, top string, scope Scope, known func(path string, entry Entry) (hash string)) (Tree, error) {
	var tree Tree
	var unknown []int
	err := Walk(ctx, fsys, top, scope, func(at string, entry Entry) error {
		if entry.Kind == Other {
			return nil
		}
		item := itemOf(at, entry)
		if entry.Kind == File {
			if item.Hash = known(at, entry); item.Hash == "" {
				unknown = append(unknown, len(tree))
			}
		}
		tree = append(tree, item)
		return nil
	})
	if err == nil {
		err = hashItems(ctx, fsys, top, tree, unknown)
	}
	if err != nil {
		return nil, err
	}
	tree = slices.DeleteFunc(tree, func(item Item) bool { return item.Kind == "" })
	tree.Sort()
	return tree, nil
}

// hashItems hashes the files with these numbers. One that vanished loses its kind.
func hashItems(ctx context.Context, fsys FS, top string, tree Tree, numbers []int) error {
	names := make([]string, len(numbers))
	for i, number := range numbers {
		names[i] = tree[number].Path
	}
	return HashFiles(ctx, fsys, top, names, func(i int, hash string, size int64, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			tree[numbers[i]].Kind = ""
			return nil
		}
		if err != nil {
			return fmt.Errorf("read %s: %w", path.Join(top, names[i]), err)
		}
		tree[numbers[i]].Hash, tree[numbers[i]].Size = hash, size
		return nil
	})
}

// HashFiles hashes the files of these names below top, in their order, where they are if that can
// be. each gets what is wrong with one, and may go on.
func HashFiles(ctx context.Context, fsys FS, top string, names []string, each func(i int, hash string, size int64, err error) error) error {
	if len(names) == 0 {
		return ctx.Err()
	}
	if able, ok := fsys.(TreeReader); ok {
		err := able.HashFiles(ctx, top, names, each)
		if !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	for i, name := range names {
		hash, size, err := HashFile(ctx, fsys, path.Join(top, name))
		if err := each(i, hash, size, err); err != nil {
			return err
		}
	}
	return nil
}

func itemOf(at string, entry Entry) Item {
	return Item{
		Path: at, Kind: entry.Kind, Mode: entry.Mode, Owner: entry.Owner, Group: entry.Group,
		Modified: entry.Modified, Size: entry.Size, Target: entry.Target,
	}
}

// Sort puts the items in the order of ComparePaths.
func (t Tree) Sort() { slices.SortFunc(t, func(a, b Item) int { return ComparePaths(a.Path, b.Path) }) }

// ComparePaths orders paths below one top so that every folder comes before what
// is in it: the top itself first, the others by their bytes.
func ComparePaths(a, b string) int {
	switch {
	case a == b:
		return 0
	case a == ".":
		return -1
	case b == ".":
		return 1
	}
	return cmp.Compare(a, b)
}

// HashFile returns the hash and the number of bytes of a file.
func HashFile(ctx context.Context, fsys FS, name string) (string, int64, error) {
	file, err := fsys.Open(ctx, name, 0)
	if err != nil {
		return "", 0, err
	}
	defer file.Close()
	return Hash(file)
}

// Hash returns the hexadecimal BLAKE3 of what r gives, and how many bytes it gave.
func Hash(r io.Reader) (string, int64, error) {
	hasher := blake3.New()
	size, err := io.Copy(hasher, r)
	return hex.EncodeToString(hasher.Sum(nil)), size, err
}

// Side tells in which of two trees a path is.
type Side int

// The sides.
const (
	BothTrees Side = iota
	OnlyBefore
	OnlyNow
)

// Difference is one path at which two trees differ.
type Difference struct {
	Path string
	Side Side
	What string // in words, for people
}

// Comparison says what counts when trees are compared.
type Comparison struct {
	Owners bool // owner and group too
	Modes  bool // permission bits too
}

// Compare lists where now differs from before, in the order of the paths. Times
// of modification do not count.
func (how Comparison) Compare(before, now Tree) []Difference {
	var found []Difference
	before, now = inOrder(before), inOrder(now)
	for len(before)+len(now) > 0 {
		var order int
		switch {
		case len(now) == 0:
			order = -1
		case len(before) == 0:
			order = 1
		default:
			order = ComparePaths(before[0].Path, now[0].Path)
		}
		switch {
		case order < 0:
			found = append(found, Difference{Path: before[0].Path, Side: OnlyBefore, What: "only before"})
		case order > 0:
			found = append(found, Difference{Path: now[0].Path, Side: OnlyNow, What: "only now"})
		default:
			if what := how.between(before[0], now[0]); what != "" {
				found = append(found, Difference{Path: now[0].Path, What: what})
			}
		}
		if order <= 0 {
			before = before[1:]
		}
		if order >= 0 {
			now = now[1:]
		}
	}
	return found
}

// inOrder returns the tree in the order of its paths.
func inOrder(t Tree) Tree {
	if slices.IsSortedFunc(t, func(a, b Item) int { return ComparePaths(a.Path, b.Path) }) {
		return t
	}
	t = slices.Clone(t)
	t.Sort()
	return t
}

// between says in what one path differs; "" if in nothing.
func (how Comparison) between(before, now Item) string {
	switch {
	case before.Kind != now.Kind:
		return fmt.Sprintf("a %s, was a %s", now.Kind, before.Kind)
	case before.Hash != now.Hash || (before.Kind == File && before.Size != now.Size):
		return "other content"
	case before.Target != now.Target:
		return "points elsewhere"
	case how.Modes && before.Kind != Link && before.Mode != now.Mode:
		return fmt.Sprintf("mode %04o, was %04o", now.Mode, before.Mode)
	case how.Owners && (before.Owner != now.Owner || before.Group != now.Group):
		return "another owner"
	}
	return ""
}

// Exact compares all but times.
var Exact = Comparison{Owners: true, Modes: true}

// Content compares bytes, kinds and links only.
var Content = Comparison{}

func byPath(t Tree) map[string]Item {
	m := make(map[string]Item, len(t))
	for _, item := range t {
		m[item.Path] = item
	}
	return m
}

// Clear takes away what lies in a folder that others write to, and counts the files that were
// there. The folder itself stays, and so does what is written there meanwhile, with the
// folders that hold it. A folder that does not exist is clear; links are never followed, and
// a folder that is one is an error.
func Clear(ctx context.Context, fsys FS, folder string) (count int, err error) {
	var inside []string
	err = Walk(ctx, fsys, folder, Scope{}, func(at string, entry Entry) error {
		switch {
		case at == "." && entry.Kind != Folder:
			return fmt.Errorf("%s is a %s, not a folder", folder, entry.Kind)
		case at != "." && path.Dir(at) == ".":
			inside = append(inside, path.Join(folder, at))
		}
		if entry.Kind == File {
			count++
		}
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	for _, name := range inside {
		if err := fsys.RemoveAll(ctx, name); err != nil && !errors.Is(err, fs.ErrExist) {
			return 0, err
		}
	}
	return count, nil
}

// MakeAll makes the folder name and those above it that are missing, with a mode: 0o700 is private to this
// user.
func MakeAll(ctx context.Context, fsys FS, name string, mode uint32) error {
	entry, err := fsys.Lstat(ctx, name)
	if err == nil && entry.Kind != Folder {
		return fmt.Errorf("%s is a %s, not a folder", name, entry.Kind)
	}
	if err == nil {
		return nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := MakeAll(ctx, fsys, path.Dir(name), mode); err != nil {
		return err
	}
	return fsys.Mkdir(ctx, name, Attributes{Mode: mode, Owner: Unowned, Group: Unowned})
}

// Folders tells which paths of the tree are folders.
func (t Tree) Folders() map[string]bool {
	folders := map[string]bool{}
	for _, item := range t {
		if item.Kind == Folder {
			folders[item.Path] = true
		}
	}
	return folders
}
