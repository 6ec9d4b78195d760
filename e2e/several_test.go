package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/core/runs"
)

// The plan touches nothing; together the packages fail and go back; with the search the
// culprit is named and the other one stays.
func TestSeveralPackages(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	f.run(t, "shelve", f.pkg("enquiries-1.2.0"), f.pkg("tidetable-2.1.0"), f.pkg("harbourlight-2.5.2")).want(t, 0)
	before := f.siteTree(t)
	f.edit(t, f.config(), "[update]", "[[hold]]\nfolder = \"harbourlight\"\nbecause = \"the season is on\"\n\n[update]")
	f.run(t, "update", "--all", "--plan").want(t, 0,
		"step 1 plugin Enquiries (enquiries) 1.1.0 -> 1.2.0 minor",
		"tidetable 2.1.0: it is a major release", "harbourlight 2.5.2: wetland.toml holds it: the season is on",
		"what was before is put back", "time no limit", "Nothing on the site was touched.")
	f.edit(t, f.config(), "[update]", "[hooks]\nafter = \"true\"\n[update]\ntime_limit = \"20m\"")
	f.run(t, "update", "--all", "--plan").want(t, 0, "runs after: true", "time at most 20m0s; then it goes back")
	f.run(t, "update", "harbourlight").want(t, 2, "holds harbourlight at 2.4.1: the season is on", "[[hold]]")
	f.run(t, "update").want(t, 1, "name packages, or take --all")
	f.run(t, "update", "enquiries", "enquiries@1.2.0").want(t, 2, "enquiries: the plugin is named twice")
	f.run(t, "update", "enquiries", f.pkg("harbourlight-3.0.0"), f.pkg("tidetable-2.1.0")).want(t, 2, "harbourlight: from 2.4.1 to 3.0.0 is a major release", "tidetable: from 1.3.0 to 2.1.0 is a major release")
	same(t, before, f.siteTree(t))

	f.edit(t, f.config(), "[[hold]]\n", "[[hold]]\nfolder = \"enquiries\"\nbecause = \"for the test\"\n[[hold]]\n")
	f.run(t, "update", "--all").want(t, 0, "Nothing to do: the shelf has nothing newer to update", "enquiries 1.2.0 is left")
	f.edit(t, f.config(), "[[hold]]\nfolder = \"enquiries\"\nbecause = \"for the test\"\n", "")

	both := []string{"update", "enquiries", "tidetable", "--allow-major"}
	f.run(t, both...).want(t, 3, "Put back. 1 of 11 pages broke with Enquiries 1.2.0 and Tidetable 2.1.0. All is back (Enquiries 1.1.0 and Tidetable 1.3.0)")
	same(t, before, f.siteTree(t))
	nothingLeft(t, f.root)

	var run struct {
		State      string
		Components []struct {
			Folder, Fate string
			Because      []string
		}
		Probes   []struct{ Verdict string }
		Database []runs.TableNote
	}
	f.run(t, append(both, "--search", "yes", "--json")...).want(t, 3).decode(t, &run)
	if run.State != "kept in part" || len(run.Probes) == 0 {
		t.Errorf("%+v", run)
	}
	for _, c := range run.Components {
		want := map[string]string{"enquiries": "kept", "tidetable": "put back"}[c.Folder]
		if c.Fate != want || (want == "put back" && !strings.Contains(strings.Join(c.Because, "\n"), "it breaks the pages by itself\n/timetable")) {
			t.Errorf("%+v", c)
		}
	}
	tables := map[string]int{}
	for _, note := range run.Database { // how it stands at the end, not what each step did
		tables[note.Table]++
		if tables[note.Table] > 1 || strings.Contains(note.What, "put back") {
			t.Errorf("%+v", run.Database)
		}
	}
	if tables["plugins"] != 1 {
		t.Errorf("plugins is not told: %+v", run.Database)
	}
	f.run(t, "report", "run-2", "--as", "markdown").want(t, 0, "Kept in part", "**put back** Tidetable 2.1.0", "it breaks the pages by itself")
	page, err := os.ReadFile(filepath.Join(f.care, "runs/run-2/report.html"))
	if err != nil || !strings.Contains(string(page), "The search for the culprit") {
		t.Errorf("the report does not tell of the search: %v", err)
	}
	f.run(t, "survey").want(t, 0, "1.2.0")
	f.run(t, "smoke").want(t, 0, "Sound.")
	nothingLeft(t, f.root)
}

// One by one: what fails is put back, and the rest goes on without it.
func TestOneByOne(t *testing.T) {
	f := adopted(t)
	f.run(t, "update", f.pkg("tidetable-2.1.0"), f.pkg("enquiries-1.2.0"), f.pkg("harbourlight-2.5.2"), "--allow-major", "--one-by-one", "--order", "given").want(t, 3,
		"step 1 plugin Tidetable", "Kept in part. Enquiries 1.2.0 and Harbourlight 2.5.2 are in place", "Not kept, and put back: Tidetable 2.1.0")
	f.wantTheme(t, "2.5.2")
	f.run(t, "smoke").want(t, 0, "Sound.")
	nothingLeft(t, f.root)
}

// A layout that is meant is accepted, once, with a reason; then the update passes.
func TestAcceptedFindingsDoNotCount(t *testing.T) {
	f := adopted(t)
	update := []string{"update", f.pkg("harbourlight-3.0.0"), "--allow-major"}
	f.run(t, update...).want(t, 3, "Put back. 10 of 11 pages became doubtful", "wetland accept run-1 --because WHY")
	f.run(t, "accept", "run-1").want(t, 1, "say why it is accepted")
	f.run(t, "accept", "run-9", "--because", "meant").want(t, 1, "there is no such run")
	f.run(t, "accept", "run-1", "--check", "robots", "--because", "meant").want(t, 1, "no doubtful finding")
	f.run(t, "accept", "run-1", "--because", "the new look is meant").want(t, 0, "the header is gone", "Accepted.")
	f.run(t, update...).want(t, 0, "Kept.")
	f.run(t, "report", "run-1", "--as", "markdown").want(t, 0, "(accepted: the new look is meant)")
}

// Rules in wetland.toml weigh findings otherwise.
func TestRulesOfTheSite(t *testing.T) {
	f := adopted(t)
	f.edit(t, f.config(), "[update]", "[[severity]]\ncheck = \"layuot\"\nas = \"sound\"\nbecause = \"x\"\n\n[update]")
	f.run(t, "smoke").want(t, 1, "there is no check called \"layuot\" (known: active, answer")
	f.edit(t, f.config(), "layuot", "status")
	f.edit(t, f.config(), "because = \"x\"", "because = \"the fares are being written\"\npages = [\"/fares\"]")
	f.edit(t, f.config(), "path = \"/fares\"", "path = \"/fares\"\nstatus = 503")
	f.run(t, "smoke").want(t, 0, "Sound.", "counts as sound: the fares are being written")
}
