package update_test

import (
	"context"
	"errors"
	"io"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"wetland/core/advice"
	"wetland/core/archive"
	"wetland/core/durable"
	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/core/host"
	"wetland/core/host/hosttest"
	"wetland/core/recovery"
	"wetland/core/restore"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/snapshot"
	"wetland/core/update"
	"wetland/core/workspace"
)

// A disk that cannot make safe what was written, at each place where a run asks for it: the
// run ends with an error or says what is missing, the theme is wholly old or wholly new, and
// recover settles it once the disk is well again.
func TestDiskThatFailsToSync(t *testing.T) {
	asked := syncsOf(t, 0)
	if asked < 20 {
		t.Fatalf("an update asks only %d times", asked)
	}
	step := 5 // a sample; all of them in the long run
	if os.Getenv("WETLAND_TORTURE") != "" {
		step = 1
	}
	for n := int32(1); n <= asked; n += int32(step) {
		syncsOf(t, n)
	}
}

// syncsOf runs an update on a disk whose n-th sync fails, and all after it until the run has
// ended; 0 is none. It returns how many there were.
func syncsOf(t *testing.T, n int32) int32 {
	t.Helper()
	j := newJetty(t)
	pkg := j.themePackage(t, "1.1", "good")
	var asked atomic.Int32
	fsync := durable.Fsync
	durable.Fsync = func(file *os.File) error {
		if at := asked.Add(1); n > 0 && at >= n {
			return &os.PathError{Op: "sync", Path: file.Name(), Err: syscall.EIO}
		}
		return fsync(file)
	}
	run, err := j.update(t, update.Options{Packages: []string{pkg}})
	durable.Fsync = fsync
	if n == 0 {
		if err != nil || run.State != runs.Kept {
			t.Fatalf("%+v %v", run, err)
		}
		return asked.Load()
	}
	if err == nil && run.State == runs.Kept && len(run.Next) == 0 {
		t.Errorf("sync %d failed, and nothing was said: %+v", n, run)
	}
	if err != nil && !errors.Is(err, syscall.EIO) {
		t.Errorf("sync %d: %v", n, err)
	}
	if state := j.wholly(t); state != "old" && state != "good" {
		t.Errorf("sync %d: the theme is %s", n, state)
	}
	if _, err := recovery.Recover(t.Context(), j.workspace,
		recovery.Options{Guard: session.Guard{Clock: still{}}}); err != nil && !errors.Is(err, runs.ErrNothingToRecover) {
		t.Errorf("sync %d, recover: %v", n, err)
	}
	if state := j.wholly(t); state != "old" && state != "good" {
		t.Errorf("sync %d, recovered: the theme is %s", n, state)
	}
	if open, err := runs.Unsettled(j.workspace); err != nil || open != nil {
		t.Errorf("sync %d, unsettled: %+v %v", n, open, err)
	}
	return asked.Load()
}

// What fails leaves nothing open: the next call in the same process goes on.
func TestFailingRestoreLeavesNothingOpen(t *testing.T) {
	j := newJetty(t)
	if run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}}); err != nil ||
		run.State != runs.Kept {
		t.Fatalf("%+v %v", run, err)
	}
	guard := session.Guard{Clock: still{}}
	for range 2 {
		if _, err := restore.Restore(t.Context(), j.workspace, restore.Options{Snapshot: "snap-99"}); !errors.Is(err,
			snapshot.ErrNoSnapshot) {
			t.Fatalf("%v", err)
		}
		if _, err := restore.Restore(t.Context(), j.workspace, restore.Options{Snapshot: "snap-1",
			Only: "nothing"}); err == nil {
			t.Fatal("restored nothing")
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute) // it waited for ever
	defer cancel()
	if _, err := archive.Tidy(ctx, j.workspace, time.Now(), func(*archive.TidyPlan) bool { return true },
		guard); err != nil {
		t.Fatal(err)
	}
	if run, err := restore.Restore(ctx, j.workspace, restore.Options{Snapshot: "snap-1"}); err != nil ||
		run.State != runs.Restored {
		t.Fatalf("%+v %v", run, err)
	}
}

// motions are those that a failing disk is tried with, each on a site that is made ready for it.
var motions = map[string]struct {
	ready func(t *testing.T, j *jetty)
	move  func(t *testing.T, j *jetty) (*runs.Run, error)
	ends  runs.State
	leads string // to this theme
}{
	"update": {func(*testing.T, *jetty) {}, func(t *testing.T, j *jetty) (*runs.Run, error) {
		return j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}})
	}, runs.Kept, "good"},
	"restore": {func(t *testing.T, j *jetty) {
		if run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}}); err != nil ||
			run.State != runs.Kept {
			t.Fatalf("%+v %v", run, err)
		}
	}, func(t *testing.T, j *jetty) (*runs.Run, error) {
		return restore.Restore(t.Context(), j.workspace, restore.Options{Guard: session.Guard{Clock: still{}},
			Snapshot: "snap-1"})
	}, runs.Restored, "old"},
}

// A call on the site's disk that fails, whichever one it is, once or with all calls after it, as on a
// line that breaks: the theme is wholly old or wholly new, what went wrong is told unless it did no
// harm, and recover settles the rest and clears it away.
func TestEachCallOnTheDiskThatFails(t *testing.T) {
	for name := range motions {
		t.Run(name, func(t *testing.T) {
			calls := failingAt(t, name, 0, false)
			if calls < 50 {
				t.Fatalf("it makes only %d calls", calls)
			}
			step := calls/20 + 1 // a sample; all of them in the long run
			if os.Getenv("WETLAND_TORTURE") != "" {
				step = 1
			}
			for n := int64(1); n <= calls; n += step {
				failingAt(t, name, n, false)
				failingAt(t, name, n, true)
			}
		})
	}
}

func failingAt(t *testing.T, motion string, n int64, dead bool) int64 {
	t.Helper()
	j, m := newJetty(t), motions[motion]
	m.ready(t, j)
	disk, count := filestest.NewFailing(host.Here, n)
	count.Dead = dead
	j.workspace.Host = hosttest.WithDisk(disk)
	run, err := m.move(t, j)
	if n == 0 && (err != nil || run.State != m.ends) {
		t.Fatalf("%+v %v", run, err)
	}
	wholly := func(when string) string {
		state := j.wholly(t)
		if state != "old" && state != "good" {
			t.Errorf("call %d, %s: the theme is %s", n, when, state)
		}
		return state
	}
	if state := wholly("failed"); err == nil && run.State == m.ends && state != m.leads {
		t.Errorf("call %d: %s, and the theme is %s", n, m.ends, state)
	}
	j.workspace.Host = host.Here
	if _, err := recovery.Recover(t.Context(), j.workspace,
		recovery.Options{Guard: session.Guard{Clock: still{}}}); err != nil && !errors.Is(err, runs.ErrNothingToRecover) {
		t.Errorf("call %d, recover: %v", n, err)
	}
	wholly("recovered")
	if open, err := runs.Unsettled(j.workspace); err != nil || open != nil {
		t.Errorf("call %d, unsettled: %+v %v", n, open, err)
	}
	j.clean(t)
	return count.Calls()
}

// What a record of a run names as its staging folder is removed in the end: a name that this
// program never gives is not believed. A record that cannot be read is in nobody's way.
func TestRecordsOfStagingAreNotBelieved(t *testing.T) {
	j := newJetty(t)
	lockedOut(j.workspace, 0)
	if run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.2", "broken")}}); err == nil ||
		run.State != runs.NeedsPerson {
		t.Fatalf("%+v %v", run, err)
	}
	j.workspace.Host = host.Here
	record := j.dir + "/care/runs/run-1/run.json"
	text, err := os.ReadFile(record)
	if err != nil {
		t.Fatal(err)
	}
	run, err := runs.Load(j.workspace, "run-1")
	if err != nil {
		t.Fatal(err)
	}
	put(t, j.dir+"/other/kept.txt", "somebody else's")
	put(t, record, strings.Replace(string(text), run.Staging, "other", 1))
	if run, err := recovery.Recover(t.Context(), j.workspace,
		recovery.Options{Guard: session.Guard{Clock: still{}}}); err != nil || run.State != runs.PutBack {
		t.Errorf("%+v %v", run, err)
	}
	if _, err := os.Stat(j.dir + "/other/kept.txt"); err != nil {
		t.Errorf("it was removed: %v", err)
	}
	put(t, j.dir+"/care/runs/run-2/run.json", "{")
	if _, err := archive.Snapshot(t.Context(), j.workspace,
		archive.SnapshotOptions{Guard: session.Guard{Clock: still{}}}); err != nil {
		t.Errorf("a record that cannot be read: %v", err)
	}
}

// hanging is a disk that answers some calls only when their context has ended, as one behind
// a line that is dead.
type hanging struct {
	filestest.Able
	hangs  func(call, name string) bool
	waited chan<- string
}

func (h hanging) wait(ctx context.Context, call, name string) error {
	if !h.hangs(call, name) {
		return nil
	}
	select {
	case h.waited <- call:
	default:
	}
	<-ctx.Done()
	return ctx.Err()
}

func (h hanging) List(ctx context.Context, name string) ([]files.Entry, error) {
	if err := h.wait(ctx, "List", name); err != nil {
		return nil, err
	}
	return h.Able.List(ctx, name)
}

func (h hanging) Create(ctx context.Context, name string, with files.Attributes) (io.WriteCloser, error) {
	if err := h.wait(ctx, "Create", name); err != nil {
		return nil, err
	}
	return h.Able.Create(ctx, name, with)
}

// Whatever the disk does, an update ends when its time is up: nothing was swapped yet.
func TestDiskThatDoesNotAnswerWithinTheTime(t *testing.T) {
	j := newJetty(t)
	j.workspace.Config.Update.TimeLimit = workspace.Duration{Duration: time.Second}
	hangs := func(call, name string) bool { return call == "Create" && strings.Contains(name, runs.StagingPrefix) }
	around(j.workspace, func(able filestest.Able) files.FS { return hanging{able, hangs, nil} })
	run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}})
	if err == nil || run.State != runs.Stopped ||
		!strings.Contains(err.Error(), "took longer than [update] time_limit allows") || j.wholly(t) != "old" {
		t.Errorf("%+v %v", run, err)
	}
	j.clean(t)
}

// Somebody who stops a run twice gets it to end, whatever the disk does; recover settles it.
func TestStoppedTwiceOnADiskThatDoesNotAnswer(t *testing.T) {
	j := newJetty(t)
	abandon, give := context.WithCancel(t.Context())
	defer give()
	ctx, stop := context.WithCancel(t.Context())
	dead := &atomic.Bool{}
	waited := make(chan string, 1)
	hangs := func(call, name string) bool { return dead.Load() && call == "List" }
	around(j.workspace, func(able filestest.Able) files.FS { return hanging{able, hangs, waited} })
	go func() {
		<-waited // while it goes back
		give()
	}()
	clock := stopping{func() { dead.Store(true); stop() }}
	run, err := update.Update(ctx, j.workspace, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")},
		Guard: session.Guard{Clock: clock, Abandon: abandon}})
	if !errors.Is(err, session.ErrAbandoned) || run.State != runs.UnderWay || !advises(run, 0, advice.Recover) {
		t.Fatalf("%+v %v", run, err)
	}
	j.workspace.Host = host.Here
	if run, err := recovery.Recover(t.Context(), j.workspace,
		recovery.Options{Guard: session.Guard{Clock: still{}}}); err != nil || run.State != runs.PutBack ||
		j.wholly(t) != "old" {
		t.Errorf("%+v %v", run, err)
	}
	j.clean(t)
}
