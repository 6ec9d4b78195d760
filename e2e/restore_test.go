package e2e

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"wetland/core/files"
	"wetland/demo/rowlock"
	"wetland/internal/testenv"
)

// must fails the test on any error.
func must(t testing.TB, all ...error) {
	t.Helper()
	if err := errors.Join(all...); err != nil {
		t.Fatal(err)
	}
}

func TestRestoreOfAPart(t *testing.T) {
	f := adopted(t)
	f.run(t, "snapshot").want(t, 0)
	theme, plugin := filepath.Join(f.root, "themes/harbourlight"), filepath.Join(f.root, "plugins/tidetable")
	damage := func() {
		must(t, os.WriteFile(filepath.Join(theme, "front.html"), []byte("changed"), 0o644),
			os.WriteFile(filepath.Join(plugin, "plugin.toml"), []byte("changed"), 0o644))
		f.exec(t, `UPDATE notices SET title = 'Wrong'; UPDATE menu SET label = 'Wrong'`)
	}
	wrong := func() string {
		var all []string
		for _, name := range []string{filepath.Join(theme, "front.html"), filepath.Join(plugin, "plugin.toml")} {
			text, err := os.ReadFile(name)
			must(t, err)
			if string(text) == "changed" {
				all = append(all, filepath.Base(name))
			}
		}
		for _, table := range []string{"notices", "menu"} {
			if strings.Contains(f.table(t, "SELECT * FROM "+table), "Wrong") {
				all = append(all, table)
			}
		}
		return strings.Join(all, " ")
	}
	for _, c := range []struct{ only, left string }{
		{"harbourlight", "plugin.toml notices menu"},
		{"plugins/tidetable", "front.html notices menu"},
		{"notices", "front.html plugin.toml menu"},
		{"files", "notices menu"},
		{"database", "front.html plugin.toml"},
	} {
		damage()
		// Pages may well be broken by what was not put back.
		if r := f.run(t, "restore", "snap-1", "--yes", "--only", c.only); r.code != 0 && r.code != 4 {
			t.Fatalf("%s: %s", c.only, r)
		}
		if got := wrong(); got != c.left {
			t.Errorf("--only %s left %q as it was, want %q", c.only, got, c.left)
		}
	}
	f.run(t, "restore", "snap-1", "--yes", "--only", "moonraker").want(t, 2, "holds no theme, plugin or table called moonraker")
	f.run(t, "restore", "snap-1", "--yes").want(t, 0, "Restored.")
	if got := wrong(); got != "" {
		t.Errorf("left: %s", got)
	}
	f.run(t, "restore", "snap-1", "--yes", "--only", "files").want(t, 0, "It is as in snap-1 already.")
}

// The site is gone altogether: root, settings, database. The snapshot brings all back.
func TestRestoreOfADeadSite(t *testing.T) {
	for _, c := range []struct {
		name string
		die  func(f *ferry) error
		says string
	}{
		{"the settings", func(f *ferry) error { return os.Remove(filepath.Join(f.root, "rowlock.toml")) }, "wetland restore snap-3 --only database undoes the restore of the tables"},
		{"the database", func(f *ferry) error { return os.Remove(filepath.Join(f.root, "data/crossing.sqlite")) }, "is made again"},
		{"themes and plugins", func(f *ferry) error {
			return errors.Join(os.RemoveAll(filepath.Join(f.root, "themes")), os.RemoveAll(filepath.Join(f.root, "plugins")))
		}, "equal to snap-1"},
		{"everything", func(f *ferry) error {
			entries, err := os.ReadDir(f.root)
			for _, entry := range entries {
				err = errors.Join(err, os.RemoveAll(filepath.Join(f.root, entry.Name())))
			}
			return err
		}, "dead site"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := adopted(t)
			f.run(t, "snapshot").want(t, 0)
			before, notices := f.siteTree(t), f.table(t, "SELECT rowid, * FROM notices ORDER BY slug")
			must(t, c.die(f))
			// The demo's server may have to be told of its new database: its pages do not count.
			if r := f.run(t, "restore", "snap-1", "--yes"); (r.code != 0 && r.code != 4) || !strings.Contains(strings.Join(strings.Fields(r.stdout), " "), c.says) {
				t.Fatal(r)
			}
			same(t, before, f.siteTree(t))
			if now := f.table(t, "SELECT rowid, * FROM notices ORDER BY slug"); now != notices {
				t.Errorf("notices: %s, was %s", now, notices)
			}
			nothingLeft(t, f.root)
			if c.name != "everything" {
				return
			}
			// What could not be read is not taken for what was not there.
			f.run(t, "restore", "snap-2", "--yes").want(t, 0, "they stay as they are")
			f.run(t, "restore", "snap-2", "--yes", "--only", "database").want(t, 2, "holds no tables")
			same(t, before, f.siteTree(t))
			if now := f.table(t, "SELECT rowid, * FROM notices ORDER BY slug"); now != notices {
				t.Errorf("notices: %s, was %s", now, notices)
			}
		})
	}
}

// What visitors wrote since is listed, and kept when asked, while the plugin's table,
// which an update changed, is back.
func TestRestoreKeepsWhatVisitorsWrote(t *testing.T) {
	for _, keep := range []bool{false, true} {
		f := adopted(t)
		f.run(t, "snapshot").want(t, 0)
		f.run(t, "update", f.pkg("tidetable-2.0.0"), "--allow-major").want(t, 0)
		f.exec(t, `INSERT INTO enquiries (sender, message, received) VALUES ('Edda Moss', 'Is the boat late?', '2026-11-01')`)
		must(t, os.WriteFile(filepath.Join(f.root, "uploads/photo.svg"), []byte("<svg/>"), 0o644))
		args := []string{"restore", "snap-1", "--yes"}
		want := "1 row added since will be removed (it is kept in snap-4). --keep-new keeps it here"
		if keep {
			args, want = append(args, "--keep-new"), "1 row added since: stays"
		}
		f.run(t, args...).want(t, 0, "enquiries", want)
		if got := strings.Contains(f.table(t, "SELECT * FROM enquiries"), "Edda Moss"); got != keep {
			t.Errorf("keep %v: the enquiry is there: %v", keep, got)
		}
		if _, err := os.Stat(filepath.Join(f.root, "uploads/photo.svg")); (err == nil) != keep {
			t.Errorf("keep %v: the upload: %v", keep, err)
		}
		if columns := f.table(t, "SELECT sql FROM sqlite_master WHERE name = 'sailings'"); strings.Contains(columns, "minutes") {
			t.Errorf("the plugin's table is still the new one: %s", columns)
		}
	}
}

func TestRestoreIntoAnotherFolder(t *testing.T) {
	f := adopted(t)
	f.run(t, "snapshot").want(t, 0)
	before := f.siteTree(t)
	copied := filepath.Join(t.TempDir(), "copy")
	f.run(t, "restore", "snap-1", "--into", copied).want(t, 0, "Copied.", "the site was not touched")
	same(t, before, tree(t, copied, "cache", "data"))
	db, err := rowlock.OpenDatabase(filepath.Join(copied, "data/crossing.sqlite"))
	must(t, err)
	defer db.Close()
	var count int
	if err := db.QueryRow("SELECT COUNT(*) FROM notices").Scan(&count); err != nil || count != 4 {
		t.Errorf("%d notices, %v", count, err)
	}
	f.run(t, "restore", "snap-1", "--into", copied).want(t, 1, "is not empty")
	f.run(t, "restore", "snap-1", "--into", filepath.Join(f.root, "copy")).want(t, 2, "inside the web root")
	f.run(t, "restore", "snap-1", "--into", filepath.Join(t.TempDir(), "x"), "--keep-new").want(t, 1, "not for a copy")
}

func TestExportIsReadableWithoutWetland(t *testing.T) {
	f := adopted(t)
	f.run(t, "snapshot").want(t, 0)
	before := f.siteTree(t)
	out := filepath.Join(t.TempDir(), "out")
	f.run(t, "export", "snap-1", out).want(t, 0, "Exported.")
	f.run(t, "export", "snap-1", out).want(t, 1, "is not empty")
	f.run(t, "export", "snap-1", filepath.Join(f.root, "out")).want(t, 2, "inside the web root")
	if _, err := exec.LookPath("zstd"); err != nil {
		testenv.Missing(t, "zstd")
	}
	unpacked := t.TempDir()
	if said, err := exec.Command("sh", "-c", "zstd -q -d -c "+out+"/files.tar.zst | tar -xpf - -C "+unpacked).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, said)
	}
	for _, differ := range files.Exact.Compare(before, tree(t, filepath.Join(unpacked, "site"))) {
		if differ.Path != "data" { // its database is not in the archive
			t.Errorf("%s: %s", differ.Path, differ.What)
		}
	}
	for _, name := range []string{"files.tar.zst", "database.sql", "about.json", "READ-ME.txt"} {
		if info, err := os.Stat(filepath.Join(out, name)); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v %v", name, info, err)
		}
	}
}

func TestTidyKeepsWhatIsNeeded(t *testing.T) {
	f := adopted(t)
	fill := func(text string) {
		must(t, os.WriteFile(filepath.Join(f.root, "uploads/diary.txt"), []byte(strings.Repeat(text, 50_000)), 0o644))
	}
	for _, text := range []string{"one ", "two ", "three ", "four "} {
		fill(text)
		f.run(t, "snapshot", "--note", text).want(t, 0)
	}
	f.run(t, "pin", "snap-2").want(t, 0, "is pinned")
	f.run(t, "pin", "snap-9").want(t, 1, "no such snapshot")
	f.run(t, "tidy").want(t, 0, "A preview.", "0 of 4 snapshots would go; nothing was changed", "wetland tidy --yes")
	f.run(t, "tidy", "--yes").want(t, 0, "4 of 4 snapshots stay", "of the last 14 days")
	for _, rule := range []string{"all_for_days = 14", "one_a_day_for_days = 60", "one_a_week_for_weeks = 26", "one_a_month_for_months = 24"} {
		name, _, _ := strings.Cut(rule, " =")
		f.edit(t, f.config(), rule, name+" = 0")
	}
	f.run(t, "tidy", "--yes").want(t, 0, "2 of 4 snapshots stay", "pinned", "the newest", "past its time")
	f.run(t, "verify", "snap-2").want(t, 0)
	f.run(t, "verify", "snap-4", "--deep").want(t, 0)
	f.run(t, "verify", "snap-1").want(t, 1, "no such snapshot")
	f.run(t, "restore", "snap-2", "--yes").want(t, 0, "Restored.")
	if text, err := os.ReadFile(filepath.Join(f.root, "uploads/diary.txt")); err != nil || !strings.HasPrefix(string(text), "two ") {
		t.Errorf("%.20s %v", text, err)
	}
	f.run(t, "pin", "snap-2", "--off").want(t, 0, "not pinned any more")
	f.run(t, "tidy", "--yes").want(t, 0, "1 of 3 snapshots stay")
	left, err := filepath.Glob(filepath.Join(f.care, "store/pins/*"))
	if err != nil || len(left) > 0 {
		t.Errorf("left: %v %v", left, err)
	}
}

func TestSnapshotIfOlder(t *testing.T) {
	f := adopted(t)
	f.run(t, "snapshot", "--if-older", "2h").want(t, 0, "Taken and verified.")
	f.run(t, "snapshot", "--if-older", "2h").want(t, 0, "None needed.", "neither files nor tables changed")
	f.run(t, "snapshot", "--if-older", "1ns").want(t, 0, "Taken and verified.")
	f.exec(t, "UPDATE notices SET title = 'New'")
	f.run(t, "snapshot", "--if-older", "2h").want(t, 0, "the table notices", "Taken and verified.")
	must(t, os.Chmod(filepath.Join(f.root, "uploads/map.svg"), 0o600))
	f.run(t, "snapshot", "--if-older", "2h").want(t, 0, "uploads/map.svg (mode", "Taken and verified.")
}

// Sockets and pipes are skipped and said; what cannot be read stops a snapshot.
func TestOddFilesInASnapshot(t *testing.T) {
	f := adopted(t)
	odd := filepath.Join(f.root, "uploads/odd")
	must(t, os.Mkdir(odd, 0o755), os.Symlink("/etc/passwd", filepath.Join(odd, "out")), os.Symlink("nowhere", filepath.Join(odd, "dangling")),
		os.WriteFile(filepath.Join(odd, "a b\n\xff%"), []byte("odd"), 0o600), os.WriteFile(filepath.Join(odd, "empty"), nil, 0o444),
		os.Link(filepath.Join(odd, "a b\n\xff%"), filepath.Join(odd, "second name")), exec.Command("mkfifo", filepath.Join(odd, "pipe")).Run())
	sparse, err := os.Create(filepath.Join(odd, "sparse"))
	must(t, err, sparse.Truncate(64<<20), sparse.Close())
	before := f.siteTree(t)
	f.run(t, "snapshot").want(t, 0, "skipped", "uploads/odd/pipe")
	must(t, os.RemoveAll(odd))
	f.run(t, "restore", "snap-1", "--yes").want(t, 0, "Restored.")
	same(t, before, f.siteTree(t))
	var disk syscall.Stat_t
	if err := syscall.Stat(filepath.Join(odd, "sparse"), &disk); err != nil || disk.Size != 64<<20 || disk.Blocks*512 > 1<<20 {
		t.Errorf("the sparse file takes %d bytes: %v", disk.Blocks*512, err)
	}
	if _, err := os.Lstat(filepath.Join(odd, "pipe")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the pipe: %v", err)
	}
}

// A booking that a visitor made in the very table which an update changed, and a change
// of a row that was there before, are kept in the table as it was.
func TestRestoreKeepsWhatWasWrittenToAChangedTable(t *testing.T) {
	f := adopted(t)
	f.exec(t, `CREATE TABLE bookings (id INTEGER PRIMARY KEY, who TEXT NOT NULL, seats INTEGER DEFAULT 1, boat TEXT DEFAULT 'any');
INSERT INTO bookings (who, seats) VALUES ('Maud', 2), ('Piet', 4); CREATE TABLE visits (page TEXT); INSERT INTO visits VALUES ('/')`)
	f.run(t, "snapshot").want(t, 0)
	entries := entriesOf(t, filepath.Join(f.root, "plugins/tidetable"), "tidetable")
	entries["tidetable/plugin.toml"] = strings.Replace(entries["tidetable/plugin.toml"], `version = "1.3.0"`, `version = "1.4.0"`, 1)
	entries["tidetable/migrations/002-bookings.sql"] = "ALTER TABLE bookings ADD COLUMN paid INTEGER DEFAULT 0; ALTER TABLE bookings DROP COLUMN boat; UPDATE bookings SET who = upper(who);"
	f.run(t, "update", zipOf(t, "tidetable.zip", entries)).want(t, 0, "Kept.")
	if who := f.table(t, "SELECT who FROM bookings WHERE id = 1"); !strings.Contains(who, "MAUD") {
		t.Fatalf("the update changed nothing: %s", who)
	}
	f.exec(t, `INSERT INTO bookings (who, seats, paid) VALUES ('Edda', 3, 1); UPDATE bookings SET seats = 1 WHERE id = 2; DELETE FROM bookings WHERE id = 1;
INSERT INTO visits VALUES ('/fares'); INSERT INTO visits VALUES ('/fares')`)
	f.run(t, "restore", "snap-1", "--yes", "--keep-new").want(t, 0, "bookings 1 row added, 1 changed, 1 removed since: stays", "visits 2 rows added since: stays", "Restored.")
	for query, want := range map[string]string{
		"SELECT group_concat(id || who || seats || boat, ' ') FROM (SELECT * FROM bookings ORDER BY id)": "1Maud2any 2Piet1any 3Edda3any",
		"SELECT group_concat(page, ' ') FROM visits":                                                     "/ /fares /fares",
	} {
		if got := f.table(t, query); !strings.Contains(got, want) {
			t.Errorf("%s is %s, want %s", query, got, want)
		}
	}
}

// Any version that was ever installed can be brought back, guarded as an update is.
func TestRestoreOfAVersion(t *testing.T) {
	f := adopted(t)
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "Kept.")
	f.run(t, "restore", "harbourlight@2.4.1").want(t, 0, "2.5.2 -> 2.4.1", "Kept.")
	f.wantTheme(t, "2.4.1")
	f.run(t, "shelve", f.pkg("harbourlight-2.5.0")).want(t, 0)
	f.run(t, "restore", "harbourlight@2.5.0").want(t, 3, "Put back.")
	f.wantTheme(t, "2.4.1")
	f.run(t, "restore", "harbourlight@7.0").want(t, 1, "the shelf has no such package")
	f.run(t, "restore", "harbourlight@2.5.2", "--keep-new").want(t, 1, "files alone")
}
