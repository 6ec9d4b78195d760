package snapshot

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/core/host"
	"wetland/core/host/hosttest"
	"wetland/core/progress"
	"wetland/core/site"
)

// far is a folder on another machine. It hashes files there, and counts the bytes that come from it.
type far struct {
	filestest.Able
	read map[string]int
}

func (far) Distant() bool { return true }

func (f far) WalkTree(ctx context.Context, top string, scope files.Scope, visit func(string, files.Entry) error, failed func(string, error) error) error {
	return files.WalkPast(ctx, f.Able, top, scope, visit, failed)
}

func (f far) ReadTree(ctx context.Context, top string, scope files.Scope) (files.Tree, error) {
	return files.ReadTree(ctx, f.Able, top, scope)
}

func (f far) HashFiles(ctx context.Context, top string, names []string, each func(int, string, int64, error) error) error {
	return files.HashFiles(ctx, f.Able, top, names, each)
}

func (f far) ReadFiles(ctx context.Context, top string, names []string, each func(int, *files.Reading, error) error) error {
	for i, name := range names {
		at := filepath.ToSlash(filepath.Join(top, name))
		before, err := f.Lstat(ctx, at)
		var file io.ReadCloser
		if err == nil {
			file, err = f.Open(ctx, at, 0)
		}
		if err != nil {
			return err
		}
		f.read[name]++
		after := func() (files.Entry, error) { return f.Lstat(ctx, at) }
		if err := errors.Join(each(i, &files.Reading{Reader: file, Before: before, After: after}, nil), file.Close()); err != nil {
			return err
		}
	}
	return nil
}

// Of a site on another machine no bytes come that are here already, and what the snapshot holds is what
// is there.
func TestOnlyUnknownBytesTravel(t *testing.T) {
	s := newSmall(t)
	read := map[string]int{}
	s.site.Workspace.Host = hosttest.WithDisk(filestest.Around(host.Here, func(fsys files.FS) files.FS { return far{filestest.Able{FS: fsys}, read} }))
	var err error
	if s.site, err = site.Open(t.Context(), s.site.Workspace); err != nil {
		t.Fatal(err)
	}
	store := s.store(t)
	take := func(brought ...Brought) *Manifest {
		t.Helper()
		clear(read)
		m, err := Take(t.Context(), store, Subject{Site: s.site, Database: s.db, Brought: brought}, progress.Silent{})
		if err != nil {
			t.Fatal(err)
		}
		if err := Verify(t.Context(), store, m, progress.Silent{}); err != nil {
			t.Fatal(err)
		}
		is, err := files.ReadTree(t.Context(), s.site.Files, m.Areas[0].Path, site.ScopeOf(s.site.Areas()[0]))
		if differ := files.Exact.Compare(m.Areas[0].Tree(), is); err != nil || len(differ) > 0 {
			t.Errorf("%v %v", differ, err)
		}
		return m
	}
	take()
	if read["uploads/large.bin"] != 1 || read["uploads/empty"] != 1 {
		t.Errorf("read at first: %v", read)
	}

	write := func(name, text string) {
		t.Helper()
		file := filepath.Join(s.site.Root, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chtimes(filepath.Join(s.site.Root, "uploads/large.bin"), time.Now(), time.Now().Add(-time.Hour)); err != nil {
		t.Fatal(err)
	}
	write("themes/quay/theme.toml", "name = \"Quay\"\nversion = \"1.1\"\n") // as long as before
	texts := map[string]string{"plugin.toml": "name = \"Fog\"\n", "horn.css": "loud {}", "edited.css": "as it came", "longer.css": "short"}
	place := s.site.Root + "/plugins/fog"
	var tree files.Tree
	for name, text := range texts {
		hash, size, _ := files.Hash(strings.NewReader(text))
		tree = append(tree, files.Item{Path: name, Kind: files.File, Size: size, Hash: hash})
		write("plugins/fog/"+name, text)
	}
	write("plugins/fog/edited.css", "as it went")
	write("plugins/fog/longer.css", "not short")
	texts["horn.css"] = "quiet{}" // what was brought is not here any more
	take(Brought{Place: place, Tree: tree, Source: func(item files.Item) (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader([]byte(texts[item.Path]))), nil
	}})
	var names []string
	for name := range read {
		names = append(names, name)
	}
	slices.Sort(names)
	if want := []string{"plugins/fog/edited.css", "plugins/fog/horn.css", "plugins/fog/longer.css", "themes/quay/theme.toml"}; !slices.Equal(names, want) {
		t.Errorf("read %v, want %v", names, want)
	}
}
