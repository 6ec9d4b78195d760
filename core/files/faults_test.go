package files_test

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"syscall"
	"testing"

	"wetland/core/files"
	"wetland/core/files/filestest"
)

// Every call that fails is told by what is made of calls, whichever one it is; what is swapped
// is wholly old or wholly new.
func TestEachCallThatFailsIsTold(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	sound, _ := failingRoots(t, dir, 0)
	from := path.Join(filepath.ToSlash(dir), "from")
	for _, name := range []string{"a/b", "c"} {
		file := filepath.Join(from, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(name), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("c", filepath.Join(from, "link")); err != nil {
		t.Fatal(err)
	}
	tree, err := files.ReadTree(t.Context(), sound, from, files.Scope{})
	if err != nil {
		t.Fatal(err)
	}
	swaps := 0
	source := func(item files.Item) (io.ReadCloser, error) {
		return sound.Open(t.Context(), path.Join(from, item.Path), 0)
	}
	swap := func(do func(fsys files.FS, live, staged string) error) func(fsys files.FS, n int64) error {
		return func(fsys files.FS, n int64) error {
			swaps++
			live, staged := path.Join(filepath.ToSlash(dir), fmt.Sprint("live", swaps)), path.Join(filepath.ToSlash(dir), fmt.Sprint("staged", swaps))
			if err := errors.Join(os.Mkdir(live, 0o755), os.Mkdir(staged, 0o755), os.WriteFile(live+"/old", nil, 0o644), os.WriteFile(staged+"/new", nil, 0o644)); err != nil {
				t.Fatal(err)
			}
			err := do(fsys, live, staged)
			_, isOld := os.Stat(live + "/old")
			_, isNew := os.Stat(live + "/new")
			if (isOld == nil) == (isNew == nil) {
				t.Errorf("call %d of a swap left neither the old nor the new: %v %v", n, isOld, isNew)
			}
			return err
		}
	}
	for what, do := range map[string]func(fsys files.FS, n int64) error{
		"ReadTree": func(fsys files.FS, _ int64) error {
			_, err := files.ReadTree(t.Context(), fsys, from, files.Scope{})
			return err
		},
		"WriteTree": func(fsys files.FS, n int64) error {
			return files.WriteTree(t.Context(), fsys, path.Join(filepath.ToSlash(dir), fmt.Sprint("written", n)), tree, source, nil)
		},
		"MarkTree": func(fsys files.FS, n int64) error {
			to := path.Join(filepath.ToSlash(dir), fmt.Sprint("marked", n))
			if err := files.WriteTree(t.Context(), sound, to, tree, source, nil); err != nil {
				t.Fatal(err)
			}
			return files.MarkTree(t.Context(), fsys, to, tree, from, tree)
		},
		"Clear": func(fsys files.FS, n int64) error {
			folder := filepath.Join(dir, fmt.Sprint("cache", n))
			if err := errors.Join(os.MkdirAll(folder+"/pages", 0o755), os.WriteFile(folder+"/pages/x", nil, 0o644)); err != nil {
				t.Fatal(err)
			}
			_, err := files.Clear(t.Context(), fsys, filepath.ToSlash(folder))
			return err
		},
		"Swap": swap(func(fsys files.FS, live, staged string) error {
			_, err := files.Swap(t.Context(), fsys, live, staged)
			return err
		}),
		"SwapByRenames": swap(func(fsys files.FS, live, staged string) error {
			_, err := files.SwapByRenames(t.Context(), fsys, live, staged, files.Cover{})
			return err
		}),
	} {
		fsys, well := failingRoots(t, dir, 0)
		if err := do(fsys, 0); err != nil || well.Calls() < 2 {
			t.Fatalf("%s: %d calls, %v", what, well.Calls(), err)
		}
		for n := int64(1); n <= well.Calls(); n++ {
			fsys, _ := failingRoots(t, dir, n)
			if err := do(fsys, n); !errors.Is(err, syscall.EIO) {
				t.Errorf("call %d of %s failed, and it said %v", n, what, err)
			}
		}
	}
}

func failingRoots(t *testing.T, dir string, at int64) (files.FS, *filestest.Count) {
	t.Helper()
	disk, count := filestest.NewFailing(files.Local{}, at)
	roots, err := files.NewRoots(t.Context(), disk, filepath.ToSlash(dir))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = roots.Close() })
	return roots, count
}
