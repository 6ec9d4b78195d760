package packs

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"wetland/core/progress"
)

// On top of a store, all of it is found, and none of it is changed.
func TestOverAnotherStore(t *testing.T) {
	ctx := t.Context()
	dir, other := filepath.Join(t.TempDir(), "own"), filepath.Join(t.TempDir(), "store")
	below, err := Open(ctx, other, nil)
	if err != nil {
		t.Fatal(err)
	}
	put := func(s *Store, text string) ID {
		t.Helper()
		adder := s.NewAdder(ctx, progress.Silent{})
		id, err := adder.Add([]byte(text), false)
		if err := errors.Join(err, adder.Finish()); err != nil {
			t.Fatal(err)
		}
		return id
	}
	known := put(below, "what was there")
	if err := errors.Join(PutWhole(ctx, below.Bytes, ManifestFolder+"snap-1"+ManifestSuffix, []byte("one")), below.Close()); err != nil {
		t.Fatal(err)
	}
	before := content(t, other)
	top, err := OpenOver(ctx, dir, other)
	if err != nil {
		t.Fatal(err)
	}
	if text, err := top.Piece(ctx, known); err != nil || string(text) != "what was there" || top.Name() != below.Name() {
		t.Errorf("%q, %v; its name is %q", text, err, top.Name())
	}
	put(top, "what is added")
	if err := PutWhole(ctx, top.Bytes, ManifestFolder+"snap-1"+ManifestSuffix, nil); !errors.Is(err, fs.ErrExist) {
		t.Errorf("a name of the other store is given again: %v", err)
	}
	if err := errors.Join(PutWhole(ctx, top.Bytes, ManifestFolder+"snap-2"+ManifestSuffix, []byte("two")), top.Bytes.Delete(ctx, ManifestFolder+"snap-2"+ManifestSuffix)); err != nil {
		t.Error(err)
	}
	for name, err := range map[string]error{
		"delete":  top.Bytes.Delete(ctx, ManifestFolder+"snap-1"+ManifestSuffix),
		"replace": top.Bytes.Replace(ctx, ManifestFolder+"snap-1"+ManifestSuffix, []byte("one"), nil),
	} {
		if !errors.Is(err, fs.ErrPermission) {
			t.Errorf("%s what is the other store's: %v", name, err)
		}
	}
	if err := top.Bytes.Delete(ctx, "nothing"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("delete what is not there: %v", err)
	}
	if now := content(t, other); now != before {
		t.Errorf("the other store was changed:\n%s\nwas\n%s", now, before)
	}
	waiting, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := below.Bytes.Hold(waiting, true); err == nil {
		t.Error("the other store can be tidied meanwhile")
	}
	if err := top.Close(); err != nil {
		t.Error(err)
	}
}

// content lists the files of a folder with what is in them.
func content(t *testing.T, dir string) (all string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		text, err := os.ReadFile(name)
		all += name + "=" + string(text) + "\n"
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}
