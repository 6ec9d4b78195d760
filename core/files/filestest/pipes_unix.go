//go:build unix

package filestest

import (
	"errors"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"

	"wetland/core/files"
)

// pipes: nothing waits for somebody at the other end of a pipe.
func (s suite) pipes(t *testing.T, dir string) {
	name := "pipe"
	must(t, unix.Mkfifo(filepath.Join(dir, name), 0o666))
	if entry, err := s.fsys.Lstat(s.ctx, name); err != nil || entry.Kind != files.Other {
		t.Errorf("%+v %v", entry, err)
	}
	if _, err := s.fsys.Open(s.ctx, name, 0); !errors.Is(err, files.ErrNoFile) {
		t.Errorf("%v", err)
	}
	if err := s.fsys.Settle(s.ctx, name, mine); !errors.Is(err, files.ErrNoFile) {
		t.Errorf("%v", err)
	}
	if _, ok := s.fsys.(files.Marker); ok && files.CopyMarks(s.ctx, s.fsys, name, name) == nil {
		t.Error("marks of a pipe were copied")
	}
	tree, err := files.ReadTree(s.ctx, s.fsys, ".", files.Scope{})
	if err != nil || len(tree) != 1 {
		t.Errorf("%v %v", tree, err)
	}
	must(t, s.fsys.RemoveAll(s.ctx, name))
}
