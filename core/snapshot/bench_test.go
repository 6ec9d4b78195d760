package snapshot

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/core/packs"
	"wetland/core/progress"
	"wetland/core/site"
	"wetland/core/workspace"
	"wetland/internal/testenv"
)

func TestMain(m *testing.M) { os.Exit(testenv.Run(m)) }

// large is a site of 1 GiB of uploads in 8,000 files, three quarters of the bytes
// incompressible, and a table of a million rows of about 200 bytes.
type large struct {
	site    *site.Site
	db      database.Database
	raw     *sql.DB
	account *testenv.Account
	dir     string
}

func newLarge(b *testing.B) *large {
	b.Helper()
	for _, program := range []string{"zstd", "mariadb-dump", "mariadb"} {
		if _, err := exec.LookPath(program); err != nil {
			testenv.Missing(b, program)
		}
	}
	dir := b.TempDir()
	l := &large{dir: dir, account: testenv.Database(b)}
	l.layFiles(b)
	l.raw = l.account.Root
	l.fillTable(b)
	w, err := workspace.Load(dir+"/care", workspace.OnlyHere)
	if err != nil {
		b.Fatal(err)
	}
	if l.site, err = site.Open(b.Context(), w); err != nil {
		b.Fatal(err)
	}
	login := database.Login{Engine: "mysql", Host: "127.0.0.1", Port: l.account.Port, Name: l.account.Name, User: l.account.User, Password: l.account.Password}
	if l.db, err = (database.Engines{}).Open(b.Context(), login, database.Everything); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = l.db.Close() })
	return l
}

func (l *large) layFiles(b *testing.B) {
	b.Helper()
	write := func(name string, data []byte) {
		file := filepath.Join(l.dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, data, 0o644)); err != nil {
			b.Fatal(err)
		}
	}
	write("www/rowlock.toml", []byte("address = \"http://127.0.0.1:1/\"\ndatabase = \"data/x.sqlite\"\n"))
	write("www/themes/quay/theme.toml", []byte("name = \"Quay\"\nversion = \"1.0\"\n"))
	write("www/plugins/.keep", nil)
	write("care/wetland.toml", []byte("format = 1\n[site]\nname = \"Large\"\nroot = \""+l.dir+"/www\"\naddress = \"http://127.0.0.1:1/\"\ncms = \"rowlock\"\n"))
	source := rand.NewChaCha8([32]byte{1})
	for i := range 8000 {
		data := make([]byte, 128<<10)
		if i%4 != 0 {
			_, _ = source.Read(data) // never fails, by its contract
		} else {
			fillWithText(data, source)
		}
		write(fmt.Sprintf("www/uploads/%02d/%d.bin", i%40, i), data)
	}
	old := time.Now().Add(-time.Hour)
	if err := os.Chtimes(l.dir+"/www/uploads", old, old); err != nil {
		b.Fatal(err)
	}
}

// fillWithText writes words, some of them often.
func fillWithText(data []byte, source *rand.ChaCha8) {
	words := strings.Fields("ferry tide river crossing notice winter hours lantern night the of and to boat fare return single timetable harbour wind mist jetty rope bell " + strings.Repeat("the and ", 20))
	random := rand.New(source)
	for at := 0; at < len(data); {
		at += copy(data[at:], words[random.IntN(len(words))]+fmt.Sprintf(" %x ", random.IntN(4096)))
	}
}

func (l *large) fillTable(b *testing.B) {
	b.Helper()
	for _, statement := range []string{
		`CREATE TABLE sailings (id BIGINT PRIMARY KEY AUTO_INCREMENT, at DATETIME NOT NULL, boat VARCHAR(40) NOT NULL, berth INT, note TEXT, mark BLOB, KEY (at), KEY (boat)) ENGINE=InnoDB`,
		`INSERT INTO sailings (at, boat, berth, note, mark) SELECT '2026-01-01' + INTERVAL seq MINUTE, ELT(1 + seq % 5, 'Otter', 'Heron', 'Moorhen', 'Bittern', 'Teal'), seq % 97,
		CONCAT('The ', seq, '. crossing of the season, from the ', ELT(1 + seq % 3, 'north', 'south', 'middle'), ' jetty: ', MD5(seq)), UNHEX(CONCAT(SHA2(seq, 256), SHA2(CONCAT('b', seq), 256))) FROM seq_1_to_1000000`,
		`ANALYZE TABLE sailings`,
	} {
		if _, err := l.raw.Exec(statement); err != nil {
			b.Fatal(err)
		}
	}
}

func (l *large) shell(b *testing.B, script string) time.Duration {
	b.Helper()
	start := time.Now()
	command := exec.Command("bash", "-c", "set -e -o pipefail; "+script)
	command.Env = append(os.Environ(), "MYSQL_PWD="+l.account.Password)
	if out, err := command.CombinedOutput(); err != nil {
		b.Fatalf("%s: %v\n%s", script, err, out)
	}
	return time.Since(start)
}

func (l *large) client(program string) string {
	return fmt.Sprintf("%s --no-defaults --host=127.0.0.1 --port=%d --user=%s", program, l.account.Port, l.account.User)
}

func (l *large) subject() Subject { return Subject{Site: l.site, Database: l.db} }

func stored(b *testing.B, store *packs.Store) (total int64) {
	b.Helper()
	names, err := store.Bytes.List(b.Context(), packs.VolumeFolder)
	if err != nil {
		b.Fatal(err)
	}
	manifests, err := store.Bytes.List(b.Context(), packs.ManifestFolder)
	if err != nil {
		b.Fatal(err)
	}
	for _, name := range append(names, manifests...) {
		size, err := store.Bytes.Size(b.Context(), name)
		if err != nil {
			b.Fatal(err)
		}
		total += size
	}
	return total
}

func sizeOf(b *testing.B, name string) int64 {
	b.Helper()
	info, err := os.Stat(name)
	if err != nil {
		b.Fatal(err)
	}
	return info.Size()
}

// phases are the times of one snapshot.
type phases struct{ open, database, files, end time.Duration }

func (p phases) best(q phases) phases {
	return phases{min(p.open, q.open), min(p.database, q.database), min(p.files, q.files), min(p.end, q.end)}
}

// takeTimed takes a snapshot as Store.Take does, with a clock at each phase.
func (l *large) takeTimed(b *testing.B, dir string) (p phases, m *Manifest, store *packs.Store) {
	b.Helper()
	lap := time.Now()
	took := func(into *time.Duration) {
		*into = time.Since(lap)
		lap = time.Now()
	}
	fail := func(err error) {
		if err != nil {
			b.Fatal(err)
		}
	}
	ctx := context.Background()
	store, err := packs.Open(b.Context(), dir, nil)
	fail(err)
	t := &taking{Subject: l.subject(), report: progress.Silent{}, to: store.NewAdder(ctx, progress.Silent{}), before: Newest(ctx, store), m: &Manifest{Format: manifestFormat}}
	took(&p.open)
	fail(t.storeDatabase(ctx))
	took(&p.database)
	t.m.FilesAt = time.Now()
	for _, area := range l.site.Areas() {
		fail(t.storeArea(ctx, area))
	}
	fail(t.storeLists())
	took(&p.files)
	fail(t.to.Finish())
	fail(writeManifest(ctx, store, t.m))
	took(&p.end)
	return p, t.m, store
}

// BenchmarkSnapshots compares with tar, zstd and the database's own client programs,
// in one run. A ratio below 1 is faster, or smaller.
func BenchmarkSnapshots(b *testing.B) {
	l := newLarge(b)
	for b.Loop() {
		l.measure(b)
	}
}

func (l *large) measure(b *testing.B) {
	dir, plain := b.TempDir(), b.TempDir()
	ratio := func(name string, ours, theirs time.Duration) { b.ReportMetric(float64(ours)/float64(theirs), name) }
	l.shell(b, "cat "+l.site.Root+"/uploads/*/* >/dev/null; "+l.client("mariadb-dump")+" "+l.account.Name+" >/dev/null") // all caches warm
	var tar, dump time.Duration
	var first phases
	var m *Manifest
	var store *packs.Store
	for round := range 3 { // in turn, the best of each: other work on the machine comes and goes
		oneTar := l.shell(b, "tar -C "+l.site.Root+" -c . | zstd -q -f -T0 -3 -o "+plain+"/files.tar.zst")
		oneDump := l.shell(b, l.client("mariadb-dump")+" --single-transaction "+l.account.Name+" | zstd -q -f -T0 -3 -o "+plain+"/database.sql.zst")
		one, taken, in := l.takeTimed(b, filepath.Join(dir, strconv.Itoa(round)))
		b.Logf("tar %v, dump %v; ours %+v", oneTar, oneDump, one)
		if round == 0 {
			tar, dump, first = oneTar, oneDump, one
		}
		tar, dump, first = min(tar, oneTar), min(dump, oneDump), first.best(one)
		m, store = taken, in
	}
	dir = filepath.Join(dir, "2")
	ratio("files/tar", first.files, tar)
	ratio("database/dump", first.database, dump)
	ratio("first/both", first.files+first.database, tar+dump)
	ratio("sync-and-proof-at-the-end/both", first.end, tar+dump)
	ratio("all/both", first.files+first.database+first.end, tar+dump)
	firstBytes := stored(b, store)
	b.ReportMetric(float64(firstBytes)/float64(sizeOf(b, plain+"/files.tar.zst")+sizeOf(b, plain+"/database.sql.zst")), "bytes/both")

	time.Sleep(grain + time.Second) // what was just written must look old enough
	_, _, _ = l.takeTimed(b, dir)   // which reads anew what was young
	second, _, store := l.takeTimed(b, dir)
	b.Logf("second %+v", second)
	ratio("unchanged-files/first", second.open+second.files, first.files)
	before := stored(b, store)
	if _, err := l.raw.Exec(`UPDATE sailings SET note = CONCAT(note, '!') WHERE id % 10000 = 7`); err != nil {
		b.Fatal(err)
	}
	_, _, store = l.takeTimed(b, dir)
	tableBytes := firstBytes - sizeOf(b, plain+"/files.tar.zst")
	b.ReportMetric(100*float64(stored(b, store)-before)/float64(tableBytes), "%-of-table-for-100-rows")
	l.measureRestore(b, m, store, plain)
}

func (l *large) measureRestore(b *testing.B, m *Manifest, store *packs.Store, plain string) {
	if _, err := l.raw.Exec("DROP TABLE sailings"); err != nil {
		b.Fatal(err)
	}
	theirs := l.shell(b, "zstd -q -d -c "+plain+"/database.sql.zst | "+l.client("mariadb")+" "+l.account.Name)
	if _, err := l.raw.Exec("DROP TABLE sailings"); err != nil {
		b.Fatal(err)
	}
	table := m.Tables[0]
	unproved := table.Table
	unproved.Digest = ""
	for _, one := range []struct {
		name  string
		table database.Table
	}{{"restored-table/client", unproved}, {"restored-table-proved/client", table.Table}} {
		start := time.Now()
		applied, err := l.db.Apply(context.Background(), database.Change{Replace: []database.Replacement{{Table: one.table, Rows: Rows(store, table)}}})
		if err != nil {
			b.Fatal(err)
		}
		if err := applied.Finish(context.Background()); err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(time.Since(start))/float64(theirs), one.name)
	}
	out := filepath.Join(b.TempDir(), "out")
	start := time.Now()
	if err := files.WriteTree(context.Background(), filestest.Whole(b), out, m.Areas[0].Tree(), Source(b.Context(), store, m.Areas[0].Items), nil); err != nil {
		b.Fatal(err)
	}
	b.Logf("all files written in %v", time.Since(start))
}
