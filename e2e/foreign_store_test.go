package e2e

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"

	"wetland/internal/testenv"
)

// object is a part of a manifest.
type object = map[string]any

// forge changes a manifest as somebody would who can write to the store, proof and all.
func forge(t *testing.T, workspace, name string, change func(m object)) {
	t.Helper()
	file := filepath.Join(workspace, "store/snapshots", name+".manifest")
	data, err := os.ReadFile(file)
	must(t, err)
	_, packed, _ := bytes.Cut(data, []byte("\n"))
	unpacker, err := zstd.NewReader(nil)
	must(t, err)
	defer unpacker.Close()
	text, err := unpacker.DecodeAll(packed, nil)
	must(t, err)
	m := object{}
	must(t, json.Unmarshal(text, &m))
	change(m)
	text, err = json.Marshal(m)
	must(t, err)
	packer, err := zstd.NewWriter(nil)
	must(t, err)
	packed = packer.EncodeAll(text, nil)
	sum := blake3.Sum256(packed)
	must(t, os.WriteFile(file, append([]byte("wetland snapshot "+hex.EncodeToString(sum[:])+"\n"), packed...), 0o600))
}

// tableOf is a table in a manifest.
func tableOf(t *testing.T, m object, name string) object {
	t.Helper()
	for _, table := range m["tables"].([]any) {
		if table := table.(object); table["name"] == name {
			return table
		}
	}
	t.Fatalf("there is no table %s", name)
	return nil
}

// add appends to a list in a manifest.
func add(of object, key string, what any) {
	list, _ := of[key].([]any)
	of[key] = append(list, what)
}

// Whoever can write to a store gets nothing done by it but what a snapshot is for: no file outside
// of the site, no statement of theirs, no crash; not by looking at it, and not by using it.
func TestForgedStore(t *testing.T) {
	t.Parallel()
	for name, forgery := range map[string]func(m object, outside string){
		"statements with a table": func(m object, outside string) {
			add(tableOf(t, m, "notices"), "after", "ATTACH '"+outside+"/x.sqlite' AS x; CREATE TABLE x.y (a)")
		},
		"statements in a table": func(m object, outside string) {
			table := tableOf(t, m, "notices")
			table["create"] = table["create"].(string) + "; ATTACH '" + outside + "/x.sqlite' AS x; CREATE TABLE x.y (a)"
		},
		"a view that is a command to the client": func(m object, outside string) {
			add(m, "tables", object{"name": "v", "kind": "view", "create": "CREATE VIEW v AS SELECT 1\n/\n.shell touch " + outside + "/x\n"})
		},
		"an area elsewhere": func(m object, outside string) {
			m["areas"].([]any)[0].(object)["path"] = outside
		},
		"an area on the way elsewhere": func(m object, outside string) {
			m["areas"].([]any)[0].(object)["path"] = m["root"].(string) + "/../" + filepath.Base(outside)
		},
		"an area with a hostile name": func(m object, outside string) {
			add(m, "areas", object{"name": "../../" + filepath.Base(outside), "path": m["root"]})
		},
		"a cache elsewhere": func(m object, outside string) {
			m["layout"].(object)["caches"] = []any{outside}
		},
		"a database elsewhere": func(m object, outside string) {
			m["layout"].(object)["database_files"] = []any{"../../../" + filepath.Base(outside) + "/x.sqlite"}
		},
		"more files than there can be": func(m object, _ string) {
			m["areas"].([]any)[0].(object)["files"] = 1 << 60
			m["areas"].([]any)[0].(object)["bytes"] = -1
		},
		"a key that is no column": func(m object, _ string) {
			tableOf(t, m, "notices")["key"] = []any{"no such column"}
		},
	} {
		t.Run(name, func(t *testing.T) {
			f := adopted(t)
			f.run(t, "snapshot").want(t, 0)
			outside := filepath.Join(filepath.Dir(f.root), "outside")
			must(t, os.Mkdir(outside, 0o755))
			must(t, os.WriteFile(filepath.Join(outside, "kept"), []byte("x"), 0o644))
			forge(t, f.care, "snap-1", func(m object) { forgery(m, outside) })
			f.edit(t, filepath.Join(f.root, "themes/harbourlight/parts/menu.html"), "{{range .Menu}}", "{{range slice .Menu 0 4}}")
			before, notices := f.siteTree(t), f.table(t, "SELECT rowid, * FROM notices ORDER BY slug")

			exported := filepath.Join(filepath.Dir(f.root), "exported")
			for _, command := range [][]string{{"verify", "snap-1", "--deep"}, {"export", "snap-1", exported}, {"restore", "snap-1", "--into", filepath.Join(filepath.Dir(f.root), "copies", "copy")}, {"history"}, {"restore", "snap-1", "--yes"}, {"snapshot"}} {
				r := f.run(t, command...)
				if strings.Contains(r.err, "goroutine ") || r.code > 6 || r.code < 0 {
					t.Errorf("%s: %s", command, r)
				}
				if command[0] == "snapshot" && r.code != 0 {
					t.Errorf("no snapshot can be taken any more: %s", r)
				}
			}
			if sql := filepath.Join(exported, "database.sql"); name == "a view that is a command to the client" {
				testLoad(t, sql, filepath.Join(outside, "x"))
			}
			if entries, err := os.ReadDir(outside); err != nil || len(entries) != 1 || entries[0].Name() != "kept" {
				t.Errorf("outside there is %v now (%v)", entries, err)
			}
			if name == "a key that is no column" || name == "a view that is a command to the client" {
				return // to the site that is no harm: it is restored
			}
			same(t, before, f.siteTree(t))
			if now := f.table(t, "SELECT rowid, * FROM notices ORDER BY slug"); now != notices {
				t.Errorf("the notices are %s", now)
			}
		})
	}
}

// testLoad loads an export, if there is one, and looks that its client ran nothing.
func testLoad(t *testing.T, export, marker string) {
	t.Helper()
	text, err := os.ReadFile(export)
	if err != nil {
		return
	}
	loadWith(t, text, "sqlite3", filepath.Join(t.TempDir(), "new.sqlite"))
	if _, err := os.Stat(marker); err == nil {
		t.Errorf("the client ran a command of the export's")
	}
}

// On a real server, looking deeply at a forged store leaves the live tables alone.
func TestForgedStoreOfAServer(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	workspace := care(t, site)
	_, err := site.Account.Root.Exec("CREATE VIEW of_newest AS SELECT ID FROM of_posts; CREATE EVENT of_nightly ON SCHEDULE EVERY 1 DAY DO SET @a = 1; " +
		fmt.Sprintf("GRANT ALL ON *.* TO %s@'%%'; GRANT ALL ON *.* TO %s@localhost; SET GLOBAL event_scheduler = ON", site.Account.User, site.Account.User))
	must(t, err)
	wetland(t, workspace, "snapshot").want(t, 0)
	manifest, err := os.ReadFile(filepath.Join(workspace, "store/snapshots/snap-1.manifest"))
	must(t, err)
	live := func(table string) string { return "`" + site.Account.Name + "`.`" + table + "`" }
	rows := rowsOf(t, site.Account.Root, "of_")
	for name, forgery := range map[string]func(m object){
		"rows of the live site": func(m object) {
			add(tableOf(t, m, "of_posts"), "after", "DELETE FROM "+live("of_comments"))
		},
		"a table of the live site": func(m object) {
			add(tableOf(t, m, "of_posts"), "after", "ALTER TABLE "+live("of_comments")+" ADD CONSTRAINT x CHECK (comment_ID > 0)")
		},
		"a view of the live site": func(m object) {
			tableOf(t, m, "of_newest")["create"] = "CREATE VIEW " + live("of_newest") + " AS SELECT 7"
		},
		"a trigger of the live site": func(m object) {
			add(tableOf(t, m, "of_posts"), "after", "CREATE TRIGGER "+live("t")+" BEFORE INSERT ON "+live("of_posts")+" FOR EACH ROW SET @a = 1")
		},
		"a setting of the server": func(m object) {
			tableOf(t, m, "event of_nightly")["settings"] = "SET GLOBAL max_connections = 7"
		},
		"an event that runs": func(m object) {
			tableOf(t, m, "event of_nightly")["create"] = "CREATE EVENT `of_nightly` ON SCHEDULE EVERY 1 SECOND ENABLE DO DELETE FROM " + live("of_comments")
		},
	} {
		t.Run(name, func(t *testing.T) {
			must(t, os.WriteFile(filepath.Join(workspace, "store/snapshots/snap-1.manifest"), manifest, 0o600))
			forge(t, workspace, "snap-1", forgery)
			r := wetland(t, workspace, "verify", "snap-1", "--deep")
			if r.code == 0 && name != "an event that runs" { // which does not run in a copy
				t.Error(r)
			}
			for table, sum := range rowsOf(t, site.Account.Root, "of_") {
				if rows[table] != sum {
					t.Errorf("%s is %s, was %s", table, sum, rows[table])
				}
			}
			var connections, triggers, answer int
			must(t, site.Account.Root.QueryRow("SELECT @@global.max_connections, (SELECT COUNT(*) FROM information_schema.triggers WHERE trigger_schema = ?), (SELECT COUNT(*) FROM of_newest)", site.Account.Name).Scan(&connections, &triggers, &answer))
			if connections == 7 || triggers > 0 || answer == 1 {
				t.Errorf("%d connections, %d triggers, %d in the view", connections, triggers, answer)
			}
		})
	}
}

// A store that is not the workspace's own is told, and a snapshot from another one.
func TestStoreFromElsewhereIsTold(t *testing.T) {
	f, other := adopted(t), adopted(t)
	f.run(t, "snapshot").want(t, 0)
	other.run(t, "snapshot").want(t, 0)
	manifest, err := os.ReadFile(filepath.Join(other.care, "store/snapshots/snap-1.manifest"))
	must(t, err)
	f.run(t, "snapshot").want(t, 0)
	volumes, err := filepath.Glob(filepath.Join(other.care, "store/volumes/*"))
	must(t, err)
	for _, volume := range volumes {
		data, err := os.ReadFile(volume)
		must(t, err)
		must(t, os.WriteFile(filepath.Join(f.care, "store/volumes", filepath.Base(volume)), data, 0o600))
	}
	must(t, os.WriteFile(filepath.Join(f.care, "store/snapshots/snap-1.manifest"), manifest, 0o600))
	if r := f.run(t, "verify", "snap-1"); !strings.Contains(r.stdout, "was made in another store") {
		t.Error(r)
	}
	if r := f.run(t, "verify", "snap-2"); strings.Contains(r.stdout, "another store") {
		t.Error(r)
	}
	must(t, os.RemoveAll(filepath.Join(f.care, "store")))
	must(t, os.CopyFS(filepath.Join(f.care, "store"), os.DirFS(filepath.Join(other.care, "store"))))
	f.run(t, "verify", "snap-1").want(t, 0, "is not the store that this workspace began", "rm ")
	must(t, os.Remove(filepath.Join(f.care, "store-name")))
	if r := f.run(t, "verify", "snap-1").want(t, 0); strings.Contains(r.stdout, "is not the store") {
		t.Error(r)
	}
	// A new one that was sealed on purpose is the workspace's own.
	must(t, os.Rename(filepath.Join(f.care, "store"), filepath.Join(f.care, "old-store")))
	t.Setenv("FERRY_STORE", "a long passphrase")
	f.run(t, "seal", "--with", "env FERRY_STORE").want(t, 0)
	config, err := os.ReadFile(f.config())
	must(t, err)
	must(t, os.WriteFile(f.config(), append(config, "\n[store]\nunlock_with = \"env FERRY_STORE\"\n"...), 0o600))
	if r := f.run(t, "snapshot").want(t, 0); strings.Contains(r.stdout, "is not the store") {
		t.Error(r)
	}
}

func loadWith(t *testing.T, text []byte, client string, arguments ...string) {
	t.Helper()
	command := exec.Command(client, arguments...)
	command.Stdin = bytes.NewReader(text)
	out, err := command.CombinedOutput()
	t.Logf("%v %s", err, out)
}
