package e2e

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wetland/internal/testenv"
)

// load is visitors that ask without a pause, while versions are swapped.
type load struct {
	stop          atomic.Bool
	wait          sync.WaitGroup
	asked         atomic.Int64
	failed, mixed atomic.Int64
	noticed       atomic.Int64 // answers that were the notice
	first         atomic.Value // the first failure, in words
}

// betweenVisits lets the other tests have a part of the machine, where not all of it is to be loaded.
const betweenVisits = 40 * time.Millisecond

// visit begins four visitors, who ask for the pages in turn: one right after the other where make torture wants them, else
// with a breath in between.
func visit(address string, pages ...string) *load {
	l, breath := &load{}, betweenVisits
	if os.Getenv("WETLAND_TORTURE") != "" {
		breath = 0
	}
	for client := range 4 {
		l.wait.Go(func() {
			for i := client; !l.stop.Load(); i++ {
				l.ask(address, pages[i%len(pages)])
				time.Sleep(breath)
			}
		})
	}
	return l
}

// mark is what the head and the foot of the test's themes print.
var mark = regexp.MustCompile(`<!-- (?:head|foot) of ([\d.]+) -->`)

// tags are left out of what is told of a page.
var tags = regexp.MustCompile(`(?s)<style.*?</style>|<script.*?</script>|<[^>]*>`)

func (l *load) ask(address, page string) {
	l.asked.Add(1)
	client := http.Client{Timeout: time.Minute}
	response, err := client.Get(strings.TrimSuffix(address, "/") + page)
	if err != nil {
		l.fail(page + ": " + err.Error())
		return
	}
	text, err := io.ReadAll(response.Body)
	_ = response.Body.Close()
	body := string(text)
	if response.StatusCode == http.StatusServiceUnavailable && response.Header.Get("Retry-After") != "" {
		l.noticed.Add(1)
		time.Sleep(20 * time.Millisecond) // an answer that costs nothing is not asked for without a pause
		return
	}
	if err != nil || response.StatusCode != http.StatusOK || strings.Contains(body, "critical error") || (!strings.Contains(body, "</html>") && !strings.Contains(body, "</rss>")) {
		l.fail(fmt.Sprintf("%s: %d, %d bytes, %v: %s", page, response.StatusCode, len(body), err, strings.Join(strings.Fields(tags.ReplaceAllString(body, " ")), " ")))
		return
	}
	marks := mark.FindAllStringSubmatch(body, -1)
	for _, one := range marks {
		if one[1] != marks[0][1] {
			l.mixed.Add(1)
			return
		}
	}
}

func (l *load) fail(what string) {
	l.failed.Add(1)
	l.first.CompareAndSwap(nil, what)
}

// end ends the visits and says what came of them.
func (l *load) end(t *testing.T, swaps int) {
	t.Helper()
	l.stop.Store(true)
	l.wait.Wait()
	t.Logf("%d swaps, %d requests: %d failed, %d mixed, %d notices; the first failure: %v", swaps, l.asked.Load(), l.failed.Load(), l.mixed.Load(), l.noticed.Load(), l.first.Load())
}

// rounds is how many updates and returns a long run makes.
func loadRounds() int {
	if os.Getenv("WETLAND_TORTURE") != "" {
		return 50
	}
	return 1
}

func TestRowlockUnderLoad(t *testing.T) {
	f := adopted(t)
	f.run(t, "shelve", zipOf(t, "harbourlight-2.4.1.zip", entriesOf(t, filepath.Join(f.root, "themes/harbourlight"), "harbourlight"))).want(t, 0)
	visitors := visit(f.address, "/", "/fares?a=1", "/notices?a=1", "/notices/new-boat?a=1", "/sign-in")
	rounds := loadRounds()
	for range rounds {
		f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0)
		f.run(t, "restore", "harbourlight@2.4.1").want(t, 0)
	}
	visitors.end(t, 2*rounds)
	if visitors.failed.Load() > 0 {
		t.Errorf("%d requests failed: %v", visitors.failed.Load(), visitors.first.Load())
	}
}

// Both versions work with each other's files in the first theme; in the second one a
// function has another name, and files call it.
func TestWordPressUnderLoad(t *testing.T) {
	servers := map[string]func(testing.TB) *testenv.Site{"PHP's own server": testenv.WordPress, "nginx and php-fpm": testenv.NginxWordPress}
	names := slices.Sorted(maps.Keys(servers))
	if loadRounds() == 1 {
		names = anyOf(names, 1)
	}
	for _, name := range names {
		serve := servers[name]
		for _, renamed := range []bool{false, true} {
			for _, with := range []remedy{nothing, reset, notice} {
				if loadRounds() == 1 && (renamed || with != reset) {
					continue // the others are only counted, in the long run
				}
				t.Run(fmt.Sprintf("%s, functions renamed %v, with %s", name, renamed, with), func(t *testing.T) {
					underLoad(t, serve(t), renamed, with)
				})
			}
		}
	}
}

// remedy is what shortens the moment in which old and new code answer side by side.
type remedy string

const (
	nothing remedy = "nothing"
	reset   remedy = "compiled code dropped"
	notice  remedy = "a notice"
)

func underLoad(t *testing.T, site *testenv.Site, renamed bool, with remedy) {
	theme := filepath.Join(site.Root, "wp-content/themes/twentytwentyone")
	read := func(name string) string {
		text, err := os.ReadFile(filepath.Join(theme, name))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	functions, head, foot := read("functions.php"), read("header.php"), read("footer.php")
	version := func(number string) map[string]string {
		called := ""
		defined := functions
		if renamed {
			name := "tideline_" + strings.ReplaceAll(number, ".", "_")
			defined += "\nfunction " + name + "() { return ''; }\n"
			called = "<?php echo " + name + "(); ?>"
		}
		return map[string]string{
			"functions.php": defined,
			"header.php":    strings.Replace(head, "<?php wp_body_open(); ?>", "<?php wp_body_open(); ?><!-- head of "+number+" -->"+called, 1),
			"footer.php":    strings.Replace(foot, "</body>", "<!-- foot of "+number+" -->"+called+"</body>", 1),
		}
	}
	first, second := themePackage(t, site, "1.8", version("1.8")), themePackage(t, site, "1.9", version("1.9"))
	workspace := care(t, site)
	words, more := []string{}, []string{"--allow-older"}
	switch with {
	case reset:
		edit(t, filepath.Join(workspace, "wetland.toml"), `cms = "wordpress"`, fmt.Sprintf("cms = \"wordpress\"\nphp_pool = %q", cmp.Or(site.Pool, "by request")))
		words = append(words, "PHP dropped it")
	case notice:
		more = append(more, "--notice")
	}
	onlyPages(t, workspace, "/")
	wetland(t, workspace, "update", first).want(t, 0, words...)
	if text, err := site.Get("/"); err != nil || len(mark.FindAllString(text, -1)) != 2 {
		t.Fatalf("the theme does not print its marks: %v", err)
	}
	visitors := visit(site.Address, "/", "/?page_id=4", "/?p=8", "/?s=boat", "/?feed=rss2")
	rounds := loadRounds()
	if with == notice {
		rounds = (rounds + 4) / 5
	}
	for range rounds {
		wetland(t, workspace, append([]string{"update", second}, more...)...).want(t, 0)
		wetland(t, workspace, append([]string{"update", "twentytwentyone@1.8"}, more...)...).want(t, 0)
	}
	visitors.end(t, 2*rounds)
	if left, err := filepath.Glob(filepath.Join(site.Root, "wetland-*")); err != nil || len(left) > 0 {
		t.Errorf("left in the root: %v %v", left, err)
	}
	if failed := visitors.failed.Load(); failed > 0 && !renamed {
		t.Errorf("%d requests failed: %v", failed, visitors.first.Load())
	}
	if mixed := visitors.mixed.Load(); mixed > 0 && with == reset && loadRounds() > 1 { // a request of a busy machine may run for longer than it is waited for
		t.Errorf("%d pages were mixed", mixed)
	}
}

// A notice instead of pages while files are swapped: nobody meets a failed or mixed page,
// and it is gone afterwards, also after a crash.
func TestNoticeForVisitors(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	workspace := care(t, site)
	onlyPages(t, workspace, "/")
	theme := themePackage(t, site, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
	notice := filepath.Join(site.Root, ".maintenance")
	shown := make(chan bool, 1)
	stop := make(chan bool)
	go func() { // a visitor
		for {
			select {
			case <-stop:
				shown <- false
				return
			default:
			}
			if response, err := http.Get(site.Address); err == nil {
				_ = response.Body.Close()
				if response.StatusCode == http.StatusServiceUnavailable {
					shown <- true
					return
				}
			}
		}
	}()
	wetland(t, workspace, "update", theme, "--notice").want(t, 0, "Kept.", ".maintenance is up")
	close(stop)
	if !<-shown {
		t.Error("no visitor met the notice")
	}
	if _, err := os.Stat(notice); !os.IsNotExist(err) {
		t.Errorf("the notice is still up: %v", err)
	}
	wetland(t, workspace, "restore", "twentytwentyone@1.7").want(t, 0)
	// Killed while it is up.
	v := newVictim(t, workspace, nil)
	if _, came := v.killAt(t, both, 5, 0, "update", theme, "--notice"); !came {
		t.Fatal("the update was not killed")
	}
	wetland(t, workspace, "recover").want(t, 0)
	if _, err := os.Stat(notice); !os.IsNotExist(err) {
		t.Errorf("after recover the notice is still up: %v", err)
	}
	// Somebody else's notice is theirs.
	if err := os.WriteFile(notice, []byte("<?php $upgrading = time();"), 0o644); err != nil {
		t.Fatal(err)
	}
	wetland(t, workspace, "update", theme).want(t, 2, ".maintenance")
	if _, err := os.Stat(notice); err != nil {
		t.Error(err)
	}
}

// onlyPages lets the workspace test these pages alone, where they are not what is looked at, and
// records them.
func onlyPages(t *testing.T, workspace string, pages ...string) {
	t.Helper()
	namePages(t, workspace, pages...)
	wetland(t, workspace, "smoke", "--learn").want(t, 0)
}

// namePages writes these pages, and no others, into wetland.toml.
func namePages(t *testing.T, workspace string, pages ...string) {
	t.Helper()
	file := filepath.Join(workspace, "wetland.toml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	config, _, _ := strings.Cut(string(text), "[[pages]]")
	for _, page := range pages {
		config += fmt.Sprintf("[[pages]]\npath = %q\n", page)
	}
	if err := os.WriteFile(file, []byte(config), 0o600); err != nil {
		t.Fatal(err)
	}
}
