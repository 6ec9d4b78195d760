package update_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wetland/core/archive"
	"wetland/core/preflight"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/shelf"
	"wetland/core/smoke"
	"wetland/core/update"
	"wetland/core/workspace"
)

// pier is a jetty with more plugins. Its pages break by which versions are installed.
type pier struct {
	*jetty
	plugins []string
	// broken says what is wrong with the plugins that are at version 2.0; "": nothing.
	broken func(updated []string) string
}

func newPier(t *testing.T, count int) *pier {
	t.Helper()
	p := &pier{jetty: newJetty(t)}
	for i := range count {
		name := fmt.Sprintf("plank%d", i+1)
		p.plugins = append(p.plugins, name)
		put(t, p.dir+"/www/plugins/"+name+"/plugin.toml", fmt.Sprintf("name = \"Plank %d\"\nversion = \"1.0\"\n", i+1))
	}
	p.page = func(w http.ResponseWriter) bool {
		if what := p.broken(p.updated(t)); what != "" {
			fmt.Fprint(w, what)
			return true
		}
		return false
	}
	return p
}

// updated lists the plugins that are at version 1.5.
func (p *pier) updated(t *testing.T) []string {
	var names []string
	for _, name := range p.plugins {
		text, err := os.ReadFile(p.dir + "/www/plugins/" + name + "/plugin.toml")
		if err != nil {
			t.Error(err)
		}
		if strings.Contains(string(text), "1.5") {
			names = append(names, name)
		}
	}
	return names
}

func (p *pier) packages(t *testing.T) []string {
	var all []string
	for i, name := range p.plugins {
		all = append(all, packageOf(t, name, map[string]string{"plugin.toml": fmt.Sprintf("name = \"Plank %d\"\nversion = \"1.5\"\n", i+1)}))
	}
	return all
}

// has tells whether all of the names are in the list.
func has(list []string, names ...string) bool {
	return !slices.ContainsFunc(names, func(n string) bool { return !slices.Contains(list, n) })
}

func (p *pier) because(run *runs.Run, folder string) string {
	for _, t := range run.Components {
		if t.Folder == folder {
			return string(t.Fate) + ": " + strings.Join(t.Because, "; ")
		}
	}
	return "not there"
}

// cutOff is a page that dies; otherPage is whole, and not what it was.
const (
	cutOff    = "<html><body><h1>The jetty and"
	otherPage = "<html><body><p>Whatever else a cache may still answer with, for a moment after an update.</p></body></html>"
)

func TestCulpritsAmongEight(t *testing.T) {
	p := newPier(t, 8)
	p.broken = func(updated []string) string {
		if has(updated, "plank2") || has(updated, "plank6") || has(updated, "plank3", "plank7") {
			return cutOff
		}
		return ""
	}
	yes := true
	run, err := p.update(t, update.Options{Packages: p.packages(t), Search: &yes})
	if err != nil || run.State != runs.KeptPart {
		t.Fatalf("%+v %v", run, err)
	}
	if got := p.updated(t); !slices.Equal(got, []string{"plank1", "plank3", "plank4", "plank5", "plank8"}) {
		t.Errorf("kept %q", got)
	}
	for folder, want := range map[string]string{
		"plank2": "put back: it breaks the pages by itself",
		"plank6": "put back: it breaks the pages by itself",
		"plank7": "put back: it breaks the pages only together with Plank 3 1.5",
		"plank1": "kept: ",
	} {
		if got := p.because(run, folder); !strings.HasPrefix(got, want) {
			t.Errorf("%s: %q", folder, got)
		}
	}
	if len(run.Probes) == 0 || len(run.Probes) > update.MostProbes || run.Judgement == nil {
		t.Errorf("%d probes", len(run.Probes))
	}
	t.Logf("%d probes", len(run.Probes))
	p.clean(t)
	// The probes' snapshots are gone: there is the one from before, that of the last
	// probe, and what was kept.
	events, err := archive.History(t.Context(), p.workspace, session.Guard{})
	if err != nil || len(events) > 6 {
		t.Errorf("%d events are on record: %+v %v", len(events), events, err)
	}
}

// A message that names a plugin's file leads straight to it.
func TestEvidenceComesFirst(t *testing.T) {
	p := newPier(t, 8)
	p.broken = func(updated []string) string {
		if has(updated, "plank4") {
			return "<html><body>Fatal error: Uncaught Error: no such tide in /srv/jetty/plugins/plank4/main.php on line 3</body></html>"
		}
		return ""
	}
	yes := true
	run, err := p.update(t, update.Options{Packages: p.packages(t), Search: &yes})
	if err != nil || run.State != runs.KeptPart || len(p.updated(t)) != 7 || has(p.updated(t), "plank4") {
		t.Fatalf("%+v %v %q", run, err, p.updated(t))
	}
	if got := p.because(run, "plank4"); !strings.Contains(got, "no such tide in /srv/jetty/plugins/plank4/main.php") || len(run.Probes) > 3 {
		t.Errorf("%d probes: %s", len(run.Probes), got)
	}
}

// Without consent everything is put back, and nothing is tried again.
func TestNoSearchWithoutConsent(t *testing.T) {
	p := newPier(t, 3)
	p.broken = func(updated []string) string {
		if has(updated, "plank2") {
			return cutOff
		}
		return ""
	}
	run, err := p.update(t, update.Options{Packages: p.packages(t)})
	if err != nil || run.State != runs.PutBack || len(p.updated(t)) != 0 || len(run.Probes) != 0 {
		t.Fatalf("%+v %v %q", run, err, p.updated(t))
	}
	run, err = p.update(t, update.Options{Packages: p.packages(t), OneByOne: true})
	if err != nil || run.State != runs.KeptPart || !slices.Equal(p.updated(t), []string{"plank1", "plank3"}) {
		t.Fatalf("one by one: %+v %v %q", run, err, p.updated(t))
	}
	p.clean(t)
}

// Whatever breaks, alone or together: what is kept is sound, nothing could be added to
// it, and what was left out is named with a reason.
func TestSearchKeepsALargestSoundSet(t *testing.T) {
	rounds := 4
	if os.Getenv("WETLAND_TORTURE") != "" {
		rounds = 60
	}
	for seed := range rounds {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			t.Parallel()
			random := rand.New(rand.NewPCG(uint64(seed), 41))
			p := newPier(t, 3+random.IntN(5))
			var bad [][]string
			for range 1 + random.IntN(3) {
				set := slices.Clone(p.plugins)
				random.Shuffle(len(set), func(i, j int) { set[i], set[j] = set[j], set[i] })
				bad = append(bad, set[:1+random.IntN(3)])
			}
			p.broken = func(updated []string) string {
				for _, set := range bad {
					if has(updated, set...) {
						return cutOff
					}
				}
				return ""
			}
			yes := true
			run, err := p.update(t, update.Options{Packages: p.packages(t), Search: &yes})
			if err != nil || (run.State != runs.KeptPart && run.State != runs.PutBack) {
				t.Fatalf("bad %q: %+v %v", bad, run, err)
			}
			kept := p.updated(t)
			if p.broken(kept) != "" {
				t.Errorf("bad %q: kept %q, which is broken", bad, kept)
			}
			for _, name := range p.plugins {
				if !slices.Contains(kept, name) && (p.broken(append(slices.Clone(kept), name)) == "" || strings.HasSuffix(p.because(run, name), ": ")) {
					t.Errorf("bad %q: %s could have been kept beside %q, or has no reason: %s", bad, name, kept, p.because(run, name))
				}
			}
			p.clean(t)
		})
	}
}

// One package that cannot be taken: none is. What is to stay, stays.
func TestAllOrNone(t *testing.T) {
	p := newPier(t, 2)
	p.broken = func([]string) string { return "" }
	wrong := packageOf(t, "plank2", map[string]string{"plugin.toml": "name = \"Plank 2\"\nversion = \"0.9\"\n"})
	_, err := p.update(t, update.Options{Packages: []string{p.packages(t)[0], wrong}})
	var refused *runs.Refusal
	if !errors.As(err, &refused) || !strings.Contains(err.Error(), "plank2: the package is version 0.9") || len(p.updated(t)) != 0 {
		t.Fatalf("%v", err)
	}
	for _, file := range p.packages(t) {
		if _, err := shelf.Shelve(t.Context(), p.workspace, []string{file}, shelf.Options{}); err != nil {
			t.Fatal(err)
		}
	}
	p.workspace.Config.Hold = []workspace.Hold{{Folder: "plank2", Because: "the new form is not wanted"}}
	plan, err := update.PlanOf(t.Context(), p.workspace, update.Options{All: true})
	if err != nil || len(plan.Changes()) != 1 || len(plan.Left) != 1 || !strings.Contains(plan.Left[0].Because, "the new form is not wanted") {
		t.Fatalf("%+v %v", plan, err)
	}
	if _, err := p.update(t, update.Options{Packages: []string{"plank2"}}); !errors.As(err, &refused) || !strings.Contains(err.Error(), "holds plank2 at 1.0") {
		t.Errorf("%v", err)
	}
	run, err := p.update(t, update.Options{All: true})
	if err != nil || run.State != runs.Kept || !slices.Equal(p.updated(t), []string{"plank1"}) {
		t.Errorf("%+v %v %q", run, err, p.updated(t))
	}
}

// Parents come before children, a theme together with the plugins that belong to it, then
// the others, each in the order in which they were named.
func TestOrderOfSteps(t *testing.T) {
	p := newPier(t, 3)
	p.broken = func([]string) string { return "" }
	put(t, p.dir+"/www/themes/skiff/theme.toml", "name = \"Skiff\"\nversion = \"1.0\"\nparent = \"quay\"\n")
	put(t, p.dir+"/www/themes/skiff/x.txt", "x")
	child := packageOf(t, "skiff", map[string]string{"theme.toml": "name = \"Skiff\"\nversion = \"1.1\"\nparent = \"quay\"\n"})
	parent := packageOf(t, "quay", map[string]string{"theme.toml": "name = \"Quay\"\nversion = \"1.1\"\nrequires_plugins = [\"plank2\"]\n", "page.txt": "good"})
	planks := p.packages(t)
	if plan, err := update.PlanOf(t.Context(), p.workspace, update.Options{Packages: []string{packageOf(t, "dinghy", map[string]string{"theme.toml": "name = \"Dinghy\"\nversion = \"1.0\"\nparent = \"punt\"\n"})}}); err == nil || !strings.Contains(err.Error(), "child theme of punt, which is not installed") {
		t.Errorf("a child without its parent: %+v %v", plan, err)
	}
	both := []string{
		packageOf(t, "dinghy", map[string]string{"theme.toml": "name = \"Dinghy\"\nversion = \"1.0\"\nparent = \"punt\"\n"}),
		packageOf(t, "punt", map[string]string{"theme.toml": "name = \"Punt\"\nversion = \"1.0\"\n"}),
	}
	if plan, err := update.PlanOf(t.Context(), p.workspace, update.Options{Packages: both}); err != nil || plan.Changes()[0].Folder != "punt" {
		t.Errorf("a child with its parent: %+v %v", plan, err)
	}
	given := []string{planks[2], child, planks[1], parent, planks[0]}
	for asGiven, want := range map[bool]string{false: "quay plank2|skiff|plank3|plank1", true: "plank3|skiff|plank2|quay|plank1"} {
		plan, err := update.PlanOf(t.Context(), p.workspace, update.Options{Packages: given, AsGiven: asGiven})
		if err != nil {
			t.Fatal(err)
		}
		var steps []string
		for _, step := range plan.Steps {
			var names []string
			for _, c := range step.Components {
				names = append(names, c.Folder)
			}
			steps = append(steps, strings.Join(names, " "))
		}
		if got := strings.Join(steps, "|"); got != want {
			t.Errorf("as given %v: %s, not %s", asGiven, got, want)
		}
	}
}

// The hooks get the run's facts; one that fails before stops the update.
func TestHooks(t *testing.T) {
	p := newPier(t, 1)
	p.broken = func([]string) string { return "" }
	said := filepath.Join(t.TempDir(), "said")
	p.workspace.Config.Hooks = workspace.HooksConfig{
		Before: "echo before $WETLAND_RUN $WETLAND_WANTED >> " + said,
		After:  "echo after $WETLAND_STATE $WETLAND_KEPT >> " + said, OnFailure: "echo failure $WETLAND_STATE >> " + said,
	}
	if run, err := p.update(t, update.Options{Packages: p.packages(t)}); err != nil || run.State != runs.Kept {
		t.Fatalf("%+v %v", run, err)
	}
	p.broken = func(updated []string) string { return cutOff }
	p.workspace.Config.Hooks.Before = "echo no; exit 3"
	if _, err := p.update(t, update.Options{Packages: p.packages(t), Allowed: preflight.Allowed{Same: true}, AcceptPresent: true}); err == nil || !strings.Contains(err.Error(), "[hooks] before names failed: exit status 3 (no)") {
		t.Errorf("%v", err)
	}
	text, err := os.ReadFile(said)
	if want := "before run-1 plank1@1.5\nafter kept plank1@1.5\nfailure stopped\n"; err != nil || string(text) != want {
		t.Errorf("%q %v", text, err)
	}
}

// waiting is a clock that counts its waits.
type waiting struct{ waits *int }

func (w waiting) Wait(ctx context.Context, _ time.Duration) error {
	*w.waits++
	return ctx.Err()
}

// What the first visits set off breaks the pages only a little later: that is seen, too.
func TestSecondLook(t *testing.T) {
	p := newPier(t, 1)
	settle := workspace.Duration{Duration: time.Millisecond}
	p.workspace.Config.Smoke.WaitAfterSwap = &settle
	waits := 0
	p.broken = func(updated []string) string {
		if len(updated) > 0 && waits > 1 {
			return cutOff
		}
		return ""
	}
	run, err := p.update(t, update.Options{Packages: p.packages(t), Guard: session.Guard{Clock: waiting{&waits}}})
	if err != nil || run.State != runs.PutBack || run.Judgement.Verdict != smoke.Broken {
		t.Fatalf("%+v %v", run, err)
	}
	if !slices.ContainsFunc(run.Steps, func(s runs.Step) bool {
		return s.Name == "second look" && strings.Contains(s.Detail, "not sound any more")
	}) {
		t.Errorf("%+v", run.Steps)
	}
}

// A page that dies twice, a second apart, ends the matter: no remedy, no browser, no second look.
// One that died once, or was dead before, does not.
func TestFirstLook(t *testing.T) {
	for name, c := range map[string]struct {
		dies  func(updated []string, waits int) bool
		state runs.State
		steps []string // that must be there
		none  []string // that must not
	}{
		"dead":        {func(updated []string, _ int) bool { return len(updated) > 0 }, runs.PutBack, []string{"first look"}, []string{"pages after", "second look", "evidence"}},
		"dead once":   {func(updated []string, waits int) bool { return len(updated) > 0 && waits < 2 }, runs.Kept, []string{"first look", "pages after"}, nil},
		"dead before": {func([]string, int) bool { return true }, runs.Kept, []string{"pages after"}, []string{"first look"}},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPier(t, 1)
			settle := workspace.Duration{Duration: time.Millisecond}
			p.workspace.Config.Smoke.WaitAfterSwap = &settle
			waits := 0
			p.broken = func(updated []string) string {
				if c.dies(updated, waits) {
					return cutOff
				}
				return ""
			}
			run, err := p.update(t, update.Options{Packages: p.packages(t), AcceptPresent: true, Guard: session.Guard{Clock: waiting{&waits}}})
			if err != nil || run.State != c.state || len(run.Remedies) > 0 {
				t.Fatalf("%+v %v", run, err)
			}
			var steps []string
			for _, step := range run.Steps {
				steps = append(steps, step.Name)
			}
			for _, step := range c.steps {
				if !slices.Contains(steps, step) {
					t.Errorf("no step %q: %q", step, steps)
				}
			}
			for _, step := range c.none {
				if slices.Contains(steps, step) {
					t.Errorf("a step %q: %q", step, steps)
				}
			}
			said := fmt.Sprint(run.Steps)
			if run.State == runs.PutBack && !strings.Contains(said, "twice (/: the page is cut off: its end is missing): the version before comes back at once") {
				t.Errorf("it does not say how it died: %s", said)
			}
			if run.State == runs.PutBack && (run.Judgement.Verdict != smoke.Broken || run.Exposed == 0 || run.Lingered != time.Millisecond) {
				t.Errorf("%s, %v and %v", run.Judgement.Verdict, run.Exposed, run.Lingered)
			}
		})
	}
}

// A page that a cache still had broken is mended by the quick remedies: that is recorded,
// and nothing goes back. The caches that wetland.toml names are emptied, too.
func TestRemediesBeforeGoingBack(t *testing.T) {
	p := newPier(t, 1)
	waits, purged := 0, 0
	cache := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "PURGE" && r.URL.Path == "/all" {
			purged++
		}
	}))
	defer cache.Close()
	said := filepath.Join(t.TempDir(), "said")
	p.workspace.Config.Caches = workspace.CachesConfig{Addresses: []string{cache.URL + "/all"}, Commands: []string{"echo emptied >> " + said}}
	p.broken = func(updated []string) string {
		if len(updated) > 0 && waits < 2 {
			return otherPage
		}
		return ""
	}
	run, err := p.update(t, update.Options{Packages: p.packages(t), Guard: session.Guard{Clock: waiting{&waits}}})
	if err != nil || run.State != runs.Kept || len(run.Remedies) != 1 || len(run.Remedies[0].Helped) != 2 || purged < 2 {
		t.Fatalf("%+v %v, %d purges", run, err, purged)
	}
	if text, err := os.ReadFile(said); err != nil || strings.Count(string(text), "emptied") != purged {
		t.Errorf("%q %v", text, err)
	}
	if !slices.ContainsFunc(run.Steps, func(s runs.Step) bool { return strings.Contains(s.Detail, "(caches cleared again helped)") }) {
		t.Errorf("it does not say what helped: %+v", run.Steps)
	}
}

// Caches that cannot be cleared are told however the run ends: kept, with doubts, in part,
// or put back.
func TestCachesThatStayAreTold(t *testing.T) {
	for name, c := range map[string]struct {
		page string // with plank2 updated
		keep update.Decision
		want runs.State
	}{
		"sound":         {"", update.GoBack, runs.KeptDoubt},
		"broken":        {cutOff, update.GoBack, runs.KeptPart},
		"doubtful kept": {"<html><head><title>Pier</title></head><body><h1>The jetty and its tides</h1></body></html>", update.Keep, runs.KeptDoubt},
		"all put back":  {cutOff, update.GoBack, runs.PutBackDoubt},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPier(t, 2)
			p.workspace.Config.Caches = workspace.CachesConfig{Commands: []string{"exit 7"}}
			p.broken = func(updated []string) string {
				if has(updated, "plank2") || (name == "all put back" && len(updated) > 0) {
					return c.page
				}
				return ""
			}
			yes := true
			run, err := p.update(t, update.Options{Packages: p.packages(t), Search: &yes, InDoubt: c.keep})
			if err != nil || run.State != c.want {
				t.Fatalf("%+v %v", run, err)
			}
			if (run.Judgement.Verdict == smoke.Doubtful) != (c.keep == update.Keep) {
				t.Fatalf("%s pages prove nothing here", run.Judgement.Verdict)
			}
			if !strings.Contains(run.Reason, "the caches could not be cleared") || !strings.Contains(run.Reason, "exit status 7") || !strings.HasPrefix(run.Next[0].Say, "Clear the caches by hand") {
				t.Errorf("%q %+v", run.Reason, run.Next)
			}
		})
	}
}

// A cache folder that is a link is not followed; whoever named a command clears it by that.
func TestLinkedCacheIsLeftToTheOwnersCommand(t *testing.T) {
	for command, want := range map[string]runs.State{"": runs.KeptDoubt, "true": runs.Kept} {
		t.Run("command "+command, func(t *testing.T) {
			p := newPier(t, 1)
			p.broken = func([]string) string { return "" }
			outside := filepath.Join(t.TempDir(), "elsewhere", "page.html")
			put(t, outside, "old")
			if err := os.Symlink(filepath.Dir(outside), p.dir+"/www/cache"); err != nil {
				t.Fatal(err)
			}
			if command != "" {
				p.workspace.Config.Caches.Commands = []string{command}
			}
			run, err := p.update(t, update.Options{Packages: p.packages(t)})
			if err != nil || run.State != want {
				t.Fatalf("%+v %v", run, err)
			}
			if _, err := os.Stat(outside); err != nil {
				t.Errorf("the link was followed: %v", err)
			}
		})
	}
}
