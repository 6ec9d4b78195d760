// Package filestest holds an implementation of files.Disk and files.FS against the whole
// contract, as testing/fstest does for file systems. Begin reading at TestDisk.
package filestest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wetland/core/files"
)

// TestDisk holds a disk, and what it opens, against the contracts of files.Disk and files.FS.
// dir is an empty folder, without a symbolic link in its path, that the test can reach by
// package os as well: there it looks at what was done, and puts things in the way. grain is
// the finest difference in modification times that the disk keeps. What the disk is not able
// to do is not asked of it.
func TestDisk(t *testing.T, disk files.Disk, dir string, grain time.Duration) {
	t.Helper()
	for name, test := range map[string]func(s suite, t *testing.T, dir string){
		"what is written is read":       suite.writesAndReads,
		"odd names":                     suite.oddNames,
		"names that lead out":           suite.leadOut,
		"a root that is moved":          suite.movedRoot,
		"attributes":                    suite.attributes,
		"what is missing":               suite.missing,
		"what is there":                 suite.there,
		"remove":                        suite.removes,
		"rename and exchange":           suite.renames,
		"steps together":                suite.takesSteps,
		"links on the way":              suite.linksOnTheWay,
		"links that come and go":        suite.attacker,
		"pipes":                         suite.pipes,
		"further names":                 suite.furtherNames,
		"a context that has ended":      suite.ended,
		"many at once":                  suite.manyAtOnce,
		"one lock at a time":            suite.locks,
		"trees are written and removed": suite.trees,
		"trees are read as one by one":  suite.readTrees,
	} {
		t.Run(name, func(t *testing.T) {
			folder := filepath.Join(dir, strings.ReplaceAll(name, " ", "-"))
			must(t, os.Mkdir(folder, 0o755))
			fsys, err := disk.Open(t.Context(), filepath.ToSlash(folder))
			must(t, err)
			defer func() { must(t, fsys.Close()) }()
			_, owners := fsys.(files.OwnerGiver)
			names, ok := fsys.(files.ByName)
			test(suite{context.Background(), disk, fsys, grain, owners, owners && !(ok && names.ByName())}, t, filepath.ToSlash(folder))
		})
	}
}

type suite struct {
	ctx     context.Context
	disk    files.Disk
	fsys    files.FS
	grain   time.Duration
	owners  bool // entries have owners and modes
	handles bool // calls go by handles, not by names
}

var mine = files.Attributes{Mode: 0o640, Owner: files.Unowned, Group: files.Unowned}

func folderOf(with files.Attributes) files.Attributes {
	with.Mode |= 0o700
	return with
}

func must(t *testing.T, all ...error) {
	t.Helper()
	if err := errors.Join(all...); err != nil {
		t.Fatal(err)
	}
}

func (s suite) create(name, text string) error {
	file, err := s.fsys.Create(s.ctx, name, mine)
	if err != nil {
		return err
	}
	_, err = io.WriteString(file, text)
	return errors.Join(err, file.Close())
}

func (s suite) read(name string, offset int64) (string, error) {
	file, err := s.fsys.Open(s.ctx, name, offset)
	if err != nil {
		return "", err
	}
	text, err := io.ReadAll(file)
	return string(text), errors.Join(err, file.Close())
}

func (s suite) writesAndReads(t *testing.T, dir string) {
	zeros := strings.Repeat("\x00", 300<<10)
	for name, text := range map[string]string{"empty": "", "text": "low water at dawn", "zeros": zeros, "holes": "a" + zeros + "b" + zeros} {
		at := path.Join(".", name)
		must(t, s.create(at, text))
		got, err := s.read(at, 0)
		if err != nil || got != text {
			t.Errorf("%s: %d bytes of %d, %v", name, len(got), len(text), err)
		}
		if entry, err := s.fsys.Lstat(s.ctx, at); err != nil || entry.Kind != files.File || entry.Size != int64(len(text)) || entry.Name != name {
			t.Errorf("%+v %v", entry, err)
		}
	}
	if got, err := s.read(path.Join(".", "text"), 4); err != nil || got != "water at dawn" {
		t.Errorf("from the fourth byte: %q %v", got, err)
	}
	if got, err := s.read(path.Join(".", "text"), 400); err != nil || got != "" {
		t.Errorf("from behind the end: %q %v", got, err)
	}
}

func (s suite) oddNames(t *testing.T, dir string) {
	names := []string{"-rf", "with space", "new\nline", "'quote\"", "ümlaut", "u\u0308mlaut", "*", "..x", ".hidden", strings.Repeat("n", 200)}
	if runtime.GOOS == "linux" {
		names = append(names, "latin-1 \xe4", "\xff\xfe")
	}
	for _, name := range names {
		must(t, s.create(path.Join(".", name), name))
	}
	entries, err := s.fsys.List(s.ctx, ".")
	must(t, err)
	var listed []string
	for _, entry := range entries {
		listed = append(listed, entry.Name)
		if text, err := s.read(path.Join(".", entry.Name), 0); err != nil || text != entry.Name {
			t.Errorf("%q holds %q, %v", entry.Name, text, err)
		}
	}
	slices.Sort(names)
	if !slices.Equal(listed, names) {
		t.Errorf("listed %q, want %q in this order", listed, names)
	}
}

func (s suite) attributes(t *testing.T, dir string) {
	when := time.Date(2019, 2, 3, 4, 5, 6, 789000, time.UTC)
	for i, mode := range []uint32{0o600, 0o644, 0o444, 0o751, 0o2775, 0o4750} {
		name := path.Join(".", fmt.Sprint("f", i))
		with := files.Attributes{Mode: mode, Owner: files.Unowned, Group: files.Unowned, Modified: when}
		file, err := s.fsys.Create(s.ctx, name, with)
		must(t, err)
		must(t, file.Close())
		s.has(t, name, with)
		other := with
		other.Mode, other.Modified = 0o600, when.Add(time.Hour)
		must(t, s.fsys.Settle(s.ctx, name, other))
		s.has(t, name, other)
		folder := path.Join(".", fmt.Sprint("d", i))
		must(t, s.fsys.Mkdir(s.ctx, folder, folderOf(with)), s.fsys.Settle(s.ctx, folder, folderOf(with)))
		s.has(t, folder, folderOf(with))
	}
	must(t, s.fsys.Symlink(s.ctx, "../nowhere at all", path.Join(".", "link"), mine))
	if entry, err := s.fsys.Lstat(s.ctx, path.Join(".", "link")); err != nil || entry.Kind != files.Link || entry.Target != "../nowhere at all" {
		t.Errorf("%+v %v", entry, err)
	}
}

func (s suite) has(t *testing.T, name string, with files.Attributes) {
	t.Helper()
	entry, err := s.fsys.Lstat(s.ctx, name)
	if err != nil {
		t.Fatal(err)
	}
	if s.owners && entry.Mode != with.Mode {
		t.Errorf("%s has the mode %o, want %o", name, entry.Mode, with.Mode)
	}
	if !entry.Modified.Truncate(s.grain).Equal(with.Modified.Truncate(s.grain)) {
		t.Errorf("%s has the time %s, want %s", name, entry.Modified, with.Modified)
	}
}

// missing: each call says of a name that does not exist that it does not.
func (s suite) missing(t *testing.T, dir string) {
	for _, at := range []string{path.Join(".", "none"), path.Join(".", "none/of/these")} {
		for call, err := range s.onExisting(at, path.Join(".", "other")) {
			if !errors.Is(err, fs.ErrNotExist) && (call != "SyncFolder" || s.owners) { // on Windows there is no such thing
				t.Errorf("%s of %s: %v", call, at, err)
			}
		}
	}
	if err := s.fsys.RemoveAll(s.ctx, path.Join(".", "none/of/these")); err != nil {
		t.Errorf("removing all of what is gone: %v", err)
	}
	if err := s.create(path.Join(".", "none/x"), ""); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%v", err)
	}
}

// onExisting makes every call that wants something to be there.
func (s suite) onExisting(at, other string) map[string]error {
	_, lstat := s.fsys.Lstat(s.ctx, at)
	_, list := s.fsys.List(s.ctx, at)
	_, open := s.read(at, 0)
	return map[string]error{
		"Lstat": lstat, "List": list, "Open": open, "Settle": s.fsys.Settle(s.ctx, at, mine), "Remove": s.fsys.Remove(s.ctx, at),
		"Rename": s.fsys.Rename(s.ctx, at, other), "SyncFolder": s.fsys.SyncFolder(s.ctx, at),
	}
}

// there: what is there is never replaced by what is made.
func (s suite) there(t *testing.T, dir string) {
	for i, make := range []func(name string) error{
		func(name string) error { return os.WriteFile(name, []byte("first"), 0o600) },
		func(name string) error { return os.Mkdir(name, 0o700) },
		func(name string) error { return os.Symlink(dir+"/nowhere", name) },
	} {
		at := path.Join(".", fmt.Sprint(i))
		must(t, make(filepath.Join(dir, at)))
		before, err := s.fsys.Lstat(s.ctx, at)
		must(t, err)
		for call, err := range map[string]error{"Create": s.create(at, "second"), "Mkdir": s.fsys.Mkdir(s.ctx, at, folderOf(mine)), "Symlink": s.fsys.Symlink(s.ctx, "x", at, mine)} {
			if !errors.Is(err, fs.ErrExist) {
				t.Errorf("%s over %s: %v", call, before.Kind, err)
			}
		}
		if now, err := s.fsys.Lstat(s.ctx, at); err != nil || now != before {
			t.Errorf("%+v %v, was %+v", now, err, before)
		}
	}
	if _, err := os.Lstat(filepath.FromSlash(dir + "/nowhere")); err == nil {
		t.Error("a link was followed")
	}
}

func (s suite) removes(t *testing.T, dir string) {
	must(t, s.fsys.Mkdir(s.ctx, path.Join(".", "full"), folderOf(mine)), s.create(path.Join(".", "full/x"), "x"), s.fsys.Symlink(s.ctx, dir, path.Join(".", "full/link"), mine))
	if err := s.fsys.Remove(s.ctx, path.Join(".", "full")); err == nil {
		t.Error("a folder was removed with what is in it")
	}
	must(t, s.fsys.Remove(s.ctx, path.Join(".", "full/x")), s.fsys.Remove(s.ctx, path.Join(".", "full/link")), s.fsys.Remove(s.ctx, path.Join(".", "full")))
	if entries, err := s.fsys.List(s.ctx, "."); err != nil || len(entries) > 0 {
		t.Errorf("%v %v", entries, err)
	}
}

func (s suite) renames(t *testing.T, dir string) {
	a, b := path.Join(".", "a"), path.Join(".", "b")
	must(t, s.create(a, "first"), s.create(b, "second"), s.fsys.Rename(s.ctx, a, b))
	if text, err := s.read(b, 0); err != nil || text != "first" {
		t.Errorf("%q %v", text, err)
	}
	must(t, s.fsys.Mkdir(s.ctx, a, folderOf(mine)), s.create(a+"/inside", "third"))
	err := files.Exchange(s.ctx, s.fsys, a, b)
	if !files.CanExchange(s.fsys) {
		if !errors.Is(err, files.ErrUnsupported) {
			t.Errorf("it cannot exchange, and says %v", err)
		}
		return
	}
	inside, err2 := s.read(b+"/inside", 0)
	outside, err3 := s.read(a, 0)
	if must(t, err, err2, err3); inside != "third" || outside != "first" {
		t.Errorf("%q %q", inside, outside)
	}
	if err := files.Exchange(s.ctx, s.fsys, a, "none"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("exchanged with nothing: %v", err)
	}
	if text, err := s.read(a, 0); err != nil || text != "first" {
		t.Errorf("%q %v", text, err)
	}
}

// takesSteps: steps are taken in their order, up to one that fails.
func (s suite) takesSteps(t *testing.T, dir string) {
	must(t, s.create("x", "first"), s.create("y", "second"))
	steps := []files.Step{
		{Do: files.DoMkdir, Name: "folder", With: folderOf(mine)}, {Do: files.DoRename, Name: "x", Other: "folder/x"}, {Do: files.DoSyncFolder, Name: "folder"},
		{Do: files.DoCopyMarks, Name: "folder/x", Other: "y"}, {Do: files.DoRemove, Name: "y"},
		{Do: files.DoRename, Name: "y", Other: "folder/y"}, {Do: files.DoRemove, Name: "folder/x"},
	}
	taken, err := files.TakeSteps(s.ctx, s.fsys, steps)
	if taken.Steps != 5 || taken.Took < 0 || !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%+v, %v", taken, err)
	}
	if text, err := s.read("folder/x", 0); err != nil || text != "first" {
		t.Errorf("%q %v", text, err)
	}
	var openings []files.Step
	for i := range 300 {
		openings = append(openings, files.Step{Do: files.DoOpen, Name: map[bool]string{true: "gone", false: "folder/x"}[i == 270]})
	}
	if taken, err := files.TakeSteps(s.ctx, s.fsys, openings); taken.Steps != 270 || !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%+v, %v", taken, err)
	}
	s.makesRoom(t)
	if taken, err := files.TakeSteps(s.ctx, s.fsys, nil); taken.Steps != 0 || err != nil {
		t.Errorf("%+v, %v", taken, err)
	}
	if taken, err := files.TakeSteps(s.ctx, s.fsys, []files.Step{{Do: "overwrite", Name: "folder/x"}}); taken.Steps != 0 || !errors.Is(err, errors.ErrUnsupported) {
		t.Errorf("%+v, %v", taken, err)
	}
}

// makesRoom: one name is moved aside and another put in its place; where the first cannot be moved, the second is
// not, and nothing is lost.
func (s suite) makesRoom(t *testing.T) {
	swap := []files.Step{{Do: files.DoRename, Name: "live", Other: "aside"}, {Do: files.DoRename, Name: "new", Other: "live"}}
	must(t, s.fsys.Mkdir(s.ctx, "live", folderOf(mine)), s.fsys.Mkdir(s.ctx, "new", folderOf(mine)), s.create("live/x", "first"), s.create("new/x", "second"))
	if taken, err := files.TakeSteps(s.ctx, s.fsys, swap); taken.Steps != 2 || err != nil {
		t.Errorf("%+v, %v", taken, err)
	}
	must(t, s.fsys.Mkdir(s.ctx, "new", folderOf(mine)))
	if taken, err := files.TakeSteps(s.ctx, s.fsys, swap); taken.Steps != 0 || err == nil { // there is something aside
		t.Errorf("%+v, %v", taken, err)
	}
	must(t, s.create("notice", "away"))
	around := func(name string) []files.Step {
		return []files.Step{{Do: files.DoRename, Name: name, Other: "shown", Anyway: true}, {Do: files.DoRename, Name: "live", Other: "moved"}, {Do: files.DoRename, Name: "moved", Other: "live"}, {Do: files.DoRename, Name: "shown", Other: name, Anyway: true}}
	}
	for _, name := range []string{"notice", "none"} { // steps that are taken anyway stop none of the others
		if taken, err := files.TakeSteps(s.ctx, s.fsys, around(name)); taken.Steps != 4 || err != nil {
			t.Errorf("%s: %+v, %v", name, taken, err)
		}
	}
	if text, err := s.read("notice", 0); err != nil || text != "away" {
		t.Errorf("%q %v", text, err)
	}
	for name, want := range map[string]string{"live/x": "second", "aside/x": "first"} {
		if text, err := s.read(name, 0); err != nil || text != want {
			t.Errorf("%s: %q %v", name, text, err)
		}
	}
}

// everyCall makes each call on names: at is there, fresh is not.
func (s suite) everyCall(ctx context.Context, at, fresh string) map[string]error {
	s.ctx = ctx
	all := s.onExisting(at, fresh)
	all["Create"], all["Mkdir"], all["Symlink"] = s.create(fresh, ""), s.fsys.Mkdir(ctx, fresh, folderOf(mine)), s.fsys.Symlink(ctx, "x", fresh, mine)
	all["RemoveAll"], all["Writable"] = s.fsys.RemoveAll(ctx, at), s.fsys.Writable(ctx, at)
	if _, ok := s.fsys.(files.Exchanger); ok {
		all["Exchange"] = files.Exchange(ctx, s.fsys, at, fresh)
	}
	if _, ok := s.fsys.(files.Marker); ok {
		all["CopyMarks"] = files.CopyMarks(ctx, s.fsys, at, at)
	}
	if _, ok := s.fsys.(files.Mounter); ok {
		_, all["MountedAt"] = files.MountedAt(ctx, s.fsys, at)
	}
	if _, ok := s.fsys.(files.Locker); ok {
		_, all["Lock"] = files.Lock(ctx, s.fsys, at, nil)
	}
	if _, ok := s.fsys.(files.Measurer); ok {
		_, all["FreeSpace"] = files.FreeSpace(ctx, s.fsys, at)
	}
	if able, ok := s.fsys.(files.TreeReader); ok {
		all["WalkTree"] = able.WalkTree(ctx, at, files.Scope{}, func(string, files.Entry) error { return nil }, func(_ string, err error) error { return err })
		_, all["ReadTree"] = able.ReadTree(ctx, at, files.Scope{})
		all["HashFiles"] = able.HashFiles(ctx, ".", []string{at}, func(_ int, _ string, _ int64, err error) error { return err })
		all["ReadFiles"] = able.ReadFiles(ctx, ".", []string{at}, func(_ int, _ *files.Reading, err error) error { return err })
	}
	for _, step := range []files.Step{
		{Do: files.DoMkdir, Name: fresh, With: folderOf(mine)}, {Do: files.DoRemove, Name: at}, {Do: files.DoRename, Name: at, Other: fresh},
		{Do: files.DoSyncFolder, Name: at}, {Do: files.DoRename, Name: fresh, Other: at},
	} {
		_, all["TakeSteps: "+string(step.Do)] = files.TakeSteps(ctx, s.fsys, []files.Step{step})
	}
	return all
}

// leadOut: what is no name below the root is refused by every call, and nothing is done.
func (s suite) leadOut(t *testing.T, dir string) {
	must(t, os.WriteFile(filepath.Join(dir, "x"), []byte("x"), 0o600), os.Mkdir(filepath.Join(dir, "d"), 0o700))
	o := NewOutside(t, "x")
	up := strings.Repeat("../", strings.Count(dir, "/"))
	for _, name := range []string{"", "/", dir, dir + "/x", "..", "../x", "d/..", "d/../x", "./x", "d//x", "x/", "d/.", up + strings.TrimPrefix(filepath.ToSlash(o.Dir), "/") + "/x"} {
		for call, err := range s.everyCall(s.ctx, name, name) {
			if !errors.Is(err, fs.ErrInvalid) {
				t.Errorf("%s of %q: %v", call, name, err)
			}
		}
		o.Untouched(t, "a call on "+name)
	}
	for call, err := range map[string]error{
		"Create": s.create(".", ""), "Mkdir": s.fsys.Mkdir(s.ctx, ".", mine), "Symlink": s.fsys.Symlink(s.ctx, "x", ".", mine), "Remove": s.fsys.Remove(s.ctx, "."),
		"RemoveAll": s.fsys.RemoveAll(s.ctx, "."), "Rename": s.fsys.Rename(s.ctx, ".", "y"), "Rename to": s.fsys.Rename(s.ctx, "d", "."),
	} {
		if !errors.Is(err, fs.ErrInvalid) {
			t.Errorf("%s of the root: %v", call, err)
		}
	}
	if entries, err := s.fsys.List(s.ctx, "."); err != nil || len(entries) != 2 {
		t.Errorf("%v %v", entries, err)
	}
}

// movedRoot: the root stays the folder that was opened, whatever stands at its name.
func (s suite) movedRoot(t *testing.T, dir string) {
	if !s.handles {
		t.Skip("calls go by names here")
	}
	o := NewOutside(t, "x")
	must(t, s.create("x", "of the site"), os.Rename(dir, dir+"-moved"), os.Symlink(o.Dir, dir))
	if text, err := s.read("x", 0); err != nil || text != "of the site" {
		t.Errorf("%q %v", text, err)
	}
	must(t, s.create("y", "new"), s.fsys.Remove(s.ctx, "x"))
	o.Untouched(t, "a root whose name became a link")
	if _, err := os.Lstat(dir + "-moved/y"); err != nil {
		t.Error(err)
	}
	if fsys, err := s.disk.Open(s.ctx, dir); err == nil {
		t.Error("a link was opened as a root: ", fsys.Close())
	}
}

// ended: no call does anything once its context has ended, and what is open stops.
func (s suite) ended(t *testing.T, dir string) {
	must(t, s.fsys.Mkdir(s.ctx, "d", folderOf(mine)), s.create("d/x", "x"), s.create("x", "x"))
	ctx, cancel := context.WithCancel(s.ctx)
	reader, err := s.fsys.Open(ctx, "x", 0)
	must(t, err)
	writer, err := s.fsys.Create(ctx, "y", mine)
	must(t, err)
	cancel()
	for _, at := range []string{"d", "d/x"} {
		for call, err := range s.everyCall(ctx, at, "fresh") {
			if !errors.Is(err, context.Canceled) {
				t.Errorf("%s of %s: %v", call, at, err)
			}
		}
	}
	if _, err := io.ReadAll(reader); !errors.Is(err, context.Canceled) {
		t.Errorf("reading: %v", err)
	}
	if _, err := io.WriteString(writer, "late"); !errors.Is(err, context.Canceled) {
		t.Errorf("writing: %v", err)
	}
	if err := writer.Close(); !errors.Is(err, context.Canceled) {
		t.Errorf("what was not written is said to be safe: %v", err)
	}
	must(t, reader.Close())
	if _, err := s.disk.Open(ctx, dir); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	if _, err := s.disk.Real(ctx, dir); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	tree, err := files.ReadTree(s.ctx, s.fsys, ".", files.Scope{LeaveOut: []string{"y"}})
	if err != nil || len(tree) != 4 {
		t.Errorf("something was done all the same: %v %v", tree, err)
	}
}

func (s suite) manyAtOnce(t *testing.T, dir string) {
	var wait sync.WaitGroup
	for n := range 16 {
		wait.Go(func() {
			folder := path.Join(".", fmt.Sprint(n))
			err := s.fsys.Mkdir(s.ctx, folder, folderOf(mine))
			for i := range 8 {
				name := path.Join(folder, fmt.Sprint(i))
				err = errors.Join(err, s.create(name, name))
				text, readErr := s.read(name, 0)
				if err = errors.Join(err, readErr); err == nil && text != name {
					err = fmt.Errorf("%s holds %q", name, text)
				}
			}
			if err = errors.Join(err, s.fsys.RemoveAll(s.ctx, folder)); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
}

func (s suite) locks(t *testing.T, _ string) {
	if _, ok := s.fsys.(files.Locker); !ok {
		t.Skip("it cannot lock")
	}
	unlock, err := files.Lock(s.ctx, s.fsys, ".", nil)
	must(t, err)
	if _, err := files.Lock(s.ctx, s.fsys, ".", nil); !errors.Is(err, files.ErrLocked) {
		t.Errorf("the second lock: %v", err)
	}
	must(t, unlock())
	unlock, err = files.Lock(s.ctx, s.fsys, ".", nil)
	must(t, err, unlock())
}

func (s suite) trees(t *testing.T, dir string) {
	from := path.Join(".", "from")
	for _, name := range []string{"a/b/c", "a/d", "e"} {
		must(t, os.MkdirAll(filepath.Join(dir, path.Dir(path.Join(from, name))), 0o755), os.WriteFile(filepath.Join(dir, from, name), []byte(name), 0o644))
	}
	tree, err := files.ReadTree(s.ctx, s.fsys, from, files.Scope{})
	must(t, err)
	source := func(item files.Item) (io.ReadCloser, error) { return s.fsys.Open(s.ctx, path.Join(from, item.Path), 0) }
	to := path.Join(".", "to")
	must(t, files.WriteTree(s.ctx, s.fsys, to, tree, source, nil))
	written, err := files.ReadTree(s.ctx, s.fsys, to, files.Scope{})
	if differ := files.Exact.Compare(tree, written); err != nil || len(differ) > 0 {
		t.Errorf("%v %v", differ, err)
	}
	must(t, s.fsys.RemoveAll(s.ctx, to))
	if _, err := s.fsys.Lstat(s.ctx, to); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%v", err)
	}
}

// oneByOne is an FS that can do nothing but what every FS can.
type oneByOne struct{ files.FS }

// readTrees: what is read of a whole tree where it is is what is read name by name.
func (s suite) readTrees(t *testing.T, dir string) {
	able, ok := s.fsys.(files.TreeReader)
	if !ok {
		t.Skip("it reads no trees where they are")
	}
	large := strings.Repeat("between the tides \x00\xff", 40_000)
	for name, text := range map[string]string{"a/b/c": "c", "a/d": large, "e": "", "left/out": "x", "a/left": "stays"} {
		must(t, os.MkdirAll(filepath.Join(dir, path.Dir(name)), 0o755), os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	for i := range 300 {
		must(t, os.WriteFile(filepath.Join(dir, "a", fmt.Sprint("many-", i)), fmt.Appendf(nil, "%d", i), 0o600))
	}
	for _, scope := range []files.Scope{{}, {LeaveOut: []string{"left", "a/b"}}, {Only: "e"}} {
		for _, top := range []string{".", "a"} {
			whole, err := files.ReadTree(s.ctx, s.fsys, top, scope)
			must(t, err)
			walked, err := files.ReadTreeKnowing(s.ctx, s.fsys, top, scope, func(string, files.Entry) string { return "" })
			must(t, err)
			single, err := files.ReadTree(s.ctx, oneByOne{s.fsys}, top, scope)
			must(t, err)
			for _, tree := range []files.Tree{whole, walked} {
				if !slices.EqualFunc(tree, single, func(a, b files.Item) bool { return a.Modified.Equal(b.Modified) && sameItem(a, b) }) {
					t.Errorf("%s within %+v: %v, not %v", top, scope, tree, single)
				}
			}
		}
	}
	s.readsAll(t, able, large)
}

func sameItem(a, b files.Item) bool {
	a.Modified, b.Modified = time.Time{}, time.Time{}
	return a == b
}

// readsAll reads files that are there and one that is not, to the end, in part and not at all.
func (s suite) readsAll(t *testing.T, able files.TreeReader, large string) {
	names := []string{"b/c", "d", "gone", "d", "d", "left"}
	seen := 0
	must(t, able.ReadFiles(s.ctx, "a", names, func(i int, file *files.Reading, err error) error {
		if seen++; names[i] == "gone" {
			if !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("%s: %v", names[i], err)
			}
			return nil
		}
		must(t, err)
		if file.Before.Kind != files.File || file.Before.Name != path.Base(names[i]) {
			t.Errorf("%s is %+v", names[i], file.Before)
		}
		switch i {
		case 3: // passed over
			return nil
		case 4:
			part := make([]byte, 20)
			_, err := io.ReadFull(file, part)
			if err != nil || string(part) != large[:20] {
				t.Errorf("%q %v", part, err)
			}
			return nil
		}
		text, err := io.ReadAll(file)
		must(t, err)
		after, err := file.After()
		if want := map[int]string{0: "c", 1: large, 5: "stays"}[i]; err != nil || string(text) != want || after.Size != int64(len(want)) || !after.Modified.Equal(file.Before.Modified) {
			t.Errorf("%s: %d bytes of %d, %+v, %v", names[i], len(text), len(want), after, err)
		}
		return nil
	}))
	if seen != len(names) {
		t.Errorf("%d of %d files", seen, len(names))
	}
	stop := errors.New("enough")
	for _, err := range []error{
		able.ReadFiles(s.ctx, "a", names, func(int, *files.Reading, error) error { return stop }),
		able.HashFiles(s.ctx, "a", names, func(int, string, int64, error) error { return stop }),
		able.WalkTree(s.ctx, ".", files.Scope{}, func(string, files.Entry) error { return stop }, func(string, error) error { return stop }),
	} {
		if !errors.Is(err, stop) {
			t.Errorf("it does not stop: %v", err)
		}
	}
}
