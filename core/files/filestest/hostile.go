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
	"strings"
	"sync/atomic"
	"testing"

	"wetland/core/files"
)

// Outside is a private folder, with files in it, that nothing that is done to a site may
// reach.
type Outside struct {
	Dir    string
	before string
}

// Secret is in each of its files.
const Secret = "a private key"

// NewOutside makes one with files of these names, slash-separated.
func NewOutside(t testing.TB, names ...string) *Outside {
	t.Helper()
	o := &Outside{Dir: t.TempDir()}
	for _, name := range names {
		file := filepath.Join(o.Dir, filepath.FromSlash(name))
		err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o700), os.WriteFile(file, []byte(Secret+" of "+name), 0o600))
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(o.Dir, 0o700); err != nil {
		t.Fatal(err)
	}
	o.before = o.state(t)
	return o
}

// state says what an attacker could be after: names, bytes, modes, owners and times.
func (o *Outside) state(t testing.TB) string {
	t.Helper()
	all := ""
	err := filepath.WalkDir(o.Dir, func(name string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		entry, err := describe(name)
		if err != nil {
			return err
		}
		all += fmt.Sprintf("%s %s %o %d:%d %s", name, entry.Kind, entry.Mode, entry.Owner, entry.Group, entry.Modified)
		if entry.Kind == files.File {
			text, err := os.ReadFile(name)
			all += " " + string(text)
			if err != nil {
				return err
			}
		}
		all += "\n"
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// describe looks at a file of this machine, whatever implementation is tested.
func describe(name string) (files.Entry, error) {
	folder, err := files.Local{}.Open(context.Background(), filepath.ToSlash(filepath.Dir(name)))
	if err != nil {
		return files.Entry{}, err
	}
	defer folder.Close()
	return folder.Lstat(context.Background(), filepath.Base(name))
}

// Untouched fails the test if the folder is not as it was.
func (o *Outside) Untouched(t testing.TB, after string) {
	t.Helper()
	if now := o.state(t); now != o.before {
		t.Errorf("%s reached outside:\n%s\nwas\n%s", after, now, o.before)
		o.before = now
	}
}

// calls are all that is done with a file x and a folder d below a folder, by name. Each
// returns what it read.
func (s suite) calls(folder, safe string) map[string]func() (string, error) {
	x, d := path.Join(folder, "x"), path.Join(folder, "d")
	open := files.Attributes{Mode: 0o777, Owner: files.Unowned, Group: files.Unowned}
	only := func(call func() error) func() (string, error) {
		return func() (string, error) { return "", call() }
	}
	all := map[string]func() (string, error){
		"Open":       func() (string, error) { return s.read(x, 0) },
		"List":       func() (string, error) { entries, err := s.fsys.List(s.ctx, d); return fmt.Sprint(entries), err },
		"Lstat":      func() (string, error) { entry, err := s.fsys.Lstat(s.ctx, x); return fmt.Sprint(entry), err },
		"Create":     only(func() error { return s.create(path.Join(folder, "new"), "planted") }),
		"Mkdir":      only(func() error { return s.fsys.Mkdir(s.ctx, path.Join(folder, "newd"), open) }),
		"Symlink":    only(func() error { return s.fsys.Symlink(s.ctx, "x", path.Join(folder, "newl"), open) }),
		"Settle":     only(func() error { return s.fsys.Settle(s.ctx, x, open) }),
		"Settle d":   only(func() error { return s.fsys.Settle(s.ctx, d, open) }),
		"Remove":     only(func() error { return s.fsys.Remove(s.ctx, x) }),
		"RemoveAll":  only(func() error { return s.fsys.RemoveAll(s.ctx, d) }),
		"Rename":     only(func() error { return s.fsys.Rename(s.ctx, x, path.Join(safe, "stolen")) }),
		"Rename to":  only(func() error { return s.fsys.Rename(s.ctx, path.Join(safe, "plain"), x) }),
		"Exchange":   only(func() error { return files.Exchange(s.ctx, s.fsys, path.Join(safe, "plain"), x) }),
		"CopyMarks":  only(func() error { return files.CopyMarks(s.ctx, s.fsys, path.Join(safe, "plain"), x) }),
		"SyncFolder": only(func() error { return s.fsys.SyncFolder(s.ctx, d) }),
		"Lock":       only(func() error { _, err := files.Lock(s.ctx, s.fsys, d, nil); return err }),
	}
	if _, ok := s.fsys.(files.Marker); !ok {
		delete(all, "CopyMarks") // which does nothing then
	}
	return all
}

// linksOnTheWay: a link in the place of a folder is met by each call, and followed by none.
func (s suite) linksOnTheWay(t *testing.T, dir string) {
	if !s.owners {
		t.Skip("calls go by names here")
	}
	o := NewOutside(t, "x", "d/x")
	must(t, os.WriteFile(filepath.Join(dir, "plain"), []byte("plain"), 0o600), os.Symlink(o.Dir, filepath.Join(dir, "link")), os.Symlink(filepath.Join(o.Dir, "x"), filepath.Join(dir, "x")), os.Symlink(filepath.Join(o.Dir, "d"), filepath.Join(dir, "d")))
	for call, do := range s.calls("link", ".") {
		if read, err := do(); err == nil {
			t.Errorf("%s went through a link, and got %q", call, read)
		}
		o.Untouched(t, call)
	}
	for _, call := range []string{"Open", "List", "Settle", "Settle d", "CopyMarks", "SyncFolder"} { // which are not for links themselves
		do := s.calls(".", ".")[call]
		if do == nil {
			continue
		}
		if read, err := do(); err == nil {
			t.Errorf("%s followed the link it was called on, and got %q", call, read)
		}
		o.Untouched(t, call)
	}
}

// attacker: somebody exchanges a folder and a link to another one, over and over, while
// calls are made and trees are read, written and removed. Whatever the calls answer, nothing
// outside is read or changed.
func (s suite) attacker(t *testing.T, dir string) {
	if !s.handles {
		t.Skip("calls go by names here")
	}
	o := NewOutside(t, "x", "d/x")
	live, aside, link := filepath.Join(dir, "live"), filepath.Join(dir, "aside"), filepath.Join(dir, "link")
	safe := filepath.Join(dir, "safe")
	must(t, os.Mkdir(live, 0o777), os.Mkdir(safe, 0o777), os.Symlink(o.Dir, link))
	folder, err := os.OpenRoot(live) // the folder itself, whatever its name is
	must(t, err)
	defer folder.Close()
	var stop atomic.Bool
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for !stop.Load() {
			_ = os.Rename(live, aside)
			_ = os.Rename(link, live)
			_ = os.Rename(live, link)
			_ = os.Rename(aside, live)
		}
	}()
	defer func() {
		stop.Store(true)
		<-ended
	}()
	for round := range Rounds {
		_ = os.RemoveAll(filepath.Join(safe, "plain"))
		must(t, os.WriteFile(filepath.Join(safe, "plain"), []byte("plain"), 0o600))
		_ = folder.RemoveAll("x")
		must(t, folder.WriteFile("x", []byte("of the site"), 0o600), folder.MkdirAll("d", 0o700))
		for call, do := range s.calls("live", "safe") {
			read, _ := do()
			if strings.Contains(read, Secret) {
				t.Errorf("%s read %q", call, read)
			}
			o.Untouched(t, call)
		}
		tree, err := files.ReadTree(s.ctx, s.fsys, "live", files.Scope{})
		for _, item := range tree {
			if err == nil && item.Path == "d/x" {
				t.Error("a tree holds a file from outside")
			}
		}
		source := func(files.Item) (io.ReadCloser, error) { return s.fsys.Open(s.ctx, "safe/plain", 0) }
		to := path.Join("live", fmt.Sprint("tree", round))
		_ = files.WriteTree(s.ctx, s.fsys, to, files.Tree{{Path: ".", Kind: files.Folder, Mode: 0o777, Owner: files.Unowned, Group: files.Unowned}, {Path: "x", Kind: files.File, Mode: 0o777, Owner: files.Unowned, Group: files.Unowned}}, source, nil)
		o.Untouched(t, "WriteTree")
		_ = s.fsys.RemoveAll(s.ctx, to)
		_, _ = files.Clear(s.ctx, s.fsys, "live")
		o.Untouched(t, "Clear")
		if t.Failed() {
			return
		}
	}
}

// Rounds is how often the attacker is given a chance.
var Rounds = 50

// furtherNames: a file of somebody else's that was linked into the site keeps its owner and
// mode.
func (s suite) furtherNames(t *testing.T, dir string) {
	if !s.handles || os.Geteuid() != 0 {
		t.Skip("only root may give files away")
	}
	for i, owner := range []int{0, 1} {
		private := filepath.Join(t.TempDir(), "private")
		must(t, os.WriteFile(private, []byte(Secret), 0o600), os.Chown(private, owner, owner))
		name := fmt.Sprint("linked", i)
		if err := os.Link(private, filepath.Join(dir, name)); err != nil {
			t.Skip(err) // on another disk
		}
		if err := s.fsys.Settle(s.ctx, name, files.Attributes{Mode: 0o666, Owner: 33, Group: 33}); !errors.Is(err, files.ErrManyNames) {
			t.Errorf("%v", err)
		}
		entry, err := describe(private)
		if err != nil || entry.Mode != 0o600 || entry.Owner != owner {
			t.Errorf("%+v %v", entry, err)
		}
		must(t, os.Remove(private))
		must(t, s.fsys.Settle(s.ctx, name, files.Attributes{Mode: 0o644, Owner: 33, Group: 33})) // its only name by now
	}
}
