package sftphost

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/internal/testenv"
)

// Leases that a test can wait for: short is a little more than the grain of times; long can be renewed in time on a
// busy machine, too.
var (
	short = Lease{Lasts: 3 * time.Second, Renew: 200 * time.Millisecond, Margin: time.Second}
	long  = Lease{Lasts: 9 * time.Second, Renew: 200 * time.Millisecond, Margin: time.Second}
)

// gate is a line that can be frozen: what is sent waits.
type gate struct {
	io.ReadWriteCloser
	lock sync.RWMutex
}

func (g *gate) Write(p []byte) (int, error) {
	g.lock.RLock()
	defer g.lock.RUnlock()
	return g.ReadWriteCloser.Write(p)
}

// locking is a folder, by way of a line of its own that can be frozen.
func locking(t *testing.T, dir string, lease Lease) (files.FS, *gate) {
	t.Helper()
	line := &gate{ReadWriteCloser: served(t)}
	d, err := NewDisk(line)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = d.Close() })
	d.Lease = lease
	opened, err := d.Open(t.Context(), filepath.ToSlash(dir))
	if err != nil {
		t.Fatal(err)
	}
	return opened, line
}

func lockedFolder(t *testing.T) string {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return dir
}

// entries are the names in a folder of this machine.
func entries(t *testing.T, dir string) (names []string) {
	t.Helper()
	all, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range all {
		names = append(names, one.Name())
	}
	return names
}

// Of many who want a lock one gets it; while he renews it nobody else does, however long; and nothing is left of it.
func TestOneHolder(t *testing.T) {
	dir := lockedFolder(t)
	var all []files.FS
	for range 8 {
		one, _ := locking(t, dir, long)
		all = append(all, one)
	}
	var holds atomic.Int32
	var unlock func() error
	var group sync.WaitGroup
	for _, one := range all {
		group.Go(func() {
			got, err := files.Lock(t.Context(), one, ".", nil)
			switch {
			case err == nil:
				holds.Add(1)
				unlock = got
			case !errors.Is(err, files.ErrLocked):
				t.Error(err)
			}
		})
	}
	if group.Wait(); holds.Load() != 1 {
		t.Fatalf("%d hold it", holds.Load())
	}
	held := func() time.Time {
		found, err := filepath.Glob(filepath.Join(dir, lockName, "*"))
		if err != nil || len(found) != 1 {
			t.Fatalf("%v, %v", found, err)
		}
		info, err := os.Stat(found[0])
		if err != nil {
			t.Fatal(err)
		}
		return info.ModTime()
	}
	first := held()
	other, _ := locking(t, dir, long)
	err := testenv.Until(func() error {
		if _, err := files.Lock(t.Context(), other, ".", nil); !errors.Is(err, files.ErrLocked) {
			t.Fatalf("the lock of somebody who renews it: %v", err)
		}
		if age := held().Sub(first); age < long.Lasts+time.Second {
			return fmt.Errorf("it was renewed for %s", age)
		}
		return nil
	})
	if err := errors.Join(err, unlock()); err != nil {
		t.Fatal(err)
	}
	if left := entries(t, dir); len(left) > 0 {
		t.Errorf("what is left: %v", left)
	}
	again, err := files.Lock(t.Context(), other, ".", nil)
	if err := errors.Join(err, again()); err != nil {
		t.Error(err)
	}
}

// Whoever freezes loses his lock to the next one; when he thaws he changes nothing more, and does not take the
// other's lock away.
func TestFrozenHolder(t *testing.T) {
	dir := lockedFolder(t)
	frozen, line := locking(t, dir, short)
	unlock, err := files.Lock(t.Context(), frozen, ".", nil)
	if err != nil {
		t.Fatal(err)
	}
	with := files.Attributes{Mode: 0o755, Owner: files.Unowned, Group: files.Unowned}
	if err := frozen.Mkdir(t.Context(), "before", with); err != nil {
		t.Fatal(err)
	}
	writing, err := frozen.Create(t.Context(), "half", with)
	if err != nil {
		t.Fatal(err)
	}
	line.lock.Lock()
	next, _ := locking(t, dir, short)
	var give func() error
	if err := testenv.Until(func() (err error) {
		give, err = files.Lock(t.Context(), next, ".", nil)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	line.lock.Unlock()
	_, late := io.WriteString(writing, "late")
	for call, err := range map[string]error{
		"Mkdir": frozen.Mkdir(t.Context(), "after", with), "Remove": frozen.Remove(t.Context(), "before"), "RemoveAll": frozen.RemoveAll(t.Context(), "before"),
		"Rename": frozen.Rename(t.Context(), "before", "after"), "Settle": frozen.Settle(t.Context(), "before", with), "Symlink": frozen.Symlink(t.Context(), "x", "after", with),
		"Write": late, "Close": writing.Close(),
	} {
		if !errors.Is(err, ErrLockLost) {
			t.Errorf("%s of whoever lost the lock: %v", call, err)
		}
	}
	swap := []files.Step{{Do: files.DoRename, Name: "before", Other: "aside"}, {Do: files.DoRename, Name: "half", Other: "before"}}
	if taken, err := files.TakeSteps(t.Context(), frozen, swap); taken.Steps > 0 || !errors.Is(err, ErrLockLost) {
		t.Errorf("a swap of whoever lost the lock: %+v %v", taken, err)
	}
	if err := unlock(); err != nil {
		t.Error(err)
	}
	if third, _ := locking(t, dir, Usual); true {
		if _, err := files.Lock(t.Context(), third, ".", nil); !errors.Is(err, files.ErrLocked) {
			t.Errorf("the lock of the next one: %v", err)
		}
	}
	if err := give(); err != nil {
		t.Error(err)
	}
	if left := entries(t, dir); len(left) != 2 {
		t.Errorf("what is there: %v", left)
	}
}

// What a crash left of taking locks is taken away by the next one who takes it, and is not told of.
func TestLeftOfLocks(t *testing.T) {
	dir := lockedFolder(t)
	for _, name := range []string{lockName + "-abc/holder", lockName + "-try-abc/x", "site/x"} {
		file := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, nil, 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	fsys, _ := locking(t, dir, Usual)
	if listed, err := fsys.List(t.Context(), "."); err != nil || len(listed) != 1 {
		t.Errorf("%v %v", listed, err)
	}
	unlock, err := files.Lock(t.Context(), fsys, ".", nil)
	if err := errors.Join(err, unlock()); err != nil {
		t.Fatal(err)
	}
	if left := entries(t, dir); len(left) != 1 || left[0] != "site" {
		t.Errorf("what is there: %v", left)
	}
}
