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
	"sync/atomic"
	"testing"

	"wetland/core/files"
)

// outside is a folder that no call on the site may reach.
type outside struct {
	dir    string
	before string
}

func newOutside(t *testing.T) *outside {
	t.Helper()
	o := &outside{dir: t.TempDir()}
	must(t, os.WriteFile(filepath.Join(o.dir, "x"), []byte("a private key"), 0o600), os.Mkdir(filepath.Join(o.dir, "d"), 0o700), os.WriteFile(filepath.Join(o.dir, "d/x"), []byte("another"), 0o400))
	o.before = o.state(t)
	return o
}

// state says what an attacker could be after: names, bytes, modes, owners and times.
func (o *outside) state(t *testing.T) string {
	t.Helper()
	all := ""
	must(t, filepath.WalkDir(o.dir, func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		all += fmt.Sprintf("%s %v %v", name, info.Mode(), info.ModTime())
		if info.Mode().IsRegular() {
			text, err := os.ReadFile(name)
			all += string(text)
			if err != nil {
				return err
			}
		}
		all += "\n"
		return nil
	}))
	return all
}

func (o *outside) untouched(t *testing.T, call string) {
	t.Helper()
	if now := o.state(t); now != o.before {
		t.Errorf("%s reached outside:\n%s\nwas\n%s", call, now, o.before)
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
	return map[string]func() (string, error){
		"Open":       func() (string, error) { return s.read(x, 0) },
		"List":       func() (string, error) { entries, err := s.place.List(d); return fmt.Sprint(entries), err },
		"Lstat":      func() (string, error) { entry, err := s.place.Lstat(x); return fmt.Sprint(entry), err },
		"Create":     only(func() error { return s.create(path.Join(folder, "new"), "planted") }),
		"Mkdir":      only(func() error { return s.place.Mkdir(path.Join(folder, "newd"), open) }),
		"Symlink":    only(func() error { return s.place.Symlink("x", path.Join(folder, "newl"), open) }),
		"Settle":     only(func() error { return s.place.Settle(x, open) }),
		"Settle d":   only(func() error { return s.place.Settle(d, open) }),
		"Remove":     only(func() error { return s.place.Remove(x) }),
		"RemoveAll":  only(func() error { return s.place.RemoveAll(context.Background(), d) }),
		"Rename":     only(func() error { return s.place.Rename(x, path.Join(safe, "stolen")) }),
		"Rename to":  only(func() error { return s.place.Rename(path.Join(safe, "plain"), x) }),
		"Exchange":   only(func() error { return s.place.Exchange(path.Join(safe, "plain"), x) }),
		"CopyMarks":  only(func() error { return s.place.CopyMarks(path.Join(safe, "plain"), x) }),
		"SyncFolder": only(func() error { return s.syncFolder(d) }),
		"Lock":       only(func() error { _, err := s.place.Lock(d); return err }),
	}
}

// linksOnTheWay: a link in the place of a folder is met by each call, and followed by none.
func (s suite) linksOnTheWay(t *testing.T, dir string) {
	if !s.abilities.Owners {
		t.Skip("calls go by names here")
	}
	o := newOutside(t)
	must(t, os.WriteFile(filepath.Join(dir, "plain"), []byte("plain"), 0o600), os.Symlink(o.dir, filepath.Join(dir, "link")), os.Symlink(filepath.Join(o.dir, "x"), filepath.Join(dir, "x")), os.Symlink(filepath.Join(o.dir, "d"), filepath.Join(dir, "d")))
	for call, do := range s.calls(path.Join(dir, "link"), dir) {
		if read, err := do(); err == nil {
			t.Errorf("%s went through a link, and got %q", call, read)
		}
		o.untouched(t, call)
	}
	for _, call := range []string{"Open", "List", "Settle", "Settle d", "CopyMarks", "SyncFolder"} { // which are not for links themselves
		if read, err := s.calls(dir, dir)[call](); err == nil {
			t.Errorf("%s followed the link it was called on, and got %q", call, read)
		}
		o.untouched(t, call)
	}
}

// attacker: somebody exchanges a folder and a link to another one, over and over, while
// calls are made and trees are read, written and removed. Whatever the calls answer, nothing
// outside is read or changed.
func (s suite) attacker(t *testing.T, dir string) {
	if !s.abilities.Owners {
		t.Skip("calls go by names here")
	}
	o := newOutside(t)
	live, aside, link := filepath.Join(dir, "live"), filepath.Join(dir, "aside"), filepath.Join(dir, "link")
	safe := filepath.Join(dir, "safe")
	must(t, os.Mkdir(live, 0o777), os.Mkdir(safe, 0o777), os.Symlink(o.dir, link))
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
	private := []string{"a private key", "another"}
	for round := range Rounds {
		_ = os.RemoveAll(filepath.Join(safe, "plain"))
		must(t, os.WriteFile(filepath.Join(safe, "plain"), []byte("plain"), 0o600))
		_ = folder.RemoveAll("x")
		must(t, folder.WriteFile("x", []byte("of the site"), 0o600), folder.MkdirAll("d", 0o700))
		for call, do := range s.calls(live, safe) {
			read, _ := do()
			for _, secret := range private {
				if read == secret {
					t.Errorf("%s read %q", call, read)
				}
			}
			o.untouched(t, call)
		}
		tree, err := files.ReadTree(context.Background(), s.place, live, nil)
		for _, item := range tree {
			if err == nil && item.Path == "d/x" {
				t.Error("a tree holds a file from outside")
			}
		}
		source := func(files.Item) (io.ReadCloser, error) { return s.place.Open(path.Join(safe, "plain"), 0) }
		to := path.Join(live, fmt.Sprint("tree", round))
		_ = files.WriteTree(context.Background(), s.place, to, files.Tree{{Path: ".", Kind: files.Folder, Mode: 0o777, Owner: files.Unowned, Group: files.Unowned}, {Path: "x", Kind: files.File, Mode: 0o777, Owner: files.Unowned, Group: files.Unowned}}, source, nil)
		o.untouched(t, "WriteTree")
		_ = s.place.RemoveAll(context.Background(), to)
		_, _ = files.Clear(context.Background(), s.place, live)
		o.untouched(t, "Clear")
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
	if !s.abilities.Owners || os.Geteuid() != 0 {
		t.Skip("only root may give files away")
	}
	private := filepath.Join(t.TempDir(), "private")
	must(t, os.WriteFile(private, []byte("a private key"), 0o600), os.Chown(private, 1, 1))
	name := path.Join(dir, "linked")
	if err := os.Link(private, name); err != nil {
		t.Skip(err) // on another disk
	}
	if err := s.place.Settle(name, files.Attributes{Mode: 0o666, Owner: 33, Group: 33}); !errors.Is(err, files.ErrManyNames) {
		t.Errorf("%v", err)
	}
	entry, err := s.place.Lstat(filepath.ToSlash(private))
	if err != nil || entry.Mode != 0o600 || entry.Owner != 1 {
		t.Errorf("%+v %v", entry, err)
	}
	must(t, os.Remove(private))
	must(t, s.place.Settle(name, files.Attributes{Mode: 0o644, Owner: 33, Group: 33})) // its only name by now
}
