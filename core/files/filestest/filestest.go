// Package filestest holds an implementation of files.Place against its whole contract, as
// testing/fstest does for file systems. Begin reading at TestPlace.
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
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wetland/core/files"
)

// TestPlace holds place against the contract of files.Place. dir is an empty folder, without
// a symbolic link in its path, that the test can reach by package os as well: there it looks
// at what the place did, and puts things in its way.
func TestPlace(t *testing.T, place files.Place, dir string) {
	t.Helper()
	s := suite{place: place, abilities: place.Abilities()}
	for name, test := range map[string]func(t *testing.T, dir string){
		"what is written is read":       s.writesAndReads,
		"odd names":                     s.oddNames,
		"attributes":                    s.attributes,
		"what is missing":               s.missing,
		"what is there":                 s.there,
		"remove":                        s.removes,
		"rename and exchange":           s.renames,
		"links on the way":              s.linksOnTheWay,
		"links that come and go":        s.attacker,
		"pipes":                         s.pipes,
		"further names":                 s.furtherNames,
		"a context that has ended":      s.ended,
		"many at once":                  s.manyAtOnce,
		"one lock at a time":            s.locks,
		"trees are written and removed": s.trees,
	} {
		t.Run(name, func(t *testing.T) {
			folder := filepath.Join(dir, strings.ReplaceAll(name, " ", "-"))
			must(t, os.Mkdir(folder, 0o755))
			test(t, filepath.ToSlash(folder))
		})
	}
}

type suite struct {
	place     files.Place
	abilities files.Abilities
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
	file, err := s.place.Create(name, mine)
	if err != nil {
		return err
	}
	_, err = io.WriteString(file, text)
	return errors.Join(err, file.Close())
}

func (s suite) read(name string, offset int64) (string, error) {
	file, err := s.place.Open(name, offset)
	if err != nil {
		return "", err
	}
	text, err := io.ReadAll(file)
	return string(text), errors.Join(err, file.Close())
}

func (s suite) writesAndReads(t *testing.T, dir string) {
	zeros := strings.Repeat("\x00", 300<<10)
	for name, text := range map[string]string{"empty": "", "text": "low water at dawn", "zeros": zeros, "holes": "a" + zeros + "b" + zeros} {
		at := path.Join(dir, name)
		must(t, s.create(at, text))
		got, err := s.read(at, 0)
		if err != nil || got != text {
			t.Errorf("%s: %d bytes of %d, %v", name, len(got), len(text), err)
		}
		if entry, err := s.place.Lstat(at); err != nil || entry.Kind != files.File || entry.Size != int64(len(text)) || entry.Name != name {
			t.Errorf("%+v %v", entry, err)
		}
	}
	if got, err := s.read(path.Join(dir, "text"), 4); err != nil || got != "water at dawn" {
		t.Errorf("from the fourth byte: %q %v", got, err)
	}
	if got, err := s.read(path.Join(dir, "text"), 400); err != nil || got != "" {
		t.Errorf("from behind the end: %q %v", got, err)
	}
}

func (s suite) oddNames(t *testing.T, dir string) {
	names := []string{"-rf", "with space", "new\nline", "'quote\"", "ümlaut", "u\u0308mlaut", "*", "..x", ".hidden", strings.Repeat("n", 200)}
	for _, name := range names {
		must(t, s.create(path.Join(dir, name), name))
	}
	entries, err := s.place.List(dir)
	must(t, err)
	var listed []string
	for _, entry := range entries {
		listed = append(listed, entry.Name)
		if text, err := s.read(path.Join(dir, entry.Name), 0); err != nil || text != entry.Name {
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
		name := path.Join(dir, fmt.Sprint("f", i))
		with := files.Attributes{Mode: mode, Owner: files.Unowned, Group: files.Unowned, Modified: when}
		file, err := s.place.Create(name, with)
		must(t, err)
		must(t, file.Close())
		s.has(t, name, with)
		other := with
		other.Mode, other.Modified = 0o600, when.Add(time.Hour)
		must(t, s.place.Settle(name, other))
		s.has(t, name, other)
		folder := path.Join(dir, fmt.Sprint("d", i))
		must(t, s.place.Mkdir(folder, folderOf(with)), s.place.Settle(folder, folderOf(with)))
		s.has(t, folder, folderOf(with))
	}
	must(t, s.place.Symlink("../nowhere at all", path.Join(dir, "link"), mine))
	if entry, err := s.place.Lstat(path.Join(dir, "link")); err != nil || entry.Kind != files.Link || entry.Target != "../nowhere at all" {
		t.Errorf("%+v %v", entry, err)
	}
}

func (s suite) has(t *testing.T, name string, with files.Attributes) {
	t.Helper()
	entry, err := s.place.Lstat(name)
	if err != nil {
		t.Fatal(err)
	}
	if s.abilities.Owners && entry.Mode != with.Mode {
		t.Errorf("%s has the mode %o, want %o", name, entry.Mode, with.Mode)
	}
	if grain := s.abilities.TimeGrain; !entry.Modified.Truncate(grain).Equal(with.Modified.Truncate(grain)) {
		t.Errorf("%s has the time %s, want %s", name, entry.Modified, with.Modified)
	}
}

// missing: each call says of a name that does not exist that it does not.
func (s suite) missing(t *testing.T, dir string) {
	for _, at := range []string{path.Join(dir, "none"), path.Join(dir, "none/of/these")} {
		for call, err := range s.onExisting(at, path.Join(dir, "other")) {
			if !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("%s of %s: %v", call, at, err)
			}
		}
	}
	if err := s.place.RemoveAll(context.Background(), path.Join(dir, "none/of/these")); err != nil {
		t.Errorf("removing all of what is gone: %v", err)
	}
	if err := s.create(path.Join(dir, "none/x"), ""); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%v", err)
	}
}

// onExisting makes every call that wants something to be there.
func (s suite) onExisting(at, other string) map[string]error {
	_, lstat := s.place.Lstat(at)
	_, list := s.place.List(at)
	_, open := s.read(at, 0)
	return map[string]error{
		"Lstat": lstat, "List": list, "Open": open, "Settle": s.place.Settle(at, mine), "Remove": s.place.Remove(at),
		"Rename": s.place.Rename(at, other), "SyncFolder": s.syncFolder(at),
	}
}

func (s suite) syncFolder(name string) error {
	if !s.abilities.Owners { // as on Windows, where there is no such thing
		return fs.ErrNotExist
	}
	return s.place.SyncFolder(name)
}

// there: what is there is never replaced by what is made.
func (s suite) there(t *testing.T, dir string) {
	for i, make := range []func(name string) error{
		func(name string) error { return os.WriteFile(name, []byte("first"), 0o600) },
		func(name string) error { return os.Mkdir(name, 0o700) },
		func(name string) error { return os.Symlink(dir+"/nowhere", name) },
	} {
		at := path.Join(dir, fmt.Sprint(i))
		must(t, make(filepath.FromSlash(at)))
		before, err := s.place.Lstat(at)
		must(t, err)
		for call, err := range map[string]error{"Create": s.create(at, "second"), "Mkdir": s.place.Mkdir(at, folderOf(mine)), "Symlink": s.place.Symlink("x", at, mine)} {
			if !errors.Is(err, fs.ErrExist) {
				t.Errorf("%s over %s: %v", call, before.Kind, err)
			}
		}
		if now, err := s.place.Lstat(at); err != nil || now != before {
			t.Errorf("%+v %v, was %+v", now, err, before)
		}
	}
	if _, err := os.Lstat(filepath.FromSlash(dir + "/nowhere")); err == nil {
		t.Error("a link was followed")
	}
}

func (s suite) removes(t *testing.T, dir string) {
	must(t, s.place.Mkdir(path.Join(dir, "full"), folderOf(mine)), s.create(path.Join(dir, "full/x"), "x"), s.place.Symlink(dir, path.Join(dir, "full/link"), mine))
	if err := s.place.Remove(path.Join(dir, "full")); err == nil {
		t.Error("a folder was removed with what is in it")
	}
	must(t, s.place.Remove(path.Join(dir, "full/x")), s.place.Remove(path.Join(dir, "full/link")), s.place.Remove(path.Join(dir, "full")))
	if entries, err := s.place.List(dir); err != nil || len(entries) > 0 {
		t.Errorf("%v %v", entries, err)
	}
}

func (s suite) renames(t *testing.T, dir string) {
	a, b := path.Join(dir, "a"), path.Join(dir, "b")
	must(t, s.create(a, "first"), s.create(b, "second"), s.place.Rename(a, b))
	if text, err := s.read(b, 0); err != nil || text != "first" {
		t.Errorf("%q %v", text, err)
	}
	must(t, s.place.Mkdir(a, folderOf(mine)), s.create(a+"/inside", "third"))
	err := s.place.Exchange(a, b)
	if !s.abilities.Exchange {
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
	if err := s.place.Exchange(a, dir+"/none"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("exchanged with nothing: %v", err)
	}
	if text, err := s.read(a, 0); err != nil || text != "first" {
		t.Errorf("%q %v", text, err)
	}
}

func (s suite) ended(t *testing.T, dir string) {
	must(t, s.place.Mkdir(path.Join(dir, "d"), folderOf(mine)), s.create(path.Join(dir, "d/x"), "x"))
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if err := s.place.RemoveAll(ctx, path.Join(dir, "d")); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	if _, err := s.place.Lstat(path.Join(dir, "d/x")); err != nil {
		t.Errorf("it was removed all the same: %v", err)
	}
}

func (s suite) manyAtOnce(t *testing.T, dir string) {
	var wait sync.WaitGroup
	for n := range 16 {
		wait.Go(func() {
			folder := path.Join(dir, fmt.Sprint(n))
			err := s.place.Mkdir(folder, folderOf(mine))
			for i := range 8 {
				name := path.Join(folder, fmt.Sprint(i))
				err = errors.Join(err, s.create(name, name))
				text, readErr := s.read(name, 0)
				if err = errors.Join(err, readErr); err == nil && text != name {
					err = fmt.Errorf("%s holds %q", name, text)
				}
			}
			if err = errors.Join(err, s.place.RemoveAll(context.Background(), folder)); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
}

func (s suite) locks(t *testing.T, dir string) {
	unlock, err := s.place.Lock(dir)
	must(t, err)
	if _, err := s.place.Lock(dir); !errors.Is(err, files.ErrLocked) {
		t.Errorf("the second lock: %v", err)
	}
	must(t, unlock())
	unlock, err = s.place.Lock(dir)
	must(t, err, unlock())
}

func (s suite) trees(t *testing.T, dir string) {
	from := path.Join(dir, "from")
	for _, name := range []string{"a/b/c", "a/d", "e"} {
		must(t, os.MkdirAll(filepath.FromSlash(path.Dir(path.Join(from, name))), 0o755), os.WriteFile(filepath.FromSlash(path.Join(from, name)), []byte(name), 0o644))
	}
	tree, err := files.ReadTree(context.Background(), s.place, from, nil)
	must(t, err)
	source := func(item files.Item) (io.ReadCloser, error) { return s.place.Open(path.Join(from, item.Path), 0) }
	to := path.Join(dir, "to")
	must(t, files.WriteTree(context.Background(), s.place, to, tree, source, nil))
	written, err := files.ReadTree(context.Background(), s.place, to, nil)
	if differ := files.Exact.Compare(tree, written); err != nil || len(differ) > 0 {
		t.Errorf("%v %v", differ, err)
	}
	must(t, s.place.RemoveAll(context.Background(), to))
	if _, err := s.place.Lstat(to); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%v", err)
	}
}
