package e2e

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/core/runs"
	"wetland/internal/testenv"
)

// gate stands before the site and can hold back the page of fares, so that a run
// waits where the test wants it.
type gate struct {
	closed   atomic.Bool
	closeNew atomic.Bool  // closed while the new version is in place
	asked    atomic.Int32 // requests that were held back
}

// holds tells whether a request is to be held back now.
func (g *gate) holds(f *ferry) bool {
	if g.closed.Load() {
		return true
	}
	text, err := os.ReadFile(filepath.Join(f.root, "themes/harbourlight/theme.toml"))
	return g.closeNew.Load() && err == nil && strings.Contains(string(text), "2.5.2")
}

// open lets every request pass.
func (g *gate) open() {
	g.closed.Store(false)
	g.closeNew.Store(false)
}

// gated adopts the demo site behind a gate.
func gated(t *testing.T) (*ferry, *gate) {
	t.Helper()
	f, g := layOut(t), &gate{}
	origin, err := url.Parse(f.address)
	if err != nil {
		t.Fatal(err)
	}
	proxy := httputil.NewSingleHostReverseProxy(origin)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/fares" && g.holds(f) {
			g.asked.Add(1)
			<-r.Context().Done()
			return
		}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	f.address = server.URL + "/"
	f.run(t, "adopt", f.root, "--address", f.address, "--name", "Otterby Ferry", "--no-browser").want(t, 4, "the CMS believes that it is reached at")
	f.edit(t, f.config(), `timeout = "20s"`, `timeout = "10m"`)
	return f, g
}

// start begins a command and returns how to wait for its end.
func (f *ferry) start(t *testing.T, args ...string) (*exec.Cmd, func() result) {
	t.Helper()
	var out, errs bytes.Buffer
	command := wetlandCommand(t, args...)
	command.Dir, command.Stdout, command.Stderr = f.care, &out, &errs
	inGroup(command)
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- command.Wait() }()
	t.Cleanup(func() { signalAll(command, syscall.SIGKILL) })
	return command, func() result {
		t.Helper()
		<-ended
		return result{command.ProcessState.ExitCode(), out.String(), errs.String()}
	}
}

func until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	err := testenv.Until(func() error {
		if holds() {
			return nil
		}
		return errors.New(what + " did not happen")
	})
	if err != nil {
		t.Fatal(err)
	}
}

// updateHeld starts an update that waits with the new version in place.
func updateHeld(t *testing.T, f *ferry, g *gate) (*exec.Cmd, func() result) {
	t.Helper()
	g.closeNew.Store(true)
	command, wait := f.start(t, "update", f.pkg("harbourlight-2.5.2"))
	until(t, "the look at the pages after the swap", func() bool { return g.asked.Load() > 0 })
	return command, wait
}

// updateHeldBefore starts an update that waits at its first look at the pages.
func updateHeldBefore(t *testing.T, f *ferry, g *gate, options ...string) (*exec.Cmd, func() result) {
	t.Helper()
	g.closed.Store(true)
	command, wait := f.start(t, append([]string{"update", f.pkg("harbourlight-2.5.2")}, options...)...)
	until(t, "the first look at the pages", func() bool { return g.asked.Load() > 0 })
	return command, wait
}

func TestStopBeforeTheSwapChangesNothing(t *testing.T) {
	f, g := gated(t)
	before := f.siteTree(t)
	command, wait := updateHeldBefore(t, f, g)
	f.run(t, "recover").want(t, 2, "another run works on this site")
	if err := command.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	wait().want(t, 1, "Stopped.")
	same(t, before, f.siteTree(t))
	nothingLeft(t, f.root)
}

func TestStopAfterTheSwapGoesBackByItself(t *testing.T) {
	f, g := gated(t)
	before := f.siteTree(t)
	command, wait := updateHeld(t, f, g)
	g.open()
	if err := command.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	wait().want(t, 3, "Stopping.", "Put back.", "Version 2.4.1 is back, and proved")
	same(t, before, f.siteTree(t))
	nothingLeft(t, f.root)
}

func TestSecondStopLeavesItToRecover(t *testing.T) {
	f, g := gated(t)
	before := f.siteTree(t)
	command, wait := updateHeld(t, f, g)
	g.closed.Store(true) // for the version before as well
	asked := g.asked.Load()
	if err := command.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	until(t, "the look at the pages after going back", func() bool { return g.asked.Load() > asked })
	if err := command.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	wait().want(t, 5, "Interrupted. You stopped it while the version before was being put back", "What now", "wetland recover puts back what was before", "wetland restore snap-1")
	var run runs.Run
	f.run(t, "report", "run-1", "--json").decode(t, &run)
	page, err := os.ReadFile(filepath.Join(f.care, "runs/run-1/report.html"))
	if err != nil || len(run.Next) < 2 || !strings.Contains(string(page), "wetland recover") {
		t.Errorf("the steps are not in the record or the report: %v %+v", err, run.Next)
	}
	g.open()
	f.run(t, "smoke").want(t, 0, "run-1 was interrupted", "wetland recover")
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 2, "run-1 was interrupted and is not settled")
	f.run(t, "recover").want(t, 0, "Version 2.4.1 is back, and proved")
	same(t, before, f.siteTree(t))
	nothingLeft(t, f.root)
	f.run(t, "recover").want(t, 0, "there is nothing to recover")
}

func TestOneRunAtATime(t *testing.T) {
	f, g := gated(t)
	_, wait := updateHeld(t, f, g)
	f.run(t, "update", f.pkg("enquiries-1.2.0")).want(t, 2, "another run works on this site", "process")
	f.run(t, "snapshot").want(t, 2, "another run works on this site")
	f.run(t, "recover").want(t, 2, "another run works on this site")

	// The lock is the site's: another workspace meets it as well, under another name
	// of the same folder.
	other := t.TempDir()
	link := filepath.Join(other, "www")
	if err := os.Symlink(f.root, link); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(f.config())
	if err != nil {
		t.Fatal(err)
	}
	workspace := t.TempDir()
	second := strings.Replace(string(text), strconv.Quote(f.root), strconv.Quote(link), 1)
	if err := os.WriteFile(filepath.Join(workspace, "wetland.toml"), []byte(second), 0o600); err != nil {
		t.Fatal(err)
	}
	wetland(t, workspace, "update", f.pkg("enquiries-1.2.0")).want(t, 2, "another run works on this site")
	g.open()
	// The held request never gets its answer: the first run is ended, and settled.
	_ = wait
}

func TestKilledAfterTheSwapIsRecovered(t *testing.T) {
	for to, want := range map[string]string{"": "2.4.1", "old": "2.4.1", "new": "2.5.2"} {
		t.Run("to "+to, func(t *testing.T) {
			f, g := gated(t)
			command, wait := updateHeld(t, f, g)
			signalAll(command, syscall.SIGKILL)
			wait()
			g.open()
			f.run(t, "history").want(t, 0, "under way", "run-1 was interrupted")
			args := []string{"recover"}
			if to != "" {
				args = append(args, "--to", to)
			}
			f.run(t, args...).want(t, 0, "stands at the new version 2.5.2")
			f.wantTheme(t, want)
			nothingLeft(t, f.root)
			f.run(t, "smoke").want(t, 0, "Sound.")
		})
	}
}

// wantTheme fails unless the theme is wholly of this version.
func (f *ferry) wantTheme(t *testing.T, version string) {
	t.Helper()
	got := f.themeVersion(t)
	if got != version {
		t.Errorf("the theme is wholly %q, want %s", got, version)
	}
}

// themeVersion returns the version that the theme's folder wholly is of, or "".
func (f *ferry) themeVersion(t *testing.T) string {
	t.Helper()
	now := tree(t, filepath.Join(f.root, "themes/harbourlight"))
	original := layOutOnce(t)
	switch {
	case len(files.Content.Compare(original, now)) == 0:
		return "2.4.1"
	case len(files.Content.Compare(packageTree(t, "harbourlight-2.5.2"), now)) == 0:
		return "2.5.2"
	}
	return ""
}

// layOutOnce returns the theme as the demo site first has it.
func layOutOnce(t *testing.T) files.Tree {
	t.Helper()
	return tree(t, filepath.Join(layOut(t).root, "themes/harbourlight"))
}

// Kill -9 at random moments: every folder is wholly old or wholly new, and recover
// settles it. The moments are drawn with a fixed seed; the machine's speed decides
// what they hit.
func TestKilledAtRandomMoments(t *testing.T) {
	t.Parallel()
	rounds := 6
	if os.Getenv("WETLAND_TORTURE") != "" {
		rounds = 200
	}
	random := rand.New(rand.NewPCG(7, 11))
	f := adopted(t)
	touched := 0
	for range rounds {
		version := f.themeVersion(t)
		next := map[string]string{"2.4.1": "harbourlight-2.5.2", "2.5.2": "harbourlight-2.5.0"}[version]
		args := []string{"update", f.pkg(next), "--allow-older"}
		command, wait := f.start(t, args...)
		time.Sleep(time.Duration(random.IntN(1200)) * time.Millisecond)
		signalAll(command, syscall.SIGKILL)
		wait()
		f.wholeSomehow(t)
		result := f.run(t, "recover")
		if result.code != 0 {
			t.Fatalf("recover: %s", result)
		}
		if !strings.Contains(result.stdout, "nothing to recover") {
			touched++
		}
		f.wholeSomehow(t)
		nothingLeft(t, f.root)
		f.run(t, "smoke").want(t, 0, "Sound.")
		if f.themeVersion(t) == "" {
			t.Fatal("after recover the theme is neither version")
		}
	}
	t.Logf("%d kills, %d of them within a run", rounds, touched)
}

// wholeSomehow fails if the theme's folder is a mixture of versions.
func (f *ferry) wholeSomehow(t *testing.T) {
	t.Helper()
	now := tree(t, filepath.Join(f.root, "themes/harbourlight"))
	for _, whole := range []files.Tree{layOutOnce(t), packageTree(t, "harbourlight-2.5.2"), packageTree(t, "harbourlight-2.5.0")} {
		if len(files.Content.Compare(whole, now)) == 0 {
			return
		}
	}
	t.Fatal("the theme's folder is a mixture of versions")
}
