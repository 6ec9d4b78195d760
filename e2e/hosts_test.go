package e2e

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wetland/demo/sshd"
	"wetland/internal/testenv"
)

// journey is a real site, and how it is reached.
type journey struct {
	site *testenv.Site
	care string
	run  func(args ...string) result
	swap string // how it is told
	// blind says that the tables are out of reach: all is done without them, and ends with doubts at best.
	blind bool
}

// well is how a command ends that has all in its hands, and is content.
func (j *journey) well() int {
	if j.blind {
		return 4
	}
	return 0
}

// told are a command's words: those that change a site are told that its tables are out of reach.
func (j *journey) told(args ...string) []string {
	if j.blind && (args[0] == "update" || args[0] == "restore" && strings.Contains(args[1], "@")) {
		return append(slices.Clone(args), "--without-database")
	}
	return args
}

// journeys are what people do, in this order, wherever the site is.
var journeys = []struct {
	name string
	do   func(t *testing.T, j *journey)
}{
	{"adopt", func(t *testing.T, j *journey) {
		words := []string{"WordPress 6.1", "MariaDB", "tables of this site, login tried", "twentytwentyone"}
		if j.blind {
			words = []string{"WordPress 6.1", "forbids connections by way of it", "tables can be neither kept nor put back"}
		}
		j.run("adopt", j.site.Root, "--address", j.site.Address, "--no-browser").want(t, j.well(), words...)
		onlyPages(t, j.care, "/", "/?page_id=4", "/?p=10")
	}},
	{"survey", func(t *testing.T, j *journey) {
		j.run("survey").want(t, j.well(), "twentytwentyone 1.7", "tidetable 1.0.0")
	}},
	{"a good update", func(t *testing.T, j *journey) {
		good := themePackage(t, j.site, "1.8", map[string]string{"postcss.config.js": "", "assets/css/print.css": "@media print { nav { display: none; } }\n"})
		words := []string{"Kept.", "pages are sound", "1.7 is on the shelf"}
		if j.blind {
			words = []string{"with doubts", "The database was not in Wetland's hands"}
		}
		j.run("update", good).want(t, j.well(), words...)
		equalToPackage(t, good, "twentytwentyone", tree(t, filepath.Join(j.site.Root, "wp-content/themes/twentytwentyone")))
	}},
	{"a bad update", func(t *testing.T, j *journey) {
		before, rows := tree(t, j.site.Root, caches...), rowsOf(t, j.site.Account.Root, "of_")
		bad := themePackageOf(t, j.site, "1.8", "1.9", map[string]string{"single.php": brokenSingle})
		j.run("update", bad).want(t, 3, "Put back", "Version 1.8 is back, and proved", j.swap)
		same(t, before, tree(t, j.site.Root, caches...))
		sameRows(t, rows, rowsOf(t, j.site.Account.Root, "of_"))
		nothingLeft(t, j.site.Root)
	}},
	{"an update that migrates and fails", func(t *testing.T, j *journey) {
		before, rows := tree(t, j.site.Root, caches...), rowsOf(t, j.site.Account.Root, "of_")
		bad := zipOf(t, "tidetable.zip", tidePlugin("2.0.0", migrateTable, failAfter))
		words := []string{"Put back.", "of_sailings"}
		if j.blind {
			words = []string{"Put back, with doubts.", "nothing was put back there"}
		}
		j.run("update", bad, "--allow-major").want(t, 3, words...)
		same(t, before, tree(t, j.site.Root, caches...))
		if j.blind {
			return // what the plugin did to its table is out of reach
		}
		now := rowsOf(t, j.site.Account.Root, "of_")
		for _, table := range []string{"of_sailings", "of_options"} {
			if now[table] != rows[table] {
				t.Errorf("%s: %s, was %s", table, now[table], rows[table])
			}
		}
	}},
	{"several with a culprit", func(t *testing.T, j *journey) {
		theme := themePackageOf(t, j.site, "1.8", "1.10", map[string]string{"assets/css/print.css": "@media print { nav { display: block; } }\n"})
		bad := zipOf(t, "tidetable.zip", tidePlugin("1.1.0", "", failAfter))
		j.run("update", theme, bad, "--search", "yes").want(t, 3, "Kept in part.", "1.10")
		if text, err := os.ReadFile(filepath.Join(j.site.Root, "wp-content/themes/twentytwentyone/style.css")); err != nil || !strings.Contains(string(text), "Version: 1.10") {
			t.Errorf("what does not break anything is not kept: %v", err)
		}
	}},
	{"restore a part", func(t *testing.T, j *journey) {
		j.run("restore", "twentytwentyone@1.8").want(t, j.well(), "Twenty Twenty-One 1.8 is in place")
		if text, err := os.ReadFile(filepath.Join(j.site.Root, "wp-content/themes/twentytwentyone/style.css")); err != nil || !strings.Contains(string(text), "Version: 1.8") {
			t.Errorf("version 1.8 is not back: %v", err)
		}
	}},
	{"restore all", func(t *testing.T, j *journey) {
		j.run("restore", "snap-1", "--yes").want(t, 0, "Restored.", "equal to snap-1")
		j.run("smoke").want(t, 0, "Sound.")
	}},
	{"a dead site", func(t *testing.T, j *journey) {
		before := tree(t, j.site.Root, caches...)
		must(t, os.RemoveAll(filepath.Join(j.site.Root, "wp-includes")), os.Remove(filepath.Join(j.site.Root, "wp-config.php")))
		j.run("restore", "snap-1", "--yes").want(t, 0, "Restored.", "equal to snap-1")
		same(t, before, tree(t, j.site.Root, caches...))
	}},
	{"recover", func(t *testing.T, j *journey) {
		v := &victim{workspace: j.care, kills: map[string]int{}}
		good := themePackage(t, j.site, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
		before := tree(t, j.site.Root, caches...)
		if _, came := v.killAt(t, both, 6, 0, j.told("update", good)...); !came {
			t.Fatal("the update was over first")
		}
		r := j.run("recover")
		if r.code != j.well() && r.code != 3 {
			t.Fatalf("%s", r)
		}
		if r.code == 3 {
			same(t, before, tree(t, j.site.Root, caches...))
		}
		j.run("smoke").want(t, 0, "Sound.")
		nothingLeft(t, j.site.Root)
	}},
}

// places are where the site of the journeys is. Those that are merely sampled stand for those that are like them.
var places = []struct {
	name    string
	account func(t *testing.T) *sshd.Account
	sampled bool
}{
	{"here", nil, true},
	{"by SSH", func(t *testing.T) *sshd.Account { return testenv.OwnSSHAccount(t) }, true},
	{"by SFTP", func(t *testing.T) *sshd.Account { return testenv.StartFilesAccount(t) }, false},
	{"by SFTP in a jail", func(t *testing.T) *sshd.Account { return testenv.StartJailedAccount(t) }, true},
	{"by SFTP without connections", func(t *testing.T) *sshd.Account { return testenv.StartFilesAccount(t, unconnected...) }, false},
}

// unconnected are the settings of a server that forbids connections by way of it.
var unconnected = []string{"AllowTcpForwarding no", "AllowStreamLocalForwarding no"}

// The same journeys on a real site end in the same way, wherever it is.
func TestJourneysOnEachHost(t *testing.T) {
	t.Parallel()
	for _, place := range places {
		if !place.sampled && sampled(2) > 1 {
			continue
		}
		t.Run(place.name, func(t *testing.T) {
			t.Parallel()
			dir, swap := t.TempDir(), "in one step: the folder was never absent"
			if place.account != nil {
				account := place.account(t)
				reachBySSH(t, account)
				if account.FilesAlone {
					swap = "by two renames: the folder was absent for"
				}
				if account.Jail != "" {
					dir = account.Jail
				}
			}
			site := testenv.WordPressIn(t, dir)
			for file, text := range tidePlugin("1.0.0", firstTable, showSailings) {
				site.Write(t, "wp-content/plugins/"+file, text)
			}
			site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; update_option( 'active_plugins', array( 'tidetable/tidetable.php' ) );`))
			if text, err := site.Get("/?page_id=4"); err != nil || !strings.Contains(text, "07:10 Otterby Steps") {
				t.Fatalf("the plugin does not work: %v", err)
			}
			j := &journey{site: site, care: t.TempDir(), swap: swap, blind: strings.HasSuffix(place.name, "without connections")}
			for _, one := range journeys {
				ok := t.Run(one.name, func(t *testing.T) {
					j.run = func(args ...string) result { return wetland(t, j.care, j.told(args...)...) }
					one.do(t, j)
				})
				if !ok {
					return // each stands on the one before
				}
			}
		})
	}
}
