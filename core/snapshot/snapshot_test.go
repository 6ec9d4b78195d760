package snapshot

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/core/host"
	"wetland/core/host/hosttest"
	"wetland/core/packs"
	"wetland/core/progress"
	"wetland/core/site"
	"wetland/core/workspace"
)

// small is a small site with its workspace.
type small struct {
	site *site.Site
	db   database.Database
	raw  *sql.DB
	dir  string
}

func newSmall(t *testing.T) *small {
	t.Helper()
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("www/rowlock.toml", "address = \"http://127.0.0.1:1/\"\ndatabase = \"data/x.sqlite\"\n")
	write("www/themes/quay/theme.toml", "name = \"Quay\"\nversion = \"1.0\"\n")
	write("www/themes/quay/new\nline \xff.css", "odd")
	write("www/plugins/tide/plugin.toml", "name = \"Tide\"\nversion = \"1.0\"\n")
	write("www/uploads/large.bin", strings.Repeat("0123456789abcdef", packs.PieceSize/16+100))
	write("www/uploads/empty", "")
	write("www/cache/page.html", "never in a snapshot")
	write("www/data/.keep", "")
	write("care/wetland.toml", "format = 1\n[site]\nname = \"Small\"\nroot = \""+filepath.ToSlash(dir)+"/www\"\naddress = \"http://127.0.0.1:1/\"\ncms = \"rowlock\"\n")
	raw, err := sql.Open("sqlite", "file:"+dir+"/www/data/x.sqlite")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := raw.Exec(`CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT); INSERT INTO settings VALUES ('theme', 'quay');
CREATE TABLE big (id INTEGER PRIMARY KEY, t TEXT);
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000) INSERT INTO big SELECT i, hex(randomblob(100)) FROM n;
CREATE TABLE hollow (a)`); err != nil {
		t.Fatal(err)
	}
	w, err := workspace.Load(filepath.Join(dir, "care"), workspace.OnlyHere)
	if err != nil {
		t.Fatal(err)
	}
	opened, err := site.Open(t.Context(), w)
	if err != nil {
		t.Fatal(err)
	}
	db, err := opened.OpenDatabase(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := errors.Join(db.Close(), raw.Close()); err != nil {
			t.Error(err)
		}
	})
	return &small{site: opened, db: db, raw: raw, dir: dir}
}

func (s *small) store(t *testing.T) *packs.Store {
	t.Helper()
	store, err := packs.Open(t.Context(), s.site.Workspace.Store(), nil)
	if err != nil {
		t.Fatal(err)
	}
	return store
}

func (s *small) take(t *testing.T, store *packs.Store) *Manifest {
	t.Helper()
	m, err := Take(t.Context(), store, Subject{Site: s.site, Database: s.db, Reason: "test"}, progress.Silent{})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func TestTakeAndReadBack(t *testing.T) {
	s := newSmall(t)
	taken := s.take(t, s.store(t))
	store := s.store(t) // opened anew, as a later command does
	m, err := Load(t.Context(), store, "snap-1")
	if err != nil {
		t.Fatal(err)
	}
	if err := Verify(t.Context(), store, m, progress.Silent{}); err != nil {
		t.Fatal(err)
	}
	area := m.Areas[0]
	out := filepath.Join(t.TempDir(), "out")
	if err := files.WriteTree(t.Context(), filestest.Whole(t), out, area.Tree(), Source(t.Context(), store, area.Items), nil); err != nil {
		t.Fatal(err)
	}
	read := func(top string, scope files.Scope) files.Tree {
		tree, err := files.ReadTree(t.Context(), filestest.Whole(t), top, scope)
		if err != nil {
			t.Fatal(err)
		}
		return tree
	}
	for _, differ := range files.Exact.Compare(read(s.site.Root, site.ScopeOf(s.site.Areas()[0])), read(out, files.Scope{})) {
		t.Errorf("%q: %s", differ.Path, differ.What)
	}
	for _, item := range area.Items {
		if strings.HasPrefix(item.Path, "cache") || strings.HasPrefix(item.Path, "data/x.sqlite") {
			t.Errorf("%s is in the snapshot", item.Path)
		}
	}
	now, err := database.Present(t.Context(), s.db)
	if err != nil {
		t.Fatal(err)
	}
	if differ := database.CompareTables(m.Described(), now); len(differ) > 0 {
		t.Errorf("tables differ: %v", differ)
	}
	count, size, tables, rows := taken.Totals()
	if count != 7 || size == 0 || tables != 3 || rows != 20001 {
		t.Errorf("%d files, %d bytes, %d tables, %d rows", count, size, tables, rows)
	}
}

func TestNothingIsStoredTwice(t *testing.T) {
	s := newSmall(t)
	store := s.store(t)
	s.take(t, store)
	s.take(t, store)
	third := s.take(t, s.store(t))
	volumes, err := filepath.Glob(filepath.Join(s.site.Workspace.Store(), "volumes/*"))
	if err != nil || len(volumes) != 1 || third.Name != "snap-3" {
		t.Errorf("%s: volumes %v %v", third.Name, volumes, err)
	}
}

// Every single flipped bit of a volume or manifest is found, wherever it is.
func TestEveryFlippedByteIsFound(t *testing.T) {
	s := newSmall(t)
	if _, err := s.raw.Exec("DELETE FROM big WHERE id > 50"); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(s.site.Root, "uploads/large.bin"), []byte("small"), 0o644); err != nil {
		t.Fatal(err)
	}
	s.take(t, s.store(t))
	for _, pattern := range []string{"volumes/*", "snapshots/*"} {
		found, err := filepath.Glob(filepath.Join(s.site.Workspace.Store(), pattern))
		if err != nil || len(found) != 1 {
			t.Fatal(found, err)
		}
		whole, err := os.ReadFile(found[0])
		if err != nil {
			t.Fatal(err)
		}
		step := max(1, len(whole)/400)
		if os.Getenv("WETLAND_TORTURE") != "" {
			step = 1
		}
		for at := 0; at < len(whole); at += step {
			if pattern == "volumes/*" && at < len(packs.VolumeMagic) {
				continue // the mark at the start is for people; nothing depends on it
			}
			damaged := bytes.Clone(whole)
			damaged[at] ^= 1 << (at % 8)
			if err := os.WriteFile(found[0], damaged, 0o600); err != nil {
				t.Fatal(err)
			}
			store := s.store(t)
			m, err := Load(t.Context(), store, "snap-1")
			if err == nil {
				err = Verify(t.Context(), store, m, progress.Silent{})
			}
			if err == nil {
				t.Errorf("%s: the flipped bit in byte %d of %d was not found", pattern, at, len(whole))
			}
		}
		if err := os.WriteFile(found[0], whole, 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

func TestMissingVolumeIsSaid(t *testing.T) {
	s := newSmall(t)
	s.take(t, s.store(t))
	if err := os.RemoveAll(filepath.Join(s.site.Workspace.Store(), "volumes")); err != nil {
		t.Fatal(err)
	}
	store := s.store(t)
	if _, err := Load(t.Context(), store, "snap-1"); err == nil || !strings.Contains(err.Error(), "a volume of the store is gone") {
		t.Errorf("got %v", err)
	}
	if m, err := Describe(t.Context(), store, "snap-1"); err != nil || m.Areas[0].Files != 7 {
		t.Errorf("what it held is not told: %v", err)
	}
}

func TestForeignAndNewerStores(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(dir+"/letter.txt", []byte("dear ferryman"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := packs.Open(t.Context(), dir, nil); err == nil || !strings.Contains(err.Error(), "no store of Wetland") {
		t.Errorf("a foreign folder: %v", err)
	}
	newer := t.TempDir()
	if err := os.WriteFile(newer+"/"+packs.MarkerName, []byte("This folder is a store of snapshots. Format 3.\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := packs.Open(t.Context(), newer, nil); err == nil || !strings.Contains(err.Error(), "newer Wetland") {
		t.Errorf("a newer store: %v", err)
	}
}

// failing is a store whose disk is full after some bytes.
type failing struct {
	packs.Bytes
	left int
}

type failingWriter struct {
	packs.Writer
	of *failing
}

var errFull = errors.New("no space left on the disk")

func (f *failing) Put(ctx context.Context, name string) (packs.Writer, error) {
	w, err := f.Bytes.Put(ctx, name)
	return &failingWriter{w, f}, err
}

func (w *failingWriter) Write(p []byte) (int, error) {
	if w.of.left -= len(p); w.of.left < 0 {
		return 0, errFull
	}
	return w.Writer.Write(p)
}

func TestFullDiskLeavesEarlierSnapshotsIntact(t *testing.T) {
	s := newSmall(t)
	s.take(t, s.store(t))
	if _, err := s.raw.Exec("UPDATE big SET t = hex(randomblob(100))"); err != nil {
		t.Fatal(err)
	}
	for _, room := range []int{0, 5, 1000, 100_000, 1_000_000, 1_900_000} {
		full := &failing{Bytes: packs.DiskBytes{Dir: s.site.Workspace.Store()}, left: room}
		store, err := packs.OpenAt(t.Context(), full, nil)
		if err != nil {
			t.Fatal(err)
		}
		_, err = Take(t.Context(), store, Subject{Site: s.site, Database: s.db}, progress.Silent{})
		if !errors.Is(err, errFull) {
			t.Fatalf("with room for %d bytes: %v", room, err)
		}
		again := s.store(t)
		names, err := again.Names(t.Context())
		if err != nil || len(names) != 1 {
			t.Fatalf("snapshots: %v %v", names, err)
		}
		m, err := Load(t.Context(), again, "snap-1")
		if err != nil {
			t.Fatal(err)
		}
		if err := Verify(t.Context(), again, m, progress.Silent{}); err != nil {
			t.Fatal(err)
		}
	}
	parts, err := filepath.Glob(filepath.Join(s.site.Workspace.Store(), "*", "*"+packs.PartSuffix))
	if err != nil || len(parts) > 0 {
		t.Errorf("left: %v %v", parts, err)
	}
}

// changing is a disk on which one file has another length each time it is looked at.
type changing struct{ filestest.Able }

func (c changing) Lstat(ctx context.Context, name string) (files.Entry, error) {
	entry, err := c.Able.Lstat(ctx, name)
	if strings.HasSuffix(name, "busy.log") {
		entry.Modified = time.Now()
	}
	return entry, err
}

func TestFileThatChangesWhileItIsRead(t *testing.T) {
	s := newSmall(t)
	if err := os.WriteFile(filepath.Join(s.site.Root, "busy.log"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	s.site.Workspace.Host = hosttest.WithDisk(filestest.Around(host.Here, func(fsys files.FS) files.FS { return changing{filestest.Able{FS: fsys}} }))
	var err error
	if s.site, err = site.Open(t.Context(), s.site.Workspace); err != nil {
		t.Fatal(err)
	}
	_, err = Take(context.Background(), s.store(t), Subject{Site: s.site, Database: s.db}, progress.Silent{})
	if err == nil || !strings.Contains(err.Error(), "busy.log") || !strings.Contains(err.Error(), "exclude") {
		t.Errorf("got %v", err)
	}
}

func TestStopWhileTaking(t *testing.T) {
	s := newSmall(t)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	store := s.store(t)
	if _, err := Take(ctx, store, Subject{Site: s.site, Database: s.db}, progress.Silent{}); !errors.Is(err, context.Canceled) {
		t.Errorf("got %v", err)
	}
	if names, err := store.Names(t.Context()); err != nil || len(names) > 0 {
		t.Errorf("snapshots: %v %v", names, err)
	}
}

func FuzzManifest(f *testing.F) {
	store := &packs.Store{}
	data, err := encodeManifest(store, &Manifest{Format: 1, Name: "snap-1"})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := decodeManifest(store, data)
		if err == nil {
			m.Totals()
		}
	})
}

func TestItemsKeepOddNames(t *testing.T) {
	id := packs.PlainID([]byte("x"))
	for _, item := range []Item{
		{Item: files.Item{Path: "a\xffb\t\n% c", Kind: files.Link, Target: "\xfe up\r", Mode: 0o4755, Owner: 1, Group: 2, Modified: time.Unix(1, 5).UTC()}},
		{Item: files.Item{Path: "ä/-", Kind: files.File, Owner: -1, Group: -1, Modified: time.Unix(-5, 999).UTC(), Size: 1, Hash: id.String()}, Changed: time.Unix(7, 0).UTC(), Pieces: []packs.ID{id}},
		{Item: files.Item{Path: "-", Kind: files.File, Hash: id.String(), Size: 9}, Pieces: []packs.ID{packs.PlainID(nil), id}},
		{Item: files.Item{Path: ".", Kind: files.Folder}},
	} {
		line := string(appendItem(nil, item))
		back, err := parseItem(strings.TrimSuffix(line, "\n"))
		if err != nil || !reflect.DeepEqual(back, item) {
			t.Errorf("%q became %+v %v", line, back, err)
		}
	}
	for _, bad := range []string{"", "file\t644", strings.Repeat("x\t", 10), "file\t9\t0\t0\t-\t-\t0\t-\t-\tx", "file\t644\t0\t0\t-\t-\t0\t-\tnohash\tx", "file\t644\t0\t0\t-\t-\t0\t-\t-\tx%1"} {
		if item, err := parseItem(bad); err == nil {
			t.Errorf("%q became %+v", bad, item)
		}
	}
}

// FuzzParseItem reads a line of the list of items, and FuzzDirectory the directory of
// a volume: what they take must come back the same.
func FuzzParseItem(f *testing.F) {
	f.Add("file\t644\t0\t0\t1.5\t-\t3\t-\t-\ta%20b")
	f.Fuzz(func(t *testing.T, line string) {
		item, err := parseItem(line)
		if err != nil {
			return
		}
		again, err := parseItem(strings.TrimSuffix(string(appendItem(nil, item)), "\n"))
		if err != nil || !reflect.DeepEqual(again, item) {
			t.Errorf("%q: %+v became %+v %v", line, item, again, err)
		}
	})
}
