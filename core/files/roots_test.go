package files_test

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"wetland/core/files"
	"wetland/core/files/filestest"
)

var private = files.Attributes{Mode: 0o700, Owner: files.Unowned, Group: files.Unowned}

func realTemp(t *testing.T) string {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return filepath.ToSlash(dir)
}

func reach(t *testing.T, folders ...string) *files.Roots {
	t.Helper()
	roots, err := files.NewRoots(t.Context(), files.Local{}, folders...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = roots.Close() })
	return roots
}

// Whatever a name says, nothing outside of the roots is reached.
func TestRootsReachNothingElse(t *testing.T) {
	dir := realTemp(t)
	outside := filestest.NewOutside(t, "x", "d/x")
	up := "/../../../../../../../../.." + filepath.ToSlash(outside.Dir)
	roots := reach(t, dir)
	ctx := t.Context()
	for _, name := range []string{filepath.ToSlash(outside.Dir) + "/x", dir + up + "/x", dir + "/d/.." + up + "/x", dir + "-beside", "", ".", "x", "/", filepath.Dir(dir)} {
		_, lstat := roots.Lstat(ctx, name)
		_, list := roots.List(ctx, name)
		_, open := roots.Open(ctx, name, 0)
		_, create := roots.Create(ctx, name, private)
		_, mounted := roots.MountedAt(ctx, name)
		_, lock := roots.Lock(ctx, name, nil)
		_, free := roots.FreeSpace(ctx, name)
		for call, err := range map[string]error{
			"Lstat": lstat, "List": list, "Open": open, "Create": create, "MountedAt": mounted, "Lock": lock, "FreeSpace": free,
			"Mkdir": roots.Mkdir(ctx, name, private), "Symlink": roots.Symlink(ctx, "x", name, private), "Settle": roots.Settle(ctx, name, private),
			"Remove": roots.Remove(ctx, name), "RemoveAll": roots.RemoveAll(ctx, name), "SyncFolder": roots.SyncFolder(ctx, name), "Writable": roots.Writable(ctx, name),
			"Rename": roots.Rename(ctx, name, dir+"/stolen"), "Rename to": roots.Rename(ctx, dir+"/none", name), "Exchange": roots.Exchange(ctx, dir+"/none", name), "CopyMarks": roots.CopyMarks(ctx, name, dir),
		} {
			if !errors.Is(err, files.ErrOutside) {
				t.Errorf("%s of %q: %v", call, name, err)
			}
		}
		outside.Untouched(t, name)
	}
}

// Names of two roots can be exchanged once a folder is open that holds both.
func TestRootsTogether(t *testing.T) {
	dir := realTemp(t)
	for _, folder := range []string{"/www/site", "/content/themes"} {
		if err := os.MkdirAll(dir+folder, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	ctx := t.Context()
	roots := reach(t, dir+"/www", dir+"/content")
	if err := roots.Rename(ctx, dir+"/www/site", dir+"/content/site"); !errors.Is(err, files.ErrOutside) {
		t.Errorf("between two roots: %v", err)
	}
	if err := roots.ReachTogether(ctx, dir+"/www", dir+"/content/themes"); err != nil {
		t.Fatal(err)
	}
	if err := roots.Rename(ctx, dir+"/www/site", dir+"/content/site"); err != nil {
		t.Error(err)
	}
	if entry, err := roots.Lstat(ctx, dir+"/content/site"); err != nil || entry.Kind != files.Folder || entry.Name != "site" {
		t.Errorf("%+v %v", entry, err)
	}
	if err := roots.Reach(ctx, dir+"/missing/deep"); err != nil {
		t.Errorf("it lies in a folder that is open: %v", err)
	}
	if err := roots.Close(); err != nil {
		t.Error(err)
	}
	if _, err := roots.Lstat(ctx, dir+"/www"); !errors.Is(err, files.ErrOutside) {
		t.Errorf("after Close: %v", err)
	}
}

func TestReachOfWhatIsMissing(t *testing.T) {
	dir := realTemp(t)
	roots := reach(t)
	if err := roots.Reach(t.Context(), dir+"/missing/deep"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%v", err)
	}
	if err := roots.ReachNearest(t.Context(), dir+"/missing/deep"); err != nil {
		t.Fatal(err)
	}
	if err := files.MakeAll(t.Context(), roots, dir+"/missing/deep", 0o700); err != nil {
		t.Error(err)
	}
	if _, err := roots.Lstat(t.Context(), filepath.ToSlash(filepath.Dir(dir))); !errors.Is(err, files.ErrOutside) {
		t.Errorf("more was opened than the nearest folder: %v", err)
	}
}

// A disk that can do nothing but what every disk can keeps the contract as well, and so does
// what stands in for a disk in tests.
func TestDisksOfFewerAbilities(t *testing.T) {
	type plain struct{ files.FS }
	failing, _ := filestest.NewFailing(files.Local{}, 0)
	for name, disk := range map[string]files.Disk{
		"none":    filestest.Around(files.Local{}, func(fsys files.FS) files.FS { return plain{fsys} }),
		"all":     filestest.Around(files.Local{}, func(fsys files.FS) files.FS { return filestest.Able{FS: fsys} }),
		"failing": failing,
	} {
		t.Run(name, func(t *testing.T) { filestest.TestDisk(t, disk, realTemp(t), files.TimeGrain) })
	}
}

// reading is a folder that reads trees where they are.
type reading struct {
	files.FS
	asked *[]string
}

func (r reading) WalkTree(ctx context.Context, top string, scope files.Scope, visit func(string, files.Entry) error, failed func(string, error) error) error {
	*r.asked = append(*r.asked, "walk "+top)
	return files.WalkPast(ctx, r.FS, top, scope, visit, failed)
}

func (r reading) ReadTree(_ context.Context, top string, _ files.Scope) (files.Tree, error) {
	*r.asked = append(*r.asked, "tree "+top)
	return nil, nil
}

func (r reading) TakeSteps(_ context.Context, steps []files.Step) (files.Taken, error) {
	for _, step := range steps {
		*r.asked = append(*r.asked, string(step.Do)+" "+step.Name+" "+step.Other)
	}
	return files.Taken{Steps: len(steps)}, nil
}

func (r reading) HashFiles(_ context.Context, top string, names []string, each func(int, string, int64, error) error) error {
	*r.asked = append(*r.asked, "hash "+top)
	for i := range names {
		if err := each(i, "2", 1, nil); err != nil {
			return err
		}
	}
	return nil
}

func (r reading) ReadFiles(_ context.Context, top string, _ []string, _ func(int, *files.Reading, error) error) error {
	*r.asked = append(*r.asked, "read "+top)
	return nil
}

func (reading) Open(context.Context, string, int64) (io.ReadCloser, error) {
	return nil, errors.New("it was read all the same")
}

func TestTreesAreReadWhereTheyAre(t *testing.T) {
	dir := realTemp(t)
	if err := errors.Join(os.Mkdir(dir+"/tree", 0o755), os.WriteFile(dir+"/tree/b", []byte("b"), 0o600)); err != nil {
		t.Fatal(err)
	}
	var asked []string
	disk := filestest.Around(files.Local{}, func(fsys files.FS) files.FS { return reading{fsys, &asked} })
	roots, err := files.NewRoots(t.Context(), disk, dir)
	if err != nil {
		t.Fatal(err)
	}
	defer roots.Close()
	tree, err := files.ReadTreeKnowing(t.Context(), roots, dir+"/tree", files.Scope{}, func(string, files.Entry) string { return "" })
	if err != nil || len(tree) != 2 || tree[0].Path != "." || tree[1].Hash != "2" {
		t.Errorf("%v %v", tree, err)
	}
	_, err = files.ReadTree(t.Context(), roots, dir+"/tree", files.Scope{})
	_, stepErr := files.TakeSteps(t.Context(), roots, []files.Step{{Do: files.DoRename, Name: dir + "/a", Other: dir + "/b/../c"}})
	want := []string{"walk tree", "hash tree", "tree tree", "rename a c", "read tree"}
	if err := errors.Join(err, stepErr, roots.ReadFiles(t.Context(), dir+"/tree", nil, nil)); err != nil || !slices.Equal(asked, want) {
		t.Errorf("%v, asked for %q", err, asked)
	}
}
