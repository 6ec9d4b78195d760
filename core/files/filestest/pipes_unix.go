//go:build unix

package filestest

import (
	"context"
	"errors"
	"path"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"

	"wetland/core/files"
)

// pipes: nothing waits for somebody at the other end of a pipe.
func (s suite) pipes(t *testing.T, dir string) {
	name := path.Join(dir, "pipe")
	must(t, unix.Mkfifo(filepath.FromSlash(name), 0o666))
	if entry, err := s.place.Lstat(name); err != nil || entry.Kind != files.Other {
		t.Errorf("%+v %v", entry, err)
	}
	if _, err := s.place.Open(name, 0); !errors.Is(err, files.ErrNoFile) {
		t.Errorf("%v", err)
	}
	if err := s.place.Settle(name, mine); !errors.Is(err, files.ErrNoFile) {
		t.Errorf("%v", err)
	}
	if err := s.place.CopyMarks(name, name); err == nil {
		t.Error("marks of a pipe were copied")
	}
	tree, err := files.ReadTree(context.Background(), s.place, dir, nil)
	if err != nil || len(tree) != 1 {
		t.Errorf("%v %v", tree, err)
	}
	must(t, s.place.RemoveAll(context.Background(), name))
}
