package durable

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
)

// failing puts a disk in place whose syncs answer err.
func failing(t *testing.T, err error) {
	t.Helper()
	before := Fsync
	t.Cleanup(func() { Fsync = before })
	Fsync = func(file *os.File) error { return &os.PathError{Op: "sync", Path: file.Name(), Err: err} }
}

func TestOnlyFoldersThatCannotBeSyncedPass(t *testing.T) {
	name := filepath.Join(t.TempDir(), "record.json")
	if err := WriteFile(name, []byte("old")); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		err          syscall.Errno
		folderPasses bool
	}{{syscall.EIO, false}, {syscall.ENOSPC, false}, {syscall.EROFS, false}, {syscall.EINVAL, true}, {syscall.ENOTSUP, true}} {
		t.Run(c.err.Error(), func(t *testing.T) {
			failing(t, c.err)
			if err := SyncFolder(filepath.Dir(name)); (err == nil) != c.folderPasses {
				t.Errorf("folder: %v", err)
			}
			if err := WriteFile(name, []byte("new")); !errors.Is(err, c.err) {
				t.Errorf("file: %v", err)
			}
			if text, err := os.ReadFile(name); err != nil || string(text) != "old" {
				t.Errorf("%q %v", text, err)
			}
			if left, err := os.ReadDir(filepath.Dir(name)); err != nil || len(left) != 1 {
				t.Errorf("left: %v %v", left, err)
			}
		})
	}
}

func TestWriteFileByManyAtOnce(t *testing.T) {
	name := filepath.Join(t.TempDir(), "record.json")
	var wait sync.WaitGroup
	for n := range 8 {
		wait.Go(func() {
			for range 20 {
				if err := WriteFile(name, fmt.Appendf(nil, "%d%d%d", n, n, n)); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wait.Wait()
	text, err := os.ReadFile(name)
	if err != nil || len(text) != 3 || text[0] != text[1] || text[1] != text[2] {
		t.Errorf("%q %v", text, err)
	}
}

func TestWriteFileReplacesAsAWhole(t *testing.T) {
	name := filepath.Join(t.TempDir(), "file")
	for _, text := range []string{"one", "two", ""} {
		if err := WriteFile(name, []byte(text)); err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile(name)
		if err != nil || string(got) != text {
			t.Errorf("%q %v", got, err)
		}
	}
	info, err := os.Stat(name)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	if left, _ := filepath.Glob(name + ".*"); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
}
