package e2e

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"wetland/core/runs"
	"wetland/core/smoke"
	"wetland/internal/testenv"
)

// runsIn lists the processes that have a text in their command lines.
func runsIn(t *testing.T, text string) (found []string) {
	t.Helper()
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	must(t, err)
	for _, file := range all {
		line, err := os.ReadFile(file)
		if err == nil && strings.Contains(string(line), text) {
			found = append(found, strings.ReplaceAll(string(line), "\x00", " "))
		}
	}
	return found
}

// Killed at any moment, a rehearsal leaves the site alone, and nothing behind for longer than until the next
// command.
func TestRehearsalKilled(t *testing.T) {
	f := adopted(t)
	pkg := f.pkg("tidetable-2.1.0")
	began := time.Now()
	f.run(t, "rehearse", pkg).want(t, 3, "Broken on a copy", "was not touched")
	whole := time.Since(began)
	before := f.siteTree(t)
	kills := 3
	if os.Getenv("WETLAND_TORTURE") != "" {
		kills = 50
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 0))
	for i := range kills {
		command := wetlandCommand(t, "rehearse", pkg)
		command.Dir = f.care
		inGroup(command)
		must(t, command.Start())
		time.Sleep(time.Duration(random.Int64N(int64(whole)))) // any moment
		signalAll(command, syscall.SIGKILL)
		_ = command.Wait()
		same(t, before, f.siteTree(t))
		swept := f.run(t, "history").want(t, 0)
		if left, _ := os.ReadDir(filepath.Join(f.care, "copies")); len(left) > 0 {
			t.Fatalf("kill %d: a copy is still there: %v\n%s", i, left, swept)
		}
		if err := testenv.Until(func() error {
			if left := runsIn(t, "serve-rowlock\x00"+f.root); len(left) > 0 {
				return fmt.Errorf("kill %d: still there: %v", i, left)
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	f.run(t, "rehearse", f.pkg("enquiries-1.2.0")).want(t, 0, "Sound on a copy")
	var told struct {
		Events []struct{ Name, State string }
	}
	f.run(t, "history", "--json").decode(t, &told)
	for _, event := range told.Events {
		if event.State == "under way" {
			t.Errorf("%s is told to be under way", event.Name)
		}
	}
}

// While a copy is up, no other account of the machine reaches it.
func TestNobodyElseReachesTheCopy(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can be somebody else")
	}
	f := adopted(t)
	must(t, os.Chmod(filepath.Dir(f.care), 0o755), os.Chmod(filepath.Dir(filepath.Dir(f.care)), 0o755))
	listening := func() string {
		text, err := exec.Command("sh", "-c", "cat /proc/net/tcp /proc/net/tcp6 | awk '$4==\"0A\" {print $2}' | sort").Output()
		must(t, err)
		return string(text)
	}
	ports := listening()
	command := wetlandCommand(t, "rehearse", f.pkg("tidetable-2.1.0"))
	command.Dir = f.care
	must(t, command.Start())
	defer func() { _ = command.Wait() }()
	until(t, "the copy", func() bool { return len(runsIn(t, "serve-rowlock\x00"+f.root)) > 0 })
	if now := listening(); now != ports {
		t.Errorf("the machine listens at other ports than before: %s, before: %s", now, ports)
	}
	pids, err := exec.Command("pgrep", "-f", "serve-rowlock "+f.root).Output()
	must(t, err)
	look := []string{"ls " + filepath.Join(f.care, "copies") + "/*", "cat " + filepath.Join(f.care, "copies") + "/*/world" + f.root + "/rowlock.toml"}
	for pid := range strings.FieldsSeq(string(pids)) {
		look = append(look, "ls /proc/"+pid+"/root"+f.root, "cat /proc/"+pid+"/environ")
	}
	if len(look) < 4 {
		t.Error("nothing of the copy runs")
	}
	for _, one := range look {
		other := exec.Command("sh", "-c", one)
		asOrdinaryUser(other)
		if out, err := other.Output(); err == nil {
			t.Errorf("somebody else could: %s: %s", one, out)
		}
	}
}

// An update that is rehearsed first comes to the site only where the rehearsal was sound; else no visitor
// ever sees it.
func TestUpdateRehearsedFirst(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	unhurried(t, f.care)
	before := f.siteTree(t)
	f.run(t, "update", f.pkg("tidetable-2.1.0"), "--allow-major", "--rehearse").want(t, 3, "Broken on a copy", "was not touched")
	same(t, before, f.siteTree(t))
	f.run(t, "update", f.pkg("harbourlight-3.0.0"), "--allow-major", "--rehearse").want(t, 4, "Doubtful on a copy", "was not touched")
	same(t, before, f.siteTree(t))
	f.run(t, "update", f.pkg("enquiries-1.2.0"), f.pkg("tidetable-2.1.0"), "--allow-major", "--rehearse=large").want(t, 3, "Sound in part on a copy", "Sound on the copy: Enquiries 1.2.0. Not: Tidetable 2.1.0")
	same(t, before, f.siteTree(t))
	if runs, _ := filepath.Glob(filepath.Join(f.care, "runs/run-*")); len(runs) > 0 {
		t.Errorf("the site itself was worked on: %v", runs)
	}
	f.run(t, "update", f.pkg("enquiries-1.2.0"), "--rehearse", "--plan").want(t, 0, "first all of it is done on a private copy")
	var kept struct {
		State, Rehearsed string
	}
	f.run(t, "update", f.pkg("enquiries-1.2.0"), "--rehearse", "--json").want(t, 0).decode(t, &kept)
	if kept.State != "kept" || kept.Rehearsed != "rehearsal-4" {
		t.Errorf("%+v", kept)
	}
	f.run(t, "update", f.pkg("harbourlight-2.5.2"), "--rehearse=large").want(t, 0, "Kept")
	f.run(t, "update", f.pkg("harbourlight-3.0.0"), "--allow-major", "--rehearse", "--in-doubt", "keep").want(t, 4, "rehearsal-5: doubtful on a copy. Now the site itself", "Done, with doubts")
	f.run(t, "update", f.pkg("enquiries-1.2.0"), "--rehearse=perhaps").want(t, 1, "--rehearse must be yes, no or large")
}

// Where nothing can be confined, no copy is made, and none counts as sound: an update that is always
// rehearsed is refused, one that is for its large steps says so and goes on.
func TestNoConfinementNoCopy(t *testing.T) {
	f := adopted(t)
	confined := func(args ...string) result {
		t.Helper()
		script := `echo 0 > /proc/sys/user/max_user_namespaces && exec "$0" "$@"`
		command := exec.Command("unshare", append([]string{"-U", "-r", "sh", "-c", script, program}, args...)...)
		return finish(t, command, f.care)
	}
	if out, err := exec.Command("unshare", "-U", "-r", "sh", "-c", "echo 0 > /proc/sys/user/max_user_namespaces").CombinedOutput(); err != nil {
		testenv.Missing(t, "unshare: "+string(out))
	}
	before := f.siteTree(t)
	confined("rehearse", f.pkg("tidetable-2.0.0")).want(t, 2, "this machine offers no confinement", "A copy whose plugins could send mails")
	confined("update", f.pkg("tidetable-2.0.0"), "--allow-major", "--rehearse").want(t, 2, "this machine offers no confinement", "A copy whose plugins could send mails")
	same(t, before, f.siteTree(t))
	confined("update", f.pkg("tidetable-2.0.0"), "--allow-major", "--rehearse=large").want(t, 0, "rehearsal not made: this machine offers no confinement", "Kept")
}

// A snapshot is brought up, and its pages tell whether the site can live by it. The live site is left alone,
// also where it is dead; history tells of it, and tidy prefers such a snapshot.
func TestSnapshotBroughtUp(t *testing.T) {
	f := adopted(t)
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0)
	must(t, os.WriteFile(filepath.Join(f.root, "themes/harbourlight/notices.html"), []byte("{{nonsense"), 0o644))
	f.run(t, "snapshot").want(t, 0)
	before := f.siteTree(t)
	f.run(t, "verify", "snap-1", "--bring-up").want(t, 0, "the site can live by it: 11 pages, as run-1 saw them then")
	f.run(t, "verify", "snap-2", "--bring-up").want(t, 0, "as run-1 saw them then")
	f.run(t, "verify", "snap-3", "--bring-up").want(t, 3, "pages are broken with it", "/notices")
	same(t, before, f.siteTree(t))
	f.run(t, "history").want(t, 0, "snap-1 brought up, sound", "snap-3 brought up, broken")
	config := filepath.Join(f.care, "wetland.toml")
	text, err := os.ReadFile(config)
	must(t, err)
	must(t, os.WriteFile(config, []byte(strings.Replace(string(text), "all_for_days = 14", "all_for_days = 0", 1)), 0o600))
	f.run(t, "snapshot").want(t, 0)
	f.run(t, "tidy").want(t, 0, "the last of its day that was brought up and was sound")
	must(t, os.RemoveAll(f.root))
	f.run(t, "verify", "snap-1", "--bring-up").want(t, 0, "the site can live by it")
}

// A site on another machine is rehearsed on this one, of what the store has of it.
func TestRehearseSiteElsewhere(t *testing.T) {
	reachBySSH(t, testenv.OwnSSHAccount(t))
	f := adopted(t)
	f.run(t, "rehearse", f.pkg("enquiries-1.2.0")).want(t, 0, "Sound on a copy")
	f.run(t, "rehearse", f.pkg("tidetable-2.1.0")).want(t, 3, "Broken on a copy")
}

// verdictsOf are a run's verdicts and findings by pages, in words.
func verdictsOf(t *testing.T, r result) map[string]string {
	t.Helper()
	var run struct {
		Judgement *smoke.Judgement
	}
	r.decode(t, &run)
	if run.Judgement == nil {
		t.Fatalf("nothing was judged: %s", r)
	}
	all := map[string]string{}
	for _, page := range run.Judgement.Pages {
		all[page.Path] = string(page.Verdict)
		for _, finding := range page.Findings {
			all[page.Path] += "\n" + finding.String()
		}
	}
	return all
}

// A rehearsal comes to the same verdict as the update itself, and for the same reasons, whatever the package.
func TestRehearsalJudgesAsTheUpdate(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	unhurried(t, f.care)
	f.run(t, "snapshot").want(t, 0)
	packages, err := filepath.Glob(filepath.Join(f.packages, "*.zip"))
	must(t, err)
	if len(packages) < 6 {
		t.Fatalf("only %d packages are there", len(packages))
	}
	for i, pkg := range packages {
		if i%sampled(2) != 0 {
			continue
		}
		t.Run(filepath.Base(pkg), func(t *testing.T) {
			how := []string{pkg, "--json"}
			if f.run(t, "update", pkg, "--allow-major", "--plan").code != 0 {
				how = append(how, "--allow-older", "--allow-same")
			}
			rehearsed := f.run(t, append([]string{"rehearse"}, how...)...)
			updated := f.run(t, append([]string{"update", "--allow-major", "--in-doubt", "back"}, how...)...)
			defer f.run(t, "restore", "snap-1", "--yes")
			on, live := verdictsOf(t, rehearsed), verdictsOf(t, updated)
			if !maps.Equal(on, live) {
				t.Errorf("on the copy: %v\non the site: %v", on, live)
			}
		})
	}
}

// Ctrl-C ends a rehearsal at once, with nothing left of it.
func TestRehearsalStopped(t *testing.T) {
	f := adopted(t)
	before := f.siteTree(t)
	command := wetlandCommand(t, "rehearse", f.pkg("tidetable-2.1.0"))
	command.Dir = f.care
	var said bytes.Buffer
	command.Stdout, command.Stderr = &said, &said
	must(t, command.Start())
	until(t, "the copy", func() bool { return len(runsIn(t, "serve-rowlock\x00"+f.root)) > 0 })
	must(t, command.Process.Signal(os.Interrupt))
	_ = command.Wait()
	if code := command.ProcessState.ExitCode(); code != 1 || !strings.Contains(said.String(), "topped") {
		t.Errorf("exit code %d: %s", code, said.String())
	}
	same(t, before, f.siteTree(t))
	if left, _ := os.ReadDir(filepath.Join(f.care, "copies")); len(left) > 0 || len(runsIn(t, "serve-rowlock\x00"+f.root)) > 0 {
		t.Errorf("of the copy is left: %v", left)
	}
}

// What is kept under a passphrase is rehearsed, too.
func TestRehearseSealed(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	unhurried(t, f.care)
	passphrase := filepath.Join(t.TempDir(), "passphrase")
	must(t, os.WriteFile(passphrase, []byte("the boat leaves at first light\n"), 0o600))
	f.run(t, "seal", "--with", "file "+passphrase).want(t, 0)
	config := filepath.Join(f.care, "wetland.toml")
	text, err := os.ReadFile(config)
	must(t, err, os.WriteFile(config, append(text, "\n[store]\nunlock_with = \"file "+passphrase+"\"\n"...), 0o600))
	f.run(t, "rehearse", f.pkg("enquiries-1.2.0")).want(t, 0, "Sound on a copy")
	f.run(t, "verify", "snap-1", "--bring-up").want(t, 0, "the site can live by it")
}

// A copy is left up for a person to look at, in a window that shows nothing else, until that is closed, or until
// Ctrl-C.
func TestLookAtTheCopy(t *testing.T) {
	t.Parallel()
	f := layOut(t)
	f.run(t, "adopt", f.root, "--address", f.address).want(t, 0)
	unhurried(t, f.care)
	f.run(t, "rehearse", f.pkg("enquiries-1.2.0"), "--look").want(t, 1, "there is no screen here")
	for _, needed := range []string{"Xvfb", "chromium"} {
		if _, err := exec.LookPath(needed); err != nil {
			testenv.Missing(t, needed)
		}
	}
	screen := fmt.Sprintf(":%d", 100+rand.IntN(900))
	server := exec.Command("Xvfb", screen, "-screen", "0", "1280x800x24", "-nolisten", "tcp")
	must(t, server.Start())
	defer func() { _, _ = server.Process.Kill(), server.Wait() }()
	until(t, "the screen", func() bool { _, err := os.Stat("/tmp/.X11-unix/X" + screen[1:]); return err == nil })
	for _, close := range []func(*exec.Cmd, int){
		func(command *exec.Cmd, _ int) { must(t, command.Process.Signal(os.Interrupt)) },
		func(_ *exec.Cmd, window int) { must(t, syscall.Kill(window, syscall.SIGTERM)) }, // as a window's end does
	} {
		command := wetlandCommand(t, "rehearse", f.pkg("enquiries-1.2.0"), "--look")
		command.Dir, command.Env = f.care, append(os.Environ(), "DISPLAY="+screen)
		var said bytes.Buffer
		command.Stdout, command.Stderr = &said, &said
		must(t, command.Start())
		window := 0
		until(t, "the window", func() bool {
			out, _ := exec.Command("pgrep", "-f", "-o", "--", "--test-type.*--user-data-dir=.*wetland-browser-").Output()
			window, _ = strconv.Atoi(strings.TrimSpace(string(out)))
			return window > 0
		})
		close(command, window)
		_ = command.Wait()
		if code := command.ProcessState.ExitCode(); code != 0 || !strings.Contains(strings.Join(strings.Fields(said.String()), " "), "stays up until its window is closed") {
			t.Errorf("exit code %d: %s", code, said.String())
		}
		if left, _ := os.ReadDir(filepath.Join(f.care, "copies")); len(left) > 0 {
			t.Errorf("of the copy is left: %v", left)
		}
	}
}

// What is rehearsed before an update is what the update does: what that passes over, the rehearsal does, too.
func TestUpdateAllRehearsed(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	unhurried(t, f.care)
	f.run(t, "shelve", f.packages).want(t, 0)
	f.run(t, "update", "--all", "--rehearse").want(t, 0, "rehearsal-1: sound on a copy. Now the site itself", "Kept")
	var first, then struct{ Components []runs.Target }
	f.run(t, "report", "rehearsal-1", "--json").decode(t, &first)
	f.run(t, "report", "run-1", "--json").decode(t, &then)
	names := func(all []runs.Target) (names []string) {
		for _, one := range all {
			names = append(names, one.Folder+" "+one.To)
		}
		return names
	}
	if want := []string{"enquiries 1.2.0"}; !slices.Equal(names(first.Components), want) || !slices.Equal(names(then.Components), want) {
		t.Errorf("rehearsed: %q, then updated: %q", names(first.Components), names(then.Components))
	}
	f.run(t, "rehearse", "--all").want(t, 3, "Tidetable 2.1.0") // by itself it tries all
}

// Rows that nobody needs for it can be left out; what is no table is told before a copy is made.
func TestRehearseWithoutRows(t *testing.T) {
	f := adopted(t)
	f.run(t, "rehearse", f.pkg("enquiries-1.2.0"), "--without-rows", "enquiries,crossings").want(t, 2, "no table crossings whose rows", "Those with the most rows: ")
	f.run(t, "rehearse", f.pkg("enquiries-1.2.0"), "--without-rows", "enquiries").want(t, 0, "Sound on a copy", "no rows in enquiries, as you wanted")
}

// A look of the rehearsal at the site's pages is one of the two before the update: visitors' server has no
// more to do than without one.
func TestRehearsedAsksAsOften(t *testing.T) {
	t.Parallel()
	asked := func(args ...string) (count int) {
		f := layOut(t)
		behind, err := url.Parse(f.address)
		must(t, err)
		site := httputil.NewSingleHostReverseProxy(behind)
		var lock sync.Mutex
		front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/" {
				lock.Lock()
				count++
				lock.Unlock()
			}
			site.ServeHTTP(w, r)
		}))
		defer front.Close()
		f.run(t, "adopt", f.root, "--address", front.URL+"/", "--no-browser").want(t, 4)
		recordedLongAgo(t, f.care)
		count = 0
		f.run(t, append([]string{"update", f.pkg("harbourlight-2.5.2")}, args...)...).want(t, 0, "in place")
		return count
	}
	if plain, rehearsed := asked(), asked("--rehearse"); plain < 3 || rehearsed > plain {
		t.Errorf("the front page was asked for %d times by an update, and %d times by one that was rehearsed first", plain, rehearsed)
	}
}

// recordedLongAgo has the pages be recorded hours ago, so that nothing spares a look.
func recordedLongAgo(t testing.TB, workspace string) {
	t.Helper()
	file := filepath.Join(workspace, "baseline.json")
	take, err := smoke.LoadTake(file)
	must(t, err)
	take.At = take.At.Add(-6 * time.Hour)
	must(t, take.Save(file))
}
