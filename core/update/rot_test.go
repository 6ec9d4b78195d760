package update_test

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"wetland/core/runs"
	"wetland/core/update"
)

// Whatever bit of the store flips before an update that destroys rows and fails: what going back needs is stored anew
// before anything is touched, and all rows and files are back.
func TestRotBeforeAnUpdateThatFails(t *testing.T) {
	flips := 12
	if os.Getenv("WETLAND_TORTURE") != "" {
		flips = 200
	}
	j := newJetty(t)
	random := rand.New(rand.NewPCG(39, 1))
	if _, err := j.raw.Exec(`CREATE TABLE notices (id INTEGER PRIMARY KEY, text TEXT)`); err != nil {
		t.Fatal(err)
	}
	for range 300 {
		if _, err := j.raw.Exec(`INSERT INTO notices (text) VALUES (hex(randomblob(400)))`); err != nil {
			t.Fatal(err)
		}
	}
	j.page = func(http.ResponseWriter) bool { // the new version's first visit destroys what older snapshots have
		if j.wholly(t) == "broken" {
			_, _ = j.raw.Exec(`DELETE FROM notices`)
		}
		return false
	}
	before := rowsOf(t, j.raw)
	broken := j.themePackage(t, "1.2", "broken")
	for n := range flips + 1 {
		where := "nowhere"
		if n > 0 { // the first update fills the store
			where = flipIn(t, random, filepath.Join(j.workspace.Store(), "volumes"))
		}
		run, err := j.update(t, update.Options{Packages: []string{broken}})
		if err != nil || run.State != runs.PutBack || j.wholly(t) != "old" {
			t.Fatalf("%s: %+v %v: %s", where, run, err, j.wholly(t))
		}
		if now := rowsOf(t, j.raw); now != before {
			t.Fatalf("%s: rows are not as before", where)
		}
	}
	t.Logf("%d flips", flips)
}

func rowsOf(t *testing.T, db *sql.DB) (all string) {
	t.Helper()
	rows, err := db.Query(`SELECT id || ' ' || text FROM notices UNION ALL SELECT id || ' ' || high FROM tides ORDER BY 1`)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var line string
		if err := rows.Scan(&line); err != nil {
			t.Fatal(err)
		}
		all += line + "\n"
	}
	return all
}

// flipIn changes one bit of a file in a folder.
func flipIn(t *testing.T, random *rand.Rand, folder string) (where string) {
	t.Helper()
	names, err := filepath.Glob(folder + "/*")
	if err != nil || len(names) == 0 {
		t.Fatal(names, err)
	}
	name := names[random.IntN(len(names))]
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	at := random.IntN(len(text))
	text[at] ^= 1 << random.IntN(8)
	if err := os.WriteFile(name, text, 0o600); err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf("byte %d of %d in %s", at, len(text), filepath.Base(name))
}
