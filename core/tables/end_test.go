package tables

import (
	"slices"
	"testing"

	"wetland/core/database"
	"wetland/core/runs"
	"wetland/core/snapshot"
)

// Each table is said once, as it stands, whatever the single steps did with it.
func TestEndNotesSayHowTablesStand(t *testing.T) {
	table := func(name string, rows int64, digest string) database.Table {
		return database.Table{Name: name, Kind: database.BaseTable, Create: "CREATE TABLE " + name, Rows: rows, Digest: digest}
	}
	altered := table("tides", 4, "d2")
	altered.Create += " (height)"
	var from snapshot.Manifest
	from.Name = "snap-7"
	for _, before := range []database.Table{table("plugins", 3, "a"), table("notices", 2, "b"), table("menu", 5, "c"), table("tides", 4, "d"), table("fares", 1, "e")} {
		from.Tables = append(from.Tables, snapshot.Table{Table: before})
	}
	now := []database.Table{table("plugins", 3, "a2"), table("notices", 3, "b2"), table("menu", 5, "c"), altered, table("piers", 6, "f")}
	notes := []runs.TableNote{
		{Table: "plugins", What: "2 rows of settings put back", Saved: "/run/rows/01-plugins.jsonl"},
		{Table: "plugins", What: "1 row of settings put back", Saved: "/run/rows/02-plugins.jsonl"},
		{Table: "plugins", What: "1 row of settings put back", Saved: "/run/rows/03-plugins.jsonl"},
		{Table: "menu", What: "was dropped by the update: back with 5 rows", Saved: "/run/rows/04-menu.jsonl"},
		{Table: "moorings", What: "was created by the update: set aside under another name, with its 2 rows"},
		{Table: "notices", Unsure: true, What: "1 row could not be kept"},
	}
	want := []runs.TableNote{
		{Table: "fares", Left: true, What: "gone since snap-7"},
		{Table: "menu", What: "as in snap-7", Saved: "/run/rows/04-menu.jsonl"},
		{Table: "moorings", What: "was created by the update: set aside under another name, with its 2 rows"},
		{Table: "notices", Left: true, What: "3 rows now, 2 in snap-7: written by what was kept, visitors or the CMS"},
		{Table: "notices", Unsure: true, What: "1 row could not be kept"},
		{Table: "piers", Left: true, What: "new since snap-7, with 6 rows"},
		{Table: "plugins", Left: true, What: "some of its 3 rows changed since snap-7, by what was kept, visitors or the CMS", Saved: "/run/rows"},
		{Table: "tides", Left: true, What: "structure changed since snap-7; 4 rows now"},
	}
	if got := endNotes(notes, &from, now, true); !slices.Equal(got, want) {
		t.Errorf("%+v\nwant\n%+v", got, want)
	}
}
