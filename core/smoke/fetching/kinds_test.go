package fetching

import (
	"crypto/x509"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/internal/testenv"
)

// The kinds of sites that people have: each a recipe of a few files and a script that fills the
// site, in testdata/kinds.
type kind struct {
	name      string
	site      func(t testing.TB) (*testenv.Site, *x509.CertPool)
	content   string // folder of themes and plugins
	breakages []mutation
	harmless  []mutation
	updates   []themeUpdate // of default themes, between releases; nil: ordinaryUpdates
}

// themeUpdate is a real update of a theme that the site uses.
type themeUpdate struct{ theme, from, to string }

func ordinary(t testing.TB) (*testenv.Site, *x509.CertPool) { return testenv.WordPress(t), nil }

func onMySQL(t testing.TB) (*testenv.Site, *x509.CertPool) {
	return testenv.WordPressOn(t, testenv.MySQL), nil
}

func newest(t testing.TB) (*testenv.Site, *x509.CertPool) { return testenv.NewestWordPress(t), nil }

var kinds = []kind{
	{name: "builder", breakages: builderBreakages, harmless: builderHarmless},
	{name: "rtl", breakages: rtlBreakages, harmless: rtlHarmless},
	{name: "shop", site: onMySQL, breakages: shopBreakages, harmless: shopHarmless},
	{name: "moving", breakages: movingBreakages, harmless: movingHarmless},
	{name: "threads", breakages: threadsBreakages, harmless: threadsHarmless},
	{name: "newest", site: newest, breakages: newestBreakages, harmless: newestHarmless,
		updates: []themeUpdate{{"twentytwentyfive", "trixie", "sid"}, {"twentytwentyfour", "trixie", "sid"}, {"twentytwentythree", "bookworm", "sid"}, {"twentytwentythree", "trixie", "sid"}}},
	{name: "cached", breakages: cachedBreakages, harmless: cachedHarmless},
	{name: "child", breakages: childBreakages, harmless: childHarmless, updates: []themeUpdate{{"twentytwentyone", "bullseye", "bookworm"}}},
	{name: "subfolder", site: testenv.SubfolderWordPress, content: "stuff", breakages: subfolderBreakages, harmless: subfolderHarmless},
	{name: "menus", breakages: menusBreakages, harmless: menusHarmless},
}

// ordinaryUpdates are those that every kind of site could have made.
var ordinaryUpdates = []themeUpdate{{"twentytwentyone", "bullseye", "bookworm"}, {"twentytwentythree", "bookworm", "trixie"}, {"twentytwentythree", "bookworm", "sid"}}

func init() {
	for i := range kinds {
		k := &kinds[i]
		if k.site == nil {
			k.site = ordinary
		}
		if k.content == "" {
			k.content = "wp-content"
		}
		if k.updates == nil {
			k.updates = ordinaryUpdates
		}
	}
}

// newKind lays out a site of a kind and chooses its pages.
func newKind(t *testing.T, k kind) *ferry {
	t.Helper()
	site, certificates := k.site(t)
	recipe, err := filepath.Abs(filepath.Join("testdata/kinds", k.name))
	if err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("cp", "-r", recipe+"/wp-content/.", filepath.Join(site.Root, k.content)).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	config, err := os.ReadFile(filepath.Join(site.Root, "wp-config.php"))
	if err != nil {
		t.Fatal(err)
	}
	site.Write(t, "wp-config.php", strings.Replace(string(config), "<?php", "<?php ini_set( 'opcache.revalidate_freq', '0' ); define( 'SCRIPT_DEBUG', true );", 1))
	script, err := os.ReadFile(recipe + "/setup.php")
	if err != nil {
		t.Fatal(err)
	}
	site.PHP(t, script)
	address, err := url.Parse(site.Address)
	if err != nil {
		t.Fatal(err)
	}
	f := &ferry{root: site.Root, site: site, fetcher: &Fetcher{Address: address, Timeout: time.Minute, Reach: Reach{Trusted: certificates}}}
	f.wrapped.Store(func(next http.Handler) http.Handler { return next })
	f.pages = pagesOf(t, f.fetcher, site)
	return f
}

// pagesOf are the pages that adopting would choose.
func pagesOf(t *testing.T, fetcher *Fetcher, site *testenv.Site) []smoke.Page {
	roots, err := files.NewRoots(t.Context(), host.Here, filepath.Dir(site.Root))
	if err != nil {
		t.Fatal(err)
	}
	defer roots.Close()
	opened, err := cms.WordPress{}.Open(t.Context(), roots, site.Root, "")
	if err != nil {
		t.Fatal(err)
	}
	login, _ := opened.Database(cms.Given{})
	db, err := database.Engines{}.Open(t.Context(), login, opened.Owns)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	samples, err := opened.Samples(t.Context(), db)
	if err != nil {
		t.Fatal(err)
	}
	var paths []string
	for _, sample := range samples {
		paths = append(paths, sample.Path)
	}
	found := fetcher.Discover(t.Context(), opened.FirstPages(), paths)
	paths = nil
	for _, page := range found.Pages {
		paths = append(paths, page.Path)
	}
	t.Logf("pages: %s", strings.Join(paths, " "))
	return found.Pages
}

// foreign are the folders of what a change leaves as it is, as paths of addresses.
func (f *ferry) foreign(t *testing.T, content string, m mutation) []string {
	t.Helper()
	var folders []string
	for _, kind := range []string{"themes", "plugins"} {
		all, err := filepath.Glob(filepath.Join(f.root, content, kind, "*"))
		if err != nil {
			t.Fatal(err)
		}
		for _, folder := range all {
			at := content + "/" + kind + "/" + filepath.Base(folder)
			if len(m.changes) == 0 || !strings.HasPrefix(m.changes[0].file, at+"/") {
				folders = append(folders, f.fetcher.Resolve("/"+at).Path)
			}
		}
	}
	return append(folders, f.fetcher.Resolve("/"+content+"/uploads").Path)
}

// tally is what a kind of site showed.
type tally struct{ looks, falseAlarms, harmless, doubted, breakages, noticed, weak int }

func (a tally) String() string {
	return fmt.Sprintf("unchanged and version only: %d of %d doubted; harmless: %d of %d doubted; breakages: %d of %d noticed (%d of them too weakly)", a.falseAlarms, a.looks, a.doubted, a.harmless, a.noticed, a.breakages, a.weak)
}

// measureKind applies every n-th change, on a site of its kind.
func (f *ferry) measureKind(t *testing.T, k kind, every int) (all tally) {
	t.Helper()
	look := func() *smoke.Take { return f.take(t) }
	baseline := judging.Steady(judging.Rules{}, look(), look())
	f.fetcher.Before = baseline
	judge := func(m mutation) *smoke.Judgement {
		undo := f.apply(t, m)
		defer undo()
		return judging.JudgeUpdate(baseline, look(), f.foreign(t, k.content, m))
	}
	for range 2 {
		all.looks++
		if j := judging.JudgeUpdate(baseline, look(), f.foreign(t, k.content, mutation{})); j.Verdict != smoke.Sound {
			all.falseAlarms++
			t.Errorf("nothing was changed:\n%s", findings(j))
		}
	}
	for i, m := range k.breakages {
		if i%every != 0 || m.onlyBrowser && f.fetcher.BrowserProgram == "" && os.Getenv("WETLAND_TORTURE") == "" {
			continue
		}
		all.breakages++
		j := judge(m)
		switch {
		case j.Verdict == smoke.Sound:
			t.Logf("MISSED %s", m.name)
			if !m.unseen && (!m.onlyBrowser || f.fetcher.BrowserProgram != "") {
				t.Errorf("%s is not noticed", m.name)
			}
			continue
		case smoke.Worse(j.Verdict, m.want) != j.Verdict:
			all.weak++
			t.Logf("WEAK %s: %s\n%s", m.name, j.Verdict, findings(j))
		}
		all.noticed++
	}
	for i, m := range k.harmless {
		if i%every != 0 {
			continue
		}
		j := judge(m)
		version := m.name == "version only"
		if version {
			all.looks++
		} else {
			all.harmless++
		}
		if j.Verdict == smoke.Sound {
			continue
		}
		t.Logf("DOUBTED %s: %s\n%s", m.name, j.Verdict, findings(j))
		if version {
			all.falseAlarms++
			t.Errorf("only the version changed")
			continue
		}
		all.doubted++
		t.Errorf("%s is doubted", m.name)
	}
	return all
}

// putTheme puts a release's theme in the place of the one that is there.
func putTheme(t *testing.T, f *ferry, content, theme, release string) {
	t.Helper()
	from := filepath.Join(os.Getenv("WETLAND_TEST_SERVERS"), "themes", release, theme)
	to := filepath.Join(f.root, content, "themes", theme)
	if _, err := os.Stat(from); err != nil {
		testenv.Missing(t, "the themes of "+release+" (WETLAND_TEST_SERVERS)")
	}
	if err := os.RemoveAll(to); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("cp", "-r", from, to).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	f.purge(t)
}

// Updates of default themes between releases of Debian, as many made them: none is broken.
func TestRealUpdates(t *testing.T) { realUpdates(t, false) }

func TestRealUpdatesWithABrowser(t *testing.T) { realUpdates(t, true) }

func realUpdates(t *testing.T, inBrowser bool) {
	for _, k := range kinds {
		if sample(2) != 1 && (inBrowser || k.name != "child") {
			continue
		}
		t.Run(k.name, func(t *testing.T) {
			f := newKind(t, k)
			if inBrowser {
				f = looked(t, f)
			}
			for _, update := range k.updates {
				putTheme(t, f, k.content, update.theme, update.from)
				f.site.PHP(t, []byte("<?php require getcwd() . '/wp-load.php'; if ( ! is_child_theme() ) { switch_theme( '"+update.theme+"' ); }"))
				f.fetcher.Before = nil
				baseline := judging.Steady(judging.Rules{}, f.take(t), f.take(t))
				f.fetcher.Before = baseline
				putTheme(t, f, k.content, update.theme, update.to)
				m := mutation{changes: []change{{file: k.content + "/themes/" + update.theme + "/style.css"}}}
				j := judging.JudgeUpdate(baseline, f.take(t), f.foreign(t, k.content, m))
				t.Logf("%s from %s to %s: %s\n%s", update.theme, update.from, update.to, j.Verdict, findings(j))
				if j.Verdict == smoke.Broken {
					t.Errorf("a real update is called broken")
				}
			}
		})
	}
}

func TestKindsOfSites(t *testing.T) {
	for i, k := range kinds {
		if i%sample(5) != 0 {
			continue
		}
		t.Run(k.name, func(t *testing.T) {
			f := newKind(t, k)
			t.Log(f.measureKind(t, k, sample(12)))
		})
	}
}

func TestKindsOfSitesWithABrowser(t *testing.T) {
	for i, k := range kinds {
		if i%sample(len(kinds)) != 0 {
			continue
		}
		t.Run(k.name, func(t *testing.T) {
			f := looked(t, newKind(t, k))
			t.Log(f.measureKind(t, k, sample(32)))
		})
	}
}
