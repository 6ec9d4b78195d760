package update_test

import (
	"archive/zip"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/http/fcgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"wetland/core/advice"
	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/core/host"
	"wetland/core/host/hosttest"
	"wetland/core/progress"
	"wetland/core/recovery"
	"wetland/core/restore"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/smoke"
	"wetland/core/update"
	"wetland/core/workspace"
)

// still is a clock that does not wait.
type still struct{}

func (still) Wait(ctx context.Context, _ time.Duration) error { return ctx.Err() }

// jetty is a small site: one theme, one plugin with a table, and a server whose
// pages are made of the theme's file.
type jetty struct {
	dir       string
	workspace *workspace.Workspace
	raw       *sql.DB
	page      func(w http.ResponseWriter) bool // writes another page; nil: there is none
}

func put(t testing.TB, name, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func newJetty(t testing.TB) *jetty {
	t.Helper()
	j := &jetty{dir: t.TempDir()}
	server := httptest.NewServer(http.HandlerFunc(j.serve))
	t.Cleanup(server.Close)
	put(t, j.dir+"/www/rowlock.toml", fmt.Sprintf("address = %q\ndatabase = \"data/x.sqlite\"\n", server.URL+"/"))
	for name, text := range themeFiles("1.0", "old") {
		put(t, j.dir+"/www/themes/quay/"+name, text)
	}
	put(t, j.dir+"/www/plugins/tide/plugin.toml", "name = \"Tide\"\nversion = \"1.0\"\n")
	put(t, j.dir+"/www/uploads/map.svg", "<svg/>")
	if err := os.MkdirAll(j.dir+"/www/data", 0o755); err != nil {
		t.Fatal(err)
	}
	put(t, j.dir+"/care/wetland.toml", fmt.Sprintf("format = 1\n[site]\nname = \"Jetty\"\nroot = %q\naddress = %q\ncms = \"rowlock\"\n[smoke]\nbrowser = \"none\"\n[[pages]]\npath = \"/\"\n[[pages]]\npath = \"/tides\"\n", j.dir+"/www", server.URL+"/"))
	var err error
	if j.raw, err = sql.Open("sqlite", "file:"+j.dir+"/www/data/x.sqlite"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = j.raw.Close() })
	if _, err := j.raw.Exec(`CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT); INSERT INTO settings VALUES ('theme', 'quay');
CREATE TABLE plugins (folder TEXT PRIMARY KEY, active INTEGER); INSERT INTO plugins VALUES ('tide', 1);
CREATE TABLE tides (id INTEGER PRIMARY KEY, high TEXT); INSERT INTO tides VALUES (1, '07:10')`); err != nil {
		t.Fatal(err)
	}
	if j.workspace, err = workspace.Load(j.dir+"/care", workspace.OnlyHere); err != nil {
		t.Fatal(err)
	}
	return j
}

// themeFiles are the files of a version of the theme; word is what pages show.
func themeFiles(version, word string) map[string]string {
	return map[string]string{
		"theme.toml":      fmt.Sprintf("name = \"Quay\"\nversion = %q\n", version),
		"page.txt":        word,
		"css/style.css":   "body{} /* " + word + " */",
		"parts/top.php":   "<?php // " + word,
		word + "-only.md": "only in this version",
	}
}

// serve shows the theme's word; a theme that says "broken" breaks one page.
func (j *jetty) serve(w http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, "/themes/") || strings.HasPrefix(r.URL.Path, "/uploads/") {
		http.ServeFile(w, r, j.dir+"/www"+r.URL.Path)
		return
	}
	word, err := os.ReadFile(j.dir + "/www/themes/quay/page.txt")
	if err != nil || (string(word) == "broken" && r.URL.Path == "/tides") {
		w.WriteHeader(http.StatusInternalServerError)
	}
	if string(word) == "broken" {
		_, _ = j.raw.Exec(`CREATE TABLE IF NOT EXISTS made_by_update (a)`) // as its migration would
	}
	w.Header().Set("Content-Type", "text/html")
	if j.page != nil && j.page(w) {
		return
	}
	fmt.Fprint(w, "<html><head><title>Jetty</title></head><body><h1>The jetty and its tides</h1></body></html>")
}

// packageOf writes a package of one folder with these files.
func packageOf(t *testing.T, folder string, texts map[string]string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), folder+".zip")
	out, err := os.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	archive := zip.NewWriter(out)
	for at, text := range texts {
		w, err := archive.Create(folder + "/" + at)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, text); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(archive.Close(), out.Close()); err != nil {
		t.Fatal(err)
	}
	return name
}

func (j *jetty) themePackage(t *testing.T, version, word string) string {
	t.Helper()
	return packageOf(t, "quay", themeFiles(version, word))
}

// wholly returns the word of the version that the theme's folder wholly is, or
// what is wrong with it.
func (j *jetty) wholly(t *testing.T) string {
	t.Helper()
	for version, word := range map[string]string{"1.0": "old", "1.1": "good", "1.2": "broken"} {
		wanted := themeFiles(version, word)
		matches := 0
		err := filepath.WalkDir(j.dir+"/www/themes/quay", func(at string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			rel, _ := filepath.Rel(j.dir+"/www/themes/quay", at)
			text, err := os.ReadFile(at)
			if wanted[filepath.ToSlash(rel)] == string(text) {
				matches++
			} else {
				matches = -1000
			}
			return err
		})
		if err != nil {
			return err.Error()
		}
		if matches == len(wanted) {
			return word
		}
	}
	return "a mixture"
}

func (j *jetty) clean(t *testing.T) {
	t.Helper()
	for _, pattern := range []string{"/.wetland*", "/www/.wetland*", "/www/themes/.wetland*", "/www/wetland-once-*"} {
		if left, err := filepath.Glob(j.dir + pattern); err != nil || len(left) > 0 {
			t.Errorf("left: %v %v", left, err)
		}
	}
	var name string
	if err := j.raw.QueryRow(`SELECT name FROM sqlite_master WHERE name = 'made_by_update'`).Scan(&name); !errors.Is(err, sql.ErrNoRows) && j.wholly(t) == "old" {
		t.Errorf("the update's table is still there: %v", err)
	}
}

func (j *jetty) update(t *testing.T, o update.Options) (*runs.Run, error) {
	t.Helper()
	if o.Clock == nil {
		o.Clock = still{}
	}
	return update.Update(t.Context(), j.workspace, o)
}

func TestUpdateKeepsAndPutsBack(t *testing.T) {
	j := newJetty(t)
	put(t, j.dir+"/www/wetland-once-x.php", "left by a crash")
	run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.2", "broken")}})
	if err != nil || run.State != runs.PutBack || j.wholly(t) != "old" {
		t.Fatalf("%+v %v: %s", run, err, j.wholly(t))
	}
	if len(run.Database) != 1 || run.Database[0].Table != "made_by_update" {
		t.Errorf("in the database: %+v", run.Database)
	}
	j.clean(t)
	run, err = j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}})
	if err != nil || run.State != runs.Kept || j.wholly(t) != "good" {
		t.Fatalf("%+v %v: %s", run, err, j.wholly(t))
	}
	if run.Components[0].Shelved == "" || run.Snapshot != "snap-2" {
		t.Errorf("%s %+v", run.Snapshot, *run.Components[0])
	}
	j.clean(t)
}

// molePackage is a package of a plugin that is not installed.
func molePackage(t *testing.T) string {
	t.Helper()
	return packageOf(t, "mole", map[string]string{"plugin.toml": "name = \"Mole\"\nversion = \"1.0\"\n", "a/b.css": "body{}"})
}

func TestPackageThatIsNotInstalledYet(t *testing.T) {
	j := newJetty(t)
	mole := j.dir + "/www/plugins/mole"
	// Somebody interrupts it while it is in place: it is taken away again.
	ctx, stop := context.WithCancel(t.Context())
	run, err := update.Update(ctx, j.workspace, update.Options{Packages: []string{molePackage(t)}, Guard: session.Guard{Clock: stopping{stop}}})
	if err != nil || run.State != runs.PutBack || !strings.Contains(run.Reason, "It was removed again") {
		t.Fatalf("%+v %v", run, err)
	}
	if _, err := os.Lstat(mole); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("it is still there: %v", err)
	}
	j.clean(t)
	run, err = j.update(t, update.Options{Packages: []string{molePackage(t)}})
	if err != nil || run.State != runs.Kept || !strings.Contains(run.Reason, "installed, not active") {
		t.Fatalf("%+v %v", run, err)
	}
	if text, err := os.ReadFile(mole + "/a/b.css"); err != nil || string(text) != "body{}" {
		t.Errorf("%q %v", text, err)
	}
	j.clean(t)
}

// moleAsSaid fails unless the new plugin is wholly there if it was kept, and else not
// at all.
func (j *jetty) moleAsSaid(t *testing.T, run *runs.Run) {
	t.Helper()
	text, err := os.ReadFile(j.dir + "/www/plugins/mole/a/b.css")
	_, gone := os.Lstat(j.dir + "/www/plugins/mole")
	if run.State == runs.Kept && string(text) != "body{}" || run.State != runs.Kept && !errors.Is(gone, fs.ErrNotExist) {
		t.Errorf("the run ended %s, and of the plugin is there: %q %v, %v", run.State, text, err, gone)
	}
}

// stopping is a clock at whose first wait the person stops the run.
type stopping struct{ stop func() }

func (s stopping) Wait(ctx context.Context, _ time.Duration) error {
	s.stop()
	return ctx.Err()
}

// around has the site's files reached through what stands in for the disk.
func around(w *workspace.Workspace, wrap func(able filestest.Able) files.FS) {
	w.Host = hosttest.WithDisk(filestest.Around(host.Here, func(fsys files.FS) files.FS { return wrap(filestest.Able{FS: fsys}) }))
}

// cannotExchange is a disk without that ability.
type cannotExchange struct{ filestest.Able }

func (cannotExchange) Exchange(context.Context, string, string) error { return files.ErrUnsupported }

func TestUpdateWhereNothingCanBeExchanged(t *testing.T) {
	j := newJetty(t)
	around(j.workspace, func(able filestest.Able) files.FS { return cannotExchange{able} })
	o := update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}}
	run, err := j.update(t, o)
	if err == nil || !strings.Contains(err.Error(), "--allow-gap") || run.State != runs.Stopped || j.wholly(t) != "old" {
		t.Fatalf("%+v %v: %s", run, err, j.wholly(t))
	}
	j.clean(t)
	o.AllowGap = true
	run, err = j.update(t, o)
	if err != nil || run.State != runs.Kept || j.wholly(t) != "good" {
		t.Fatalf("%+v %v: %s", run, err, j.wholly(t))
	}
	gap := ""
	for _, step := range run.Steps {
		if step.Name == "swap" {
			gap = step.Detail
		}
	}
	if !strings.Contains(gap, "the folder was absent for") {
		t.Errorf("the gap is not said: %q", gap)
	}
	j.clean(t)
}

// mountedIn says that something is mounted at one folder.
type mountedIn struct {
	filestest.Able
	folder string
}

func (m mountedIn) MountedAt(_ context.Context, name string) (bool, error) {
	return strings.HasSuffix(name, m.folder), nil
}

// What is mounted would stay behind: such a component is refused, and nothing is written.
func TestMountPointsAreRefused(t *testing.T) {
	for folder, want := range map[string]string{"themes/quay": "is a mount point", "themes/quay/parts": "inside of the component"} {
		j := newJetty(t)
		around(j.workspace, func(able filestest.Able) files.FS { return mountedIn{able, folder} })
		run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}})
		if err == nil || !strings.Contains(err.Error(), want) || j.wholly(t) != "old" {
			t.Errorf("%s: %+v %v", folder, run, err)
		}
		j.clean(t)
	}
}

// noWayBack lets the first exchange of a theme pass, and no later one: the
// permission was lost meanwhile.
type noWayBack struct {
	filestest.Able
	swaps *atomic.Int32
}

func (n noWayBack) Exchange(ctx context.Context, a, b string) error {
	if strings.HasSuffix(a, "themes/quay") && n.swaps.Add(1) > 1 {
		return fs.ErrPermission
	}
	return n.Able.Exchange(ctx, a, b)
}

// lockedOut takes the way back away, after the first swap.
func lockedOut(w *workspace.Workspace, swaps int32) {
	count := &atomic.Int32{}
	count.Add(swaps)
	around(w, func(able filestest.Able) files.FS { return noWayBack{able, count} })
}

// advises tells whether a step of a run's advice is this.
func advises(run *runs.Run, step int, do advice.Operation, with ...string) bool {
	return step < len(run.Next) && run.Next[step].Command != nil && run.Next[step].Command.Do == do && slices.Equal(run.Next[step].Command.With, with)
}

func TestGoingBackThatFailsNeedsAPerson(t *testing.T) {
	j := newJetty(t)
	lockedOut(j.workspace, 0)
	run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.2", "broken")}})
	if !errors.Is(err, fs.ErrPermission) || run.State != runs.NeedsPerson {
		t.Fatalf("%+v %v", run, err)
	}
	if len(run.Next) < 2 || !advises(run, 0, advice.Recover) || !advises(run, 1, advice.Restore, "snap-1") {
		t.Fatalf("the steps are %+v", run.Next)
	}
	if _, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}}); err == nil || !strings.Contains(err.Error(), "without proof") {
		t.Errorf("another update on top of it: %v", err)
	}
}

// The steps that are printed when there is no way back work, each kind of them: what is
// typed by hand goes through a shell.
func TestStepsByHandWork(t *testing.T) {
	for _, name := range []string{"recover", "restore", "by hand"} {
		t.Run(name, func(t *testing.T) {
			j := newJetty(t)
			lockedOut(j.workspace, 0)
			run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.2", "broken")}})
			if !errors.Is(err, fs.ErrPermission) || run.State != runs.NeedsPerson {
				t.Fatalf("%+v %v", run, err)
			}
			j.workspace.Host = host.Here
			var again *runs.Run
			switch name {
			case "restore":
				again, err = restore.Restore(t.Context(), j.workspace, restore.Options{Snapshot: "snap-1", Guard: session.Guard{Clock: still{}}})
			case "by hand":
				moves := 0
				for _, step := range run.Next {
					if step.Shell != "" {
						moves++
						if out, err := exec.Command("sh", "-c", step.Shell).CombinedOutput(); err != nil {
							t.Fatalf("%s: %v\n%s", step.Shell, err, out)
						}
					}
				}
				if moves != 2 || j.wholly(t) != "old" {
					t.Fatalf("%d moves of %+v: %s", moves, run.Next, j.wholly(t))
				}
				fallthrough
			default:
				again, err = recovery.Recover(t.Context(), j.workspace, recovery.Options{Guard: session.Guard{Clock: still{}}})
			}
			if err != nil || (again.State != runs.Restored && again.State != runs.PutBack) || j.wholly(t) != "old" {
				t.Fatalf("%+v %v: %s", again, err, j.wholly(t))
			}
			j.clean(t)
			if open, err := runs.Unsettled(j.workspace); err != nil || open != nil {
				t.Errorf("unsettled: %+v %v", open, err)
			}
		})
	}
}

// A restore that could not be finished ends with what a person has to do; recover goes on
// with it once the cause is fixed.
func TestRestoreThatCouldNotBeFinishedIsTakenUp(t *testing.T) {
	j := newJetty(t)
	if run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}}); err != nil || run.State != runs.Kept {
		t.Fatalf("%+v %v", run, err)
	}
	lockedOut(j.workspace, 1)
	put(t, j.dir+"/www/uploads/map.svg", "<svg></svg>")
	run, err := restore.Restore(t.Context(), j.workspace, restore.Options{Snapshot: "snap-1", Guard: session.Guard{Clock: still{}}})
	if !errors.Is(err, fs.ErrPermission) || run.State != runs.NeedsPerson || !advises(run, 0, advice.Recover) {
		t.Fatalf("%+v %v", run, err)
	}
	if _, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}}); err == nil || !strings.Contains(err.Error(), "without proof") {
		t.Errorf("an update on top of it: %v", err)
	}
	j.workspace.Host = host.Here
	again, err := recovery.Recover(t.Context(), j.workspace, recovery.Options{Guard: session.Guard{Clock: still{}}})
	if err != nil || again.Name != run.Name || again.State != runs.Restored || j.wholly(t) != "old" {
		t.Fatalf("%+v %v: %s", again, err, j.wholly(t))
	}
	if text, err := os.ReadFile(j.dir + "/www/uploads/map.svg"); err != nil || string(text) != "<svg/>" {
		t.Errorf("%q %v", text, err)
	}
	j.clean(t)
	if open, err := runs.Unsettled(j.workspace); err != nil || open != nil {
		t.Errorf("unsettled: %+v %v", open, err)
	}
}

func TestDatabaseGoneAfterTheSwap(t *testing.T) {
	j := newJetty(t)
	database := j.dir + "/www/data/x.sqlite"
	gone := func(ctx context.Context, _ *smoke.Judgement) update.Decision { return update.GoBack }
	o := update.Options{Packages: []string{j.themePackage(t, "1.2", "broken")}, Decide: gone, Guard: session.Guard{Clock: dropping{database}}}
	run, err := j.update(t, o)
	if err == nil || run.State != runs.NeedsPerson {
		t.Fatalf("%+v %v", run, err)
	}
	if j.wholly(t) != "old" {
		t.Errorf("the files did not come back: %s", j.wholly(t))
	}
}

// A site that does not answer after the swap is put back. If it answers then, all is proved;
// if not, a person is needed, and recover proves it once it answers again.
func TestSiteUnreachableAfterTheSwap(t *testing.T) {
	for _, forGood := range []bool{false, true} {
		j := newJetty(t)
		var swapped, mended atomic.Bool
		j.page = func(w http.ResponseWriter) bool {
			isNew := j.wholly(t) == "good"
			if isNew {
				swapped.Store(true)
			}
			if !isNew && (!forGood || !swapped.Load() || mended.Load()) {
				return false
			}
			connection, _, err := w.(http.Hijacker).Hijack()
			if err == nil {
				err = connection.Close()
			}
			return err == nil
		}
		run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}})
		if forGood {
			if err == nil || run.State != runs.NeedsPerson || !strings.Contains(run.Reason, "files and database are back") {
				t.Fatalf("%+v %v", run, err)
			}
			mended.Store(true)
			run, err = recovery.Recover(t.Context(), j.workspace, recovery.Options{Guard: session.Guard{Clock: still{}}})
		}
		if err != nil || run.State != runs.PutBack || j.wholly(t) != "old" {
			t.Fatalf("for good %v: %+v %v: %s", forGood, run, err, j.wholly(t))
		}
		j.clean(t)
	}
}

// dropping is a clock that turns the database into nonsense at the first wait.
type dropping struct{ file string }

func (d dropping) Wait(ctx context.Context, _ time.Duration) error {
	if err := os.WriteFile(d.file, []byte(strings.Repeat("this is no database any more ", 400)), 0o644); err != nil {
		return err
	}
	return ctx.Err()
}

// dying is a disk on which the process dies at one of its changes: from then on
// nothing works, and what the process records later is undone.
type dying struct {
	filestest.Able
	left    *atomic.Int32 // changes until death
	after   bool          // die after the change took effect, not before
	dead    *atomic.Bool
	atDeath func()
}

var errDead = errors.New("the process is dead")

func (d dying) change(do func() error) error {
	if d.dead.Load() {
		return errDead
	}
	if d.left.Add(-1) != 0 {
		return do()
	}
	if d.after {
		if err := do(); err != nil {
			return err
		}
	}
	d.dead.Store(true)
	d.atDeath()
	return errDead
}

func (d dying) Create(ctx context.Context, name string, with files.Attributes) (w io.WriteCloser, err error) {
	err = d.change(func() error { w, err = d.Able.Create(ctx, name, with); return err })
	return w, err
}

func (d dying) Mkdir(ctx context.Context, name string, with files.Attributes) error {
	return d.change(func() error { return d.Able.Mkdir(ctx, name, with) })
}

func (d dying) Settle(ctx context.Context, name string, with files.Attributes) error {
	return d.change(func() error { return d.Able.Settle(ctx, name, with) })
}

func (d dying) Remove(ctx context.Context, name string) error {
	return d.change(func() error { return d.Able.Remove(ctx, name) })
}

func (d dying) RemoveAll(ctx context.Context, name string) error {
	var names []string // each of them is a change
	err := files.Walk(ctx, d, name, files.Scope{}, func(at string, _ files.Entry) error {
		names = append(names, path.Join(name, at))
		return nil
	})
	for _, one := range slices.Backward(names) {
		err = errors.Join(err, d.Remove(ctx, one))
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

func (d dying) Rename(ctx context.Context, old, new string) error {
	return d.change(func() error { return d.Able.Rename(ctx, old, new) })
}

func (d dying) Exchange(ctx context.Context, a, b string) error {
	return d.change(func() error { return d.Able.Exchange(ctx, a, b) })
}

func (d dying) List(ctx context.Context, name string) ([]files.Entry, error) {
	if d.dead.Load() {
		return nil, errDead
	}
	return d.Able.List(ctx, name)
}

// The process dies at every single change that an update makes to the site's disk,
// before and after the change: each time the theme is wholly old or wholly new, and
// recover settles it.
func TestDeathAtEveryChange(t *testing.T) {
	for _, word := range []string{"good", "broken", "new"} {
		for _, after := range []bool{false, true} {
			for _, to := range []string{"", "old", "new"} {
				t.Run(fmt.Sprintf("%s, after %v, to %q", word, after, to), func(t *testing.T) {
					t.Parallel()
					deaths := 0
					step := 3 // a sample; all of them in the long run
					if os.Getenv("WETLAND_TORTURE") != "" {
						step = 1
					}
					for n := 1 + len(to)%step; ; n += step {
						if !dieAt(t, n, word, after, to) {
							break
						}
						deaths++
					}
					if deaths < 4 {
						t.Errorf("only %d deaths: the update did not do its work", deaths)
					}
				})
			}
		}
	}
}

// dieAt runs an update that dies at the n-th change, recovers it, and tells
// whether there was an n-th change.
func dieAt(t *testing.T, n int, word string, after bool, to string) bool {
	t.Helper()
	j := newJetty(t)
	archive := molePackage(t)
	if word != "new" {
		archive = j.themePackage(t, map[string]string{"good": "1.1", "broken": "1.2"}[word], word)
	}
	abandon, give := context.WithCancel(t.Context())
	defer give()
	records := j.dir + "/records"
	left, dead := &atomic.Int32{}, &atomic.Bool{}
	left.Store(int32(n))
	atDeath := func() {
		if err := os.CopyFS(records, os.DirFS(j.dir+"/care/runs")); err != nil {
			t.Error(err)
		}
		give()
	}
	around(j.workspace, func(able filestest.Able) files.FS { return dying{able, left, after, dead, atDeath} })
	j.workspace.Config.Site.PHPPool = "unix:" + j.dir + "/none.sock"
	before := j.timeOf(t, "parts/top.php")
	_, _ = j.update(t, update.Options{Packages: []string{archive}, Guard: session.Guard{Abandon: abandon}})
	if !dead.Load() {
		return false
	}
	j.workspace.Host = host.Here
	// What the dead process could still write to its records did not happen.
	if err := errors.Join(os.RemoveAll(j.dir+"/care/runs"), os.Rename(records, j.dir+"/care/runs")); err != nil {
		t.Fatal(err)
	}
	if state := j.wholly(t); state != "old" && state != word {
		t.Fatalf("death %d left the theme %s", n, state)
	}
	run, err := recovery.Recover(t.Context(), j.workspace, recovery.Options{To: to, Guard: session.Guard{Clock: still{}}})
	if err != nil || (run.State != runs.PutBack && run.State != runs.Stopped && run.State != runs.Kept) {
		t.Fatalf("death %d: recover: %+v %v", n, run, err)
	}
	if word == "new" {
		j.moleAsSaid(t, run)
	}
	state := j.wholly(t)
	if now := j.timeOf(t, "parts/top.php"); (state == "good") == now.Equal(before) {
		t.Errorf("death %d: the theme is %s, with the time %s; the old one had %s", n, state, now, before)
	}
	if word != "new" && state != "old" && (state != "good" || run.State != runs.Kept) || (run.State == runs.Kept && to == "old") {
		t.Fatalf("death %d: recover ended %s with the theme %s", n, run.State, state)
	}
	j.clean(t)
	if open, err := runs.Unsettled(j.workspace); err != nil || open != nil {
		t.Fatalf("death %d: still unsettled: %v %v", n, open, err)
	}
	return true
}

// timeOf is the time of one of the theme's files.
func (j *jetty) timeOf(t *testing.T, name string) time.Time {
	t.Helper()
	info, err := os.Stat(j.dir + "/www/themes/quay/" + name)
	if err != nil {
		t.Fatal(err)
	}
	return info.ModTime()
}

// Until PHP dropped the old code, the new files have the times of the old ones, so that no
// request under way takes up new code; PHP is asked once more when they have their own.
func TestRequestsUnderWayMeetOneVersion(t *testing.T) {
	j := newJetty(t)
	before := j.timeOf(t, "parts/top.php")
	listener, err := net.Listen("unix", j.dir+"/pool.sock")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	var asked []string
	go func() {
		_ = fcgi.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			text, _ := os.ReadFile(j.dir + "/www/themes/quay/parts/top.php")
			style := j.timeOf(t, "css/style.css").Equal(before)
			asked = append(asked, fmt.Sprintf("%s, old time %v, style's %v", text, j.timeOf(t, "parts/top.php").Equal(before), style))
			_, _ = io.WriteString(w, "dropped")
		}))
	}()
	j.workspace.Config.Site.PHPPool = "unix:" + j.dir + "/pool.sock"
	run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}})
	if err != nil || run.State != runs.Kept {
		t.Fatalf("%+v %v", run, err)
	}
	if want := []string{"<?php // good, old time true, style's false", "<?php // good, old time false, style's false"}; !slices.Equal(asked, want) {
		t.Errorf("PHP was asked with %q", asked)
	}
}

// A server that does not run the script of one use is no reason to stop: old code is waited
// out, and the script does not stay.
func TestScriptThatIsNotRun(t *testing.T) {
	j := newJetty(t)
	j.workspace.Config.Site.PHPPool = workspace.PoolByRequest
	run, err := j.update(t, update.Options{Packages: []string{j.themePackage(t, "1.1", "good")}})
	if err != nil || run.State != runs.Kept {
		t.Fatalf("%+v %v", run, err)
	}
	if !slices.ContainsFunc(run.Steps, func(s runs.Step) bool {
		return s.Mark == progress.Doubt && strings.Contains(s.Detail, "the script was not run")
	}) {
		t.Errorf("%+v", run.Steps)
	}
	j.clean(t)
}

// full is a disk that runs full while new files are written beside the live ones.
type full struct{ filestest.Able }

func (f full) Create(ctx context.Context, name string, with files.Attributes) (io.WriteCloser, error) {
	if strings.Contains(name, runs.StagingPrefix) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: syscall.ENOSPC}
	}
	return f.Able.Create(ctx, name, with)
}

func TestDiskFullWhileStaging(t *testing.T) {
	p := newPier(t, 2)
	p.broken = func([]string) string { return "" }
	around(p.workspace, func(able filestest.Able) files.FS { return full{able} })
	run, err := p.update(t, update.Options{Packages: p.packages(t)})
	if !errors.Is(err, syscall.ENOSPC) || run.State != runs.Stopped || len(p.updated(t)) != 0 {
		t.Fatalf("%+v %v", run, err)
	}
	p.clean(t)
	p.workspace.Host = host.Here
	if run, err = p.update(t, update.Options{Packages: p.packages(t)}); err != nil || run.State != runs.Kept {
		t.Errorf("once there is room: %+v %v", run, err)
	}
}

// The time for the whole update is up before the swap: nothing was changed.
func TestUpdateThatTakesTooLong(t *testing.T) {
	p := newPier(t, 1)
	p.broken = func([]string) string { return "" }
	p.workspace.Config.Update.TimeLimit = workspace.Duration{Duration: time.Nanosecond}
	run, err := p.update(t, update.Options{Packages: p.packages(t)})
	if err == nil || run.State != runs.Stopped || !strings.Contains(err.Error(), "took longer than [update] time_limit allows") || len(p.updated(t)) != 0 {
		t.Errorf("%+v %v", run, err)
	}
	p.clean(t)
}

// The time is up after the swap: the pages do not answer, and what was before is put back,
// however long that takes.
func TestUpdateThatTakesTooLongAfterTheSwap(t *testing.T) {
	for within := time.Second; ; within *= 2 { // on a busy machine the swap itself comes late
		p := newPier(t, 1)
		over := make(chan struct{})
		p.broken = func(updated []string) string {
			if len(updated) > 0 {
				<-over // no answer while the new version is in place
			}
			return ""
		}
		p.workspace.Config.Update.TimeLimit = workspace.Duration{Duration: within}
		swapped := &atomic.Bool{}
		around(p.workspace, func(able filestest.Able) files.FS { return notesSwap{able, swapped} })
		run, err := p.update(t, update.Options{Packages: p.packages(t)})
		close(over)
		if !swapped.Load() {
			continue
		}
		if !strings.Contains(run.Reason+fmt.Sprint(err), "longer than [update] time_limit allows") || run.State != runs.PutBack || len(p.updated(t)) != 0 {
			t.Errorf("%s: %+v %v", within, run, err)
		}
		p.clean(t)
		return
	}
}

// notesSwap notes the first exchange of a plugin.
type notesSwap struct {
	filestest.Able
	swapped *atomic.Bool
}

func (n notesSwap) Exchange(ctx context.Context, a, b string) error {
	if strings.Contains(a, "/plugins/plank") {
		n.swapped.Store(true)
	}
	return n.Able.Exchange(ctx, a, b)
}
