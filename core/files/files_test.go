package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

func write(t *testing.T, name, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// all are the files of this machine.
func all(t *testing.T) *Roots {
	t.Helper()
	roots, err := NewRoots(t.Context(), Local{}, "/")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = roots.Close() })
	return roots
}

func read(t *testing.T, top string) Tree {
	t.Helper()
	tree, err := ReadTree(t.Context(), all(t), top, Scope{})
	if err != nil {
		t.Fatal(err)
	}
	return tree
}

// odd makes a tree with names and kinds that tools stumble over.
func odd(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "odd")
	for _, name := range []string{"plain.txt", "with space", "new\nline", "\xff\xfe bad utf8", "-rf", "'quote\"", "a/b/c/deep", "ümlaut"} {
		write(t, filepath.Join(dir, name), "content of "+name)
	}
	write(t, filepath.Join(dir, "empty"), "")
	for name, target := range map[string]string{"link": "plain.txt", "dangling": "nowhere", "outside": "/etc", "loop": "loop"} {
		if err := os.Symlink(target, filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, "hollow/inner"), 0o750); err != nil {
		t.Fatal(err)
	}
	for name, mode := range map[string]fs.FileMode{"plain.txt": 0o600, "empty": 0o444, "a/b": 0o500, "hollow": 0o2775} {
		if err := os.Chmod(filepath.Join(dir, name), goMode(uint32(mode))); err != nil {
			t.Fatal(err)
		}
	}
	old := time.Date(2019, 2, 3, 4, 5, 6, 789000, time.UTC)
	if err := os.Chtimes(filepath.Join(dir, "plain.txt"), old, old); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.Chmod(filepath.Join(dir, "a/b"), 0o700) })
	return dir
}

func from(top string) Source {
	return func(item Item) (io.ReadCloser, error) { return os.Open(filepath.Join(top, item.Path)) }
}

func TestWriteTreeMakesAnEqualTree(t *testing.T) {
	source := odd(t)
	tree := read(t, source)
	copied := filepath.Join(t.TempDir(), "copy")
	if err := WriteTree(t.Context(), all(t), copied, tree, from(source), nil); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.Chmod(filepath.Join(copied, "a/b"), 0o700) })
	now := read(t, copied)
	for _, differ := range Exact.Compare(tree, now) {
		t.Errorf("%q: %s", differ.Path, differ.What)
	}
	for i := range tree {
		if tree[i].Kind == File && !tree[i].Modified.Equal(now[i].Modified) {
			t.Errorf("%q: the time is %s, want %s", tree[i].Path, now[i].Modified, tree[i].Modified)
		}
	}
	if err := all(t).RemoveAll(t.Context(), copied); os.Geteuid() == 0 && err != nil {
		t.Error(err)
	}
	if err := all(t).RemoveAll(t.Context(), copied); os.Geteuid() == 0 && err != nil {
		t.Errorf("removing what is gone: %v", err)
	}
}

func TestWriteTreeProvesTheBytes(t *testing.T) {
	dir := t.TempDir()
	write(t, dir+"/a/x", "right")
	tree := read(t, dir+"/a")
	wrong := func(Item) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("wrong")), nil }
	if err := WriteTree(t.Context(), all(t), dir+"/b", tree, wrong, nil); err == nil || !strings.Contains(err.Error(), "not the expected ones") {
		t.Errorf("got %v", err)
	}
}

func TestTreeLeavesOutAndFollowsNoLinks(t *testing.T) {
	dir := t.TempDir()
	write(t, dir+"/site/a", "1")
	write(t, dir+"/site/cache/b", "2")
	write(t, dir+"/secret/c", "3")
	if err := os.Symlink(dir+"/secret", dir+"/site/link"); err != nil {
		t.Fatal(err)
	}
	tree, err := ReadTree(t.Context(), all(t), dir+"/site", Scope{LeaveOut: []string{"cache"}})
	if err != nil {
		t.Fatal(err)
	}
	var paths []string
	for _, item := range tree {
		paths = append(paths, item.Path)
	}
	if strings.Join(paths, " ") != ". a link" {
		t.Errorf("got %q", paths)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := ReadTree(ended, all(t), dir, Scope{}); !errors.Is(err, context.Canceled) {
		t.Errorf("a cancelled walk: %v", err)
	}
}

func TestClearLeavesWhatIsWrittenMeanwhile(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "cache")
	outside := filepath.Join(t.TempDir(), "outside")
	write(t, filepath.Join(outside, "kept"), "not a cache")
	for n := range 40 {
		write(t, filepath.Join(dir, "pages", fmt.Sprint(n%4), fmt.Sprintf("old-%d.html", n)), "old")
	}
	if err := os.Symlink(outside, filepath.Join(dir, "pages/link")); err != nil {
		t.Fatal(err)
	}
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() { // visitors, whose pages are cached
		defer close(ended)
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
			}
			folder := filepath.Join(dir, "pages", fmt.Sprint(n%4))
			_ = os.MkdirAll(folder, 0o755)
			_ = os.WriteFile(filepath.Join(folder, "new.html"), nil, 0o644)
		}
	}()
	for range 20 {
		if _, err := Clear(t.Context(), all(t), dir); err != nil {
			t.Errorf("what visitors write is in the way: %v", err)
		}
	}
	close(stop)
	<-ended
	for _, item := range read(t, dir) {
		if strings.Contains(item.Path, "old-") || item.Kind == Link {
			t.Errorf("%s is still there", item.Path)
		}
	}
	if len(read(t, outside)) != 2 {
		t.Error("a link was followed")
	}
}

func TestClear(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "cache")
	for _, name := range []string{"index.html", "pages/a/1.html", "pages/b/style.css"} {
		write(t, filepath.Join(dir, name), "old")
	}
	if gone, err := Clear(t.Context(), all(t), dir); gone != 3 || err != nil || len(read(t, dir)) != 1 {
		t.Errorf("%d %v, left: %v", gone, err, read(t, dir))
	}
	if gone, err := Clear(t.Context(), all(t), filepath.Join(dir, "nowhere")); gone != 0 || err != nil {
		t.Errorf("no folder: %d %v", gone, err)
	}
	link := filepath.Join(t.TempDir(), "link")
	write(t, filepath.Join(dir, "1.html"), "old")
	if err := os.Symlink(dir, link); err != nil {
		t.Fatal(err)
	}
	if _, err := Clear(t.Context(), all(t), link); err == nil || len(read(t, dir)) != 2 {
		t.Errorf("a link: %v", err)
	}
	if _, err := Clear(t.Context(), stuck{all(t)}, dir); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("what stays is not told: %v", err)
	}
}

type stuck struct{ FS }

func (stuck) RemoveAll(context.Context, string) error { return fs.ErrPermission }

func TestCompareSaysWhatDiffers(t *testing.T) {
	before := Tree{{Path: ".", Kind: Folder, Mode: 0o755}, {Path: "a", Kind: File, Hash: "1"}, {Path: "b", Kind: File, Hash: "1", Mode: 0o644}, {Path: "c", Kind: Link, Target: "x"}, {Path: "d", Kind: File}, {Path: "e", Kind: File, Owner: 1}, {Path: "f", Kind: File}}
	now := Tree{{Path: ".", Kind: Folder, Mode: 0o755}, {Path: "a", Kind: File, Hash: "2"}, {Path: "b", Kind: File, Hash: "1", Mode: 0o600}, {Path: "c", Kind: Link, Target: "y"}, {Path: "d", Kind: Folder}, {Path: "e", Kind: File, Owner: 2}, {Path: "g", Kind: File}}
	var got []string
	for _, differ := range Exact.Compare(before, now) {
		got = append(got, differ.Path+": "+differ.What)
	}
	want := "a: other content|b: mode 0600, was 0644|c: points elsewhere|d: a folder, was a file|e: another owner|f: only before|g: only now"
	if strings.Join(got, "|") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, "|"), want)
	}
	if n := len(Content.Compare(before, now)); n != 5 {
		t.Errorf("by content alone: %d", n)
	}
}

// While a folder is exchanged again and again, a reader always finds one of the
// two trees, never none.
func TestSwapIsNeverAbsent(t *testing.T) {
	dir := t.TempDir()
	live, staged := dir+"/live", dir+"/staging/next"
	write(t, live+"/version", "old")
	write(t, staged+"/version", "new")
	if done, err := Swap(t.Context(), all(t), live, staged); errors.Is(err, ErrUnsupported) {
		t.Skip("SKIPPED: this file system cannot exchange two names")
	} else if err != nil || done.How != ByExchange {
		t.Fatalf("%+v %v", done, err)
	}
	stop := make(chan struct{})
	var readers sync.WaitGroup
	for range 2 {
		readers.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				if _, err := os.Lstat(live); err != nil {
					t.Errorf("absent: %v", err)
					return
				}
			}
		})
	}
	for range 500 {
		if err := all(t).Exchange(t.Context(), live, staged); err != nil {
			t.Error(err)
		}
	}
	close(stop)
	readers.Wait()
}

// noExchange is a disk that cannot exchange, as some network disks.
type noExchange struct{ FS }

// watched tells of each name before it is moved.
type watched struct {
	FS
	moving func(from string)
}

func (w watched) Rename(ctx context.Context, from, to string) error {
	w.moving(from)
	return w.FS.Rename(ctx, from, to)
}

func TestSwapWithAGap(t *testing.T) {
	dir := t.TempDir()
	live, staged := dir+"/live", dir+"/staged"
	write(t, live+"/version", "old")
	write(t, staged+"/version", "new")
	if _, err := Swap(t.Context(), noExchange{all(t)}, live, staged); !errors.Is(err, ErrUnsupported) {
		t.Fatalf("without consent: %v", err)
	}
	ready, shown := dir+"/ready", dir+"/shown"
	write(t, ready, "briefly away")
	content := func(name string) string {
		text, err := os.ReadFile(name + "/version")
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	if content(live) != "old" || content(staged) != "new" {
		t.Error("something was changed without consent")
	}
	done, err := SwapByRenames(t.Context(), noExchange{all(t)}, live, staged, Cover{Ready: ready, Shown: shown})
	if err != nil || done.How != ByRenames || done.Gap <= 0 || content(live) != "new" || content(staged) != "old" {
		t.Errorf("%+v %v", done, err)
	}
	if _, err := os.Stat(ready); err != nil {
		t.Errorf("the cover is not where it waited: %v", err)
	}
	if _, err := SwapByRenames(t.Context(), noExchange{all(t)}, live, dir+"/none", Cover{Ready: ready, Shown: shown}); err == nil || content(live) != "new" {
		t.Errorf("with nothing staged: %v", err)
	}
	if _, err := os.Stat(ready); err != nil {
		t.Errorf("the cover is not where it waited, after a swap that failed: %v", err)
	}
	if _, err := SwapByRenames(t.Context(), watched{noExchange{all(t)}, func(from string) {
		if _, err := os.Stat(shown); err != nil && (from == live || from == staged) {
			t.Errorf("%s is moved, and no cover is up: %v", from, err)
		}
	}}, live, staged, Cover{Ready: ready, Shown: shown}); err != nil || content(live) != "old" {
		t.Error(err)
	}
	if err := os.RemoveAll(live); err != nil {
		t.Fatal(err)
	}
	if done, err = Swap(t.Context(), all(t), live, staged); err != nil || done.How != ByRename || content(live) != "new" {
		t.Errorf("into an empty place: %+v %v", done, err)
	}
	if err := TryExchange(t.Context(), noExchange{all(t)}, dir, dir, "x"); !errors.Is(err, ErrUnsupported) {
		t.Errorf("trying: %v", err)
	}
	if left, _ := filepath.Glob(dir + "/.wetland*"); len(left) > 0 {
		t.Errorf("trying left %v", left)
	}
}

func TestLockExcludes(t *testing.T) {
	dir := t.TempDir()
	unlock, err := all(t).Lock(t.Context(), dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := all(t).Lock(t.Context(), dir, nil); !errors.Is(err, ErrLocked) {
		t.Errorf("a second lock: %v", err)
	}
	if err := unlock(); err != nil {
		t.Fatal(err)
	}
	unlock, err = all(t).Lock(t.Context(), dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := unlock(); err != nil {
		t.Error(err)
	}
}

func TestCreateRefusesWhatIsThere(t *testing.T) {
	dir := t.TempDir()
	if err := os.Symlink(dir+"/target", dir+"/link"); err != nil {
		t.Fatal(err)
	}
	write(t, dir+"/file", "x")
	for _, name := range []string{"/link", "/file"} {
		if _, err := all(t).Create(t.Context(), dir+name, Attributes{Mode: 0o600, Owner: Unowned, Group: Unowned}); err == nil {
			t.Errorf("%s was written over", name)
		}
	}
	if _, err := os.Lstat(dir + "/target"); err == nil {
		t.Error("a link was followed")
	}
}
