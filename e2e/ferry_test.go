package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"wetland/core/files"
	"wetland/demo"
	"wetland/demo/rowlock"
	"wetland/internal/testenv"
)

// get returns the status and text of a page, as a plain visitor.
func (f *ferry) get(t *testing.T, path string) (int, string) {
	t.Helper()
	response, err := http.Get(strings.TrimSuffix(f.address, "/") + path)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	var text strings.Builder
	if _, err := io.Copy(&text, response.Body); err != nil {
		t.Fatal(err)
	}
	return response.StatusCode, text.String()
}

// table returns the rows of a query on the site's database, as JSON.
func (f *ferry) table(t *testing.T, query string) string {
	t.Helper()
	db, err := rowlock.OpenDatabase(filepath.Join(f.root, "data/crossing.sqlite"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.Query(query)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		t.Fatal(err)
	}
	var all [][]any
	for rows.Next() {
		cells, targets := make([]any, len(names)), make([]any, len(names))
		for i := range cells {
			targets[i] = &cells[i]
		}
		if err := rows.Scan(targets...); err != nil {
			t.Fatal(err)
		}
		all = append(all, cells)
	}
	text, err := json.Marshal(map[string]any{"columns": names, "rows": all})
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// packageTree is the tree that a bundled package should become.
func packageTree(t *testing.T, name string) files.Tree {
	t.Helper()
	contents, err := demo.PackageFiles(name)
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	for at, text := range contents {
		file := filepath.Join(folder, filepath.FromSlash(at))
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, text, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return tree(t, folder)
}

func TestDemoTellsItsStory(t *testing.T) {
	t.Parallel()
	testenv.TakesLong(t)
	dir := filepath.Join(t.TempDir(), "story")
	result := wetland(t, t.TempDir(), "demo", "--dir", dir)
	result.want(t, 0, "$ wetland adopt", "Adopted.", "$ wetland survey", "$ wetland examine", "What its author says changed", "Put back.", "Version 2.4.1 is back, and proved",
		"Kept. Harbourlight 2.5.2 is in place", "$ wetland history", "Where everything lies")
	for _, differ := range files.Content.Compare(packageTree(t, "harbourlight-2.5.2"), tree(t, filepath.Join(dir, "site/themes/harbourlight"))) {
		t.Errorf("%s: %s", differ.Path, differ.What)
	}
	wetland(t, t.TempDir(), "demo", "--dir", filepath.Dir(dir)).want(t, 1, "is not empty and holds no demo")
}

// The same story on a site that is reached by SSH, with the settings of whoever plays it left alone.
func TestDemoOverSSH(t *testing.T) {
	t.Parallel()
	testenv.TakesLong(t)
	testenv.OwnSSHAccount(t) // which needs the server
	dir := filepath.Join(t.TempDir(), "story")
	command := exec.Command(program, "demo", "--over-ssh", "--dir", dir)
	command.Env = append(os.Environ(), "HOME="+t.TempDir())
	finish(t, command, t.TempDir()).want(t, 0, "$ wetland adopt ssh://", "wetland-helper: all promises are kept", "Put back.", "Kept. Harbourlight 2.5.2 is in place", "Where everything lies")
	for _, differ := range files.Content.Compare(packageTree(t, "harbourlight-2.5.2"), tree(t, filepath.Join(dir, "site/themes/harbourlight"))) {
		t.Errorf("%s: %s", differ.Path, differ.What)
	}
	wetland(t, t.TempDir(), "demo", "--over-ssh", "--serve").want(t, 1, "Leave --serve out")
}

func TestUpdateEndings(t *testing.T) {
	t.Parallel()
	for _, ending := range []struct {
		name, pkg string
		args      []string
		code      int
		words     []string
	}{
		{"good", "harbourlight-2.5.2", nil, 0, []string{"Kept.", "2.4.1 is on the shelf"}},
		{"one page broken", "harbourlight-2.5.0", nil, 3, []string{"Put back. 1 of 11 pages broke", "/notices broken the server answers 500"}},
		{"file left out that the child includes", "harbourlight-2.5.1", nil, 3, []string{"Put back. 1 of 11 pages broke", "/ broken"}},
		{"another layout, nobody to ask", "harbourlight-3.0.0", nil, 3, []string{"became doubtful", "the menu moved from the header to the footer", "the side column is gone"}},
		{"another layout, kept", "harbourlight-3.0.0", []string{"--in-doubt", "keep"}, 4, []string{"Done, with doubts.", "goes back, if they are wrong"}},
		{"plugin that migrates", "tidetable-2.0.0", nil, 0, []string{"Kept."}},
		{"plugin that fails after migrating", "tidetable-2.1.0", nil, 3, []string{"Put back.", "plugins and sailings put back", "was changed in structure by the update: back as it was, with 8 rows"}},
	} {
		t.Run(ending.name, func(t *testing.T) {
			f := adopted(t)
			before := f.siteTree(t)
			sailings := f.table(t, "SELECT rowid, * FROM sailings ORDER BY id")
			state := f.table(t, "SELECT * FROM plugins ORDER BY folder")
			f.run(t, append([]string{"update", f.pkg(ending.pkg), "--allow-major"}, ending.args...)...).want(t, ending.code, ending.words...)
			component, _, _ := strings.Cut(ending.pkg, "-")
			folder := filepath.Join(f.root, "themes", component)
			if _, err := os.Stat(folder); err != nil {
				folder = filepath.Join(f.root, "plugins", component)
			}
			if ending.code == 3 {
				same(t, before, f.siteTree(t))
				if now := f.table(t, "SELECT rowid, * FROM sailings ORDER BY id"); now != sailings {
					t.Errorf("sailings: %s, was %s", now, sailings)
				}
				if now := f.table(t, "SELECT * FROM plugins ORDER BY folder"); now != state {
					t.Errorf("plugins: %s, was %s", now, state)
				}
			} else {
				for _, differ := range files.Content.Compare(packageTree(t, ending.pkg), tree(t, folder)) {
					t.Errorf("%s: %s", differ.Path, differ.What)
				}
			}
			nothingLeft(t, f.root)
			for _, page := range []string{"/", "/timetable", "/notices", "/contact"} {
				if status, _ := f.get(t, page); status != http.StatusOK {
					t.Errorf("%s answers %d", page, status)
				}
			}
		})
	}
}

// A visitor who writes while a failing update is in place loses nothing.
func TestVisitorsWritesSurviveGoingBack(t *testing.T) {
	f := adopted(t)
	// The visitor's writes come with the migration: that is while the bad version is
	// in place, whatever the machine's speed.
	entries := entriesOf(t, filepath.Join(f.root, "plugins/tidetable"), "tidetable")
	entries["tidetable/plugin.toml"] = "name = \"Tidetable\"\nversion = \"1.4.0\"\n"
	entries["tidetable/blocks/board.html"] = `{{range query "SELECT nothing FROM sailings"}}{{end}}`
	entries["tidetable/migrations/002-more.sql"] = `ALTER TABLE sailings ADD COLUMN boat TEXT;
CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT);
INSERT INTO boats (name) VALUES ('Wagtail');
INSERT INTO settings VALUES ('tidetable_boats', 'yes');
INSERT INTO enquiries (sender, message, received) VALUES ('Piet Alder', 'Is the path open?', '2026-11-23 10:00:00');
INSERT INTO sailings (stage, departs, boat) VALUES ('Otterby Steps', '23:00', 'Wagtail');`
	bad := zipOf(t, "tidetable-1.4.0.zip", entries)
	sailings := f.table(t, "SELECT * FROM sailings ORDER BY id")

	result := f.run(t, "update", bad)
	result.want(t, 3, "Put back.", "sailings was changed in structure", "sailings 1 row added", "visitors' writes, kept", "boats was created by the update: set aside", "enquiries 1 row added meanwhile: visitors' writes, kept", "1 row of settings as before again")
	kept := strings.TrimSuffix(sailings, "]}") + `,[9,"Otterby Steps","23:00",null]]}`
	if now := f.table(t, "SELECT * FROM sailings ORDER BY id"); now != kept {
		t.Errorf("sailings: %s, was %s", now, sailings)
	}
	if now := f.table(t, "SELECT sender FROM enquiries ORDER BY id"); !strings.Contains(now, "Piet Alder") {
		t.Errorf("the visitor's enquiry is gone: %s", now)
	}
	if now := f.table(t, "SELECT name FROM settings WHERE name = 'tidetable_boats'"); strings.Contains(now, "tidetable_boats") {
		t.Error("the update's setting is still there")
	}
	if now := f.table(t, "SELECT name FROM wetland_aside_run_1_boats"); !strings.Contains(now, "Wagtail") {
		t.Errorf("the table that was set aside holds %s", now)
	}
	// What was in the altered table is in a file of the run.
	saved, err := filepath.Glob(filepath.Join(f.care, "runs/run-1/rows-before-going-back/*sailings.jsonl"))
	if err != nil || len(saved) != 1 {
		t.Fatalf("saved rows: %v %v", saved, err)
	}
	text, err := os.ReadFile(saved[0])
	if err != nil || !strings.Contains(string(text), "23:00") {
		t.Errorf("the saved rows are %s %v", text, err)
	}
	// The counter never goes down: no number is given twice.
	if now := f.table(t, "SELECT seq FROM sqlite_sequence WHERE name = 'sailings'"); !strings.Contains(now, "[[9]]") {
		t.Errorf("the counter of sailings is %s", now)
	}
}

func TestRestoreMakesEverythingEqual(t *testing.T) {
	f := adopted(t)
	f.run(t, "snapshot", "--note", "as it was").want(t, 0, "Taken and verified.", "snap-1")
	before := f.siteTree(t)
	notices := f.table(t, "SELECT rowid, * FROM notices ORDER BY slug")

	// Damage of every sort.
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(f.root, name), []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	write("themes/harbourlight/style.css", "")
	write("themes/harbourlight/leftover.html", "x")
	write("uploads/new.svg", "<svg/>")
	write("system/version.txt", "3.2.1\n")
	if err := os.RemoveAll(filepath.Join(f.root, "plugins/enquiries")); err != nil {
		t.Fatal(err)
	}
	if err := os.CopyFS(filepath.Join(f.root, "plugins/extra"), os.DirFS(filepath.Join(f.root, "plugins/tidetable"))); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Join(f.root, "uploads/map.svg"), 0o600); err != nil {
		t.Fatal(err)
	}
	write("cache/kept.txt", "a cache is never touched by a restore")
	f.exec(t, `DELETE FROM notices WHERE slug = 'new-boat'; UPDATE notices SET title = 'Wrong'; DROP TABLE enquiries; CREATE TABLE extra (a); INSERT INTO extra VALUES (7)`)

	f.run(t, "restore", "snap-1").want(t, 1, "say --yes")
	result := f.run(t, "restore", "snap-1", "--yes")
	result.want(t, 0, "Restored.", "tables set aside extra", "undoes this restore", "equal to snap-1")
	same(t, before, f.siteTree(t))
	if now := f.table(t, "SELECT rowid, * FROM notices ORDER BY slug"); now != notices {
		t.Errorf("notices: %s, was %s", now, notices)
	}
	if now := f.table(t, "SELECT * FROM wetland_aside_before_snap_1_extra"); !strings.Contains(now, "7") {
		t.Errorf("what was set aside holds %s", now)
	}
	nothingLeft(t, f.root)

	// A restore can be undone: the damage is back.
	f.run(t, "restore", "snap-2", "--yes")
	if text, err := os.ReadFile(filepath.Join(f.root, "themes/harbourlight/leftover.html")); err != nil || string(text) != "x" {
		t.Errorf("undoing the restore: %q %v", text, err)
	}
	f.run(t, "restore", "snap-77", "--yes").want(t, 1, "the store has no such snapshot")
}

func (f *ferry) exec(t *testing.T, statements string) {
	t.Helper()
	db, err := rowlock.OpenDatabase(filepath.Join(f.root, "data/crossing.sqlite"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(statements); err != nil {
		t.Fatal(err)
	}
}

func TestDamagedSnapshotIsNeverRestored(t *testing.T) {
	f := adopted(t)
	f.run(t, "snapshot").want(t, 0)
	f.run(t, "verify", "snap-1").want(t, 0, "Proved.")
	volumes, err := filepath.Glob(filepath.Join(f.care, "store/volumes/*"))
	if err != nil || len(volumes) != 1 {
		t.Fatalf("volumes: %v %v", volumes, err)
	}
	whole, err := os.ReadFile(volumes[0])
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(f.root, "uploads/map.svg"), []byte("to be restored"), 0o644); err != nil {
		t.Fatal(err)
	}
	before := f.siteTree(t)
	for _, at := range []int{20, len(whole) / 3, len(whole) / 2, len(whole) - 3} {
		damaged := append([]byte(nil), whole...)
		damaged[at] ^= 1
		if err := os.WriteFile(volumes[0], damaged, 0o600); err != nil {
			t.Fatal(err)
		}
		f.run(t, "verify", "snap-1").want(t, 3, "must not be relied on")
		f.run(t, "restore", "snap-1", "--yes").want(t, 2, "snap-1 is damaged", "Choose another snapshot")
	}
	same(t, before, f.siteTree(t))
}

func TestStoreIsPrivate(t *testing.T) {
	f := adopted(t)
	f.run(t, "update", f.pkg("tidetable-2.1.0"), "--allow-major").want(t, 3)
	for _, item := range tree(t, f.care) {
		if item.Path != "." && item.Mode&0o077 != 0 {
			t.Errorf("%s has the mode %04o: others can read it", item.Path, item.Mode)
		}
	}
}

func TestSmokeLearnsAndCompares(t *testing.T) {
	f := adopted(t)
	f.run(t, "smoke").want(t, 0, "Sound. 11 pages: 11 sound", "Not covered:")
	f.edit(t, filepath.Join(f.root, "themes/harbourlight/parts/menu.html"), "{{range .Menu}}", "{{range slice .Menu 0 4}}")
	result := f.run(t, "smoke").want(t, 4, "Doubtful.", "the menu lost 2 of 6")
	var document struct {
		ExitCode int `json:"exit_code"`
		Result   struct {
			Verdict string `json:"verdict"`
			Pages   []struct {
				Path     string `json:"path"`
				Findings []struct {
					Check, What, Evidence string
				} `json:"findings"`
			} `json:"pages"`
		} `json:"result"`
	}
	f.run(t, "smoke", "--json").decode(t, &document)
	if document.Result.Verdict != "doubtful" || document.ExitCode != 4 || len(document.Result.Pages) != 11 || document.Result.Pages[0].Findings[0].Check != "menu" {
		t.Errorf("%+v\n%s", document, result)
	}
	f.run(t, "smoke", "--learn").want(t, 0, "Recorded.")
	f.run(t, "smoke").want(t, 0, "Sound.")
	f.breakPage(t)
	f.run(t, "smoke").want(t, 3, "/notices broken the server answers 500")
	f.run(t, "smoke", "--learn").want(t, 2, "Not recorded.")
	f.run(t, "smoke", "--learn", "--accept-present").want(t, 0, "Recorded.")
	f.run(t, "smoke").want(t, 0, "does not count")
}

func TestExpectedText(t *testing.T) {
	f := adopted(t)
	f.edit(t, f.config(), "expect = []", `expect = ["Two boats, one bell"]`)
	f.run(t, "smoke").want(t, 0)
	f.edit(t, f.config(), "Two boats, one bell", "Three boats")
	f.run(t, "smoke").want(t, 3, `the text "Three boats" is not there`)
}

func TestPlainVisitorsGetNoStalePages(t *testing.T) {
	f := adopted(t)
	f.get(t, "/contact") // now in the page cache
	f.run(t, "update", f.pkg("enquiries-1.2.0")).want(t, 0)
	if _, text := f.get(t, "/contact"); !strings.Contains(text, "Send to the ferryman") {
		t.Error("visitors still get the cached page of the old version")
	}
}

func TestJSONOfAnUpdate(t *testing.T) {
	f := adopted(t)
	var run struct {
		Name, State, Snapshot string
		ExitCode              int `json:"exit_code"`
		Components            []struct{ Folder, From, To, Fate string }
		Steps                 []struct{ Name, Mark string }
	}
	result := f.run(t, "update", f.pkg("harbourlight-2.5.0"), "--json").want(t, 3)
	result.decode(t, &run)
	if run.Name != "run-1" || run.State != "put back" || run.Snapshot != "snap-1" || run.ExitCode != 3 || len(run.Components) != 1 || run.Components[0].From != "2.4.1" || run.Components[0].Fate != "put back" || len(run.Steps) < 8 || result.err != "" && accountOf(t) == nil {
		t.Errorf("%+v\n%s", run, result)
	}
	var history struct {
		Events []struct{ Name, State, About string }
	}
	f.run(t, "history", "--json").decode(t, &history)
	if len(history.Events) != 2 || history.Events[0].Name != "run-1" || history.Events[1].State != "verified" {
		t.Errorf("%+v", history)
	}
	f.run(t, "history").want(t, 0, "put back", "Harbourlight 2.4.1 to 2.5.0")
}

func TestHelpHasExamples(t *testing.T) {
	for _, command := range []string{"", "demo", "adopt", "snapshot", "verify", "smoke", "update", "restore", "recover", "history"} {
		args := append(strings.Fields(command), "--help")
		wetland(t, t.TempDir(), args...).want(t, 0, "Examples:", "wetland "+command)
	}
	wetland(t, t.TempDir(), "--version").want(t, 0, "wetland ")
	wetland(t, t.TempDir(), "completion", "bash").want(t, 0, "bash completion")
	wetland(t, t.TempDir(), "overwrite").want(t, 1, "unknown command")
}

// TestEnquiryIsWritten proves that the form of the stand-in really writes.
func TestEnquiryIsWritten(t *testing.T) {
	f := layOut(t)
	response, err := http.PostForm(f.address+"contact", url.Values{"sender": {"Maud"}, "message": {"Hello?"}})
	if err != nil {
		t.Fatal(err)
	}
	response.Body.Close()
	if now := f.table(t, "SELECT sender FROM enquiries ORDER BY id"); !strings.Contains(now, "Maud\"") {
		t.Errorf("enquiries: %s", now)
	}
}
