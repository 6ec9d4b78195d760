package packages

import (
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wetland/core/site/cms"
)

// nested puts an archive's bytes into an entry.
func nested(t *testing.T, name string, entries ...entry) entry {
	t.Helper()
	data, err := os.ReadFile(archiveOf(t, entries...))
	if err != nil {
		t.Fatal(err)
	}
	return entry{name: name, text: string(data)}
}

func TestFindInBundles(t *testing.T) {
	docs := []entry{{name: "bundle/docs/index.html", text: "x"}, {name: "bundle/licence.txt", text: "x"}, {name: "__MACOSX/bundle/._x", text: "x"}}
	jetty := entry{name: "jetty/header", text: "3.0"}
	for _, c := range []struct {
		name    string
		entries []entry
		want    []string
	}{
		{"installable itself", []entry{header}, []string{"quay 1.2"}},
		{"a zip beside documents", append(docs, nested(t, "bundle/quay.zip", header)), []string{"quay 1.2"}},
		{"two zips deep", append(docs, nested(t, "bundle/inside.zip", nested(t, "a/quay.zip", header), entry{name: "a/x.txt", text: "x"})), []string{"quay 1.2"}},
		{"several", append(docs, nested(t, "bundle/quay.zip", header), nested(t, "bundle/plugins/jetty.zip", jetty)), []string{"jetty 3.0", "quay 1.2"}},
		{"a folder with a header", append(docs, entry{name: "bundle/quay/header", text: "1.2"}, entry{name: "bundle/quay/a/b.css", text: "x"}), []string{"quay 1.2"}},
		{"a zip of documents", append(docs, nested(t, "bundle/manual.zip", entry{name: "m/read.txt", text: "x"}), nested(t, "bundle/quay.zip", header)), []string{"quay 1.2"}},
		{"companions inside an unpacked theme are its own", append(docs, entry{name: "bundle/quay/header", text: "1.2"}, nested(t, "bundle/quay/plugins/jetty.zip", jetty)), []string{"quay 1.2"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			file := archiveOf(t, c.entries...)
			found, err := Find(t.Context(), file, file, t.TempDir(), readHeader)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, p := range found {
				got = append(got, p.Folder+" "+p.Header.Version)
				if err := p.Close(); err != nil {
					t.Error(err)
				}
			}
			slices.Sort(got)
			if !slices.Equal(got, c.want) {
				t.Errorf("found %q, want %q", got, c.want)
			}
		})
	}
}

func TestFindRefusesHostileBundles(t *testing.T) {
	for _, c := range []struct {
		name    string
		entries []entry
		why     string
	}{
		{"nothing in it", []entry{{name: "bundle/a.txt", text: "x"}, {name: "docs/b.txt", text: "x"}}, "2 folders"},
		{"an escape beside a good zip", []entry{nested(t, "bundle/quay.zip", header), {name: "../x", text: "x"}}, "leads out"},
		{"three zips deep", []entry{nested(t, "a.zip", nested(t, "b.zip", nested(t, "c.zip", header)))}, "not inside one folder"},
		{"a cut off zip in it", []entry{{name: "bundle/quay.zip", text: "PK\x03\x04 no more"}, {name: "docs/x", text: "x"}}, "cut off or damaged"},
	} {
		t.Run(c.name, func(t *testing.T) {
			file := archiveOf(t, c.entries...)
			found, err := Find(t.Context(), file, file, t.TempDir(), readHeader)
			if err == nil || !strings.Contains(err.Error(), c.why) || !strings.Contains(err.Error(), file) {
				t.Errorf("found %d, %v", len(found), err)
			}
		})
	}
}

func TestShelfPicks(t *testing.T) {
	shelf := Shelf{Dir: t.TempDir()}
	add := func(entries ...entry) Entry {
		t.Helper()
		p, err := Open(t.Context(), archiveOf(t, entries...), readHeader)
		if err != nil {
			t.Fatal(err)
		}
		defer p.Close()
		added, err := shelf.Add(p, "test")
		if err != nil {
			t.Fatal(err)
		}
		return added
	}
	for _, version := range []string{"1.9", "1.10", "1.10-beta1"} {
		add(entry{name: "quay/header", text: version})
	}
	add(entry{name: "jetty/header", text: "1.0"})
	// The same files in another archive are the same package.
	if again := add(entry{name: "jetty/"}, entry{name: "jetty/header", text: "1.0"}); again.Beside {
		t.Errorf("kept twice: %+v", again)
	}
	for name, want := range map[string]string{"quay": "1.10", "quay@1.9": "1.9", "quay@1.10-beta1": "1.10-beta1", "quay@1.10.0": "1.10"} {
		if got, err := shelf.Pick(name); err != nil || got.Version != want {
			t.Errorf("%s: %+v %v", name, got, err)
		}
	}
	for _, name := range []string{"quay@2.0", "mole", ""} {
		if got, err := shelf.Pick(name); !errors.Is(err, ErrNotOnShelf) {
			t.Errorf("%s: %+v %v", name, got, err)
		}
	}
	if other := add(entry{name: "jetty/header", text: "1.0"}, entry{name: "jetty/edited", text: "x"}); !other.Beside {
		t.Errorf("other content is not kept beside: %+v", other)
	}
	if got, err := shelf.Pick("jetty"); err == nil || !strings.Contains(err.Error(), "several packages of the same version") {
		t.Errorf("jetty: %+v %v", got, err)
	}
	entries, err := shelf.List()
	if err != nil || len(entries) != 5 {
		t.Errorf("%d entries, %v", len(entries), err)
	}
	// A zip that a person puts there counts by its name.
	data, err := os.ReadFile(archiveOf(t, entry{name: "quay/header", text: "7"}))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(shelf.Dir, "themes/quay/quay@7.zip"), data, 0o600); err != nil {
		t.Fatal(err)
	}
	if got, err := shelf.Pick("quay"); err != nil || got.Version != "7" || got.Kind != "theme" {
		t.Errorf("by hand: %+v %v", got, err)
	}
}

// A bundle of very many folders is read in a time that grows with them, and what holds more
// packages than anybody bundles is refused.
func TestBundleOfManyFolders(t *testing.T) {
	header := "name = \"Tidetable\"\nversion = \"1.4.0\"\n"
	for name, c := range map[string]struct {
		header func(n int) bool
		want   string
	}{
		"no packages": {func(int) bool { return false }, ""},
		"packages":    {func(int) bool { return true }, "more than 200 packages"},
		"one":         {func(n int) bool { return n == 7000 }, ""},
	} {
		file := filepath.Join(t.TempDir(), "many.zip")
		out, err := os.Create(file)
		if err != nil {
			t.Fatal(err)
		}
		archive := zip.NewWriter(out)
		for n := range 15_000 {
			inner := "text.txt"
			if c.header(n) {
				inner = "plugin.toml"
			}
			w, err := archive.Create(fmt.Sprintf("all/f%d/%s", n, inner))
			if err == nil {
				_, err = io.WriteString(w, header)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if err := errors.Join(archive.Close(), out.Close()); err != nil {
			t.Fatal(err)
		}
		reads := 0
		found, err := Find(t.Context(), file, "many.zip", t.TempDir(), func(folder cms.Folder) (cms.Header, error) {
			names, err := folder.Names()
			reads += 1 + len(names)
			if err != nil || !slices.Contains(names, "plugin.toml") {
				return cms.Header{}, cms.ErrNoHeader
			}
			return cms.Header{Kind: cms.Plugin, Name: "Tidetable", Version: "1.4.0"}, nil
		})
		for _, p := range found {
			_ = p.Close()
		}
		if c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) || name == "one" && len(found) != 1 || reads > 50_000 {
			t.Errorf("%s: %d found, %d names read, %v", name, len(found), reads, err)
		}
	}
}

// readLoose knows plugins by a script that begins with their name, and language packs by their files' ending.
func readLoose(folder cms.Folder) (cms.Header, error) {
	names, err := folder.Names()
	for _, name := range names {
		if strings.HasSuffix(name, ".po") {
			return cms.Header{Kind: cms.Language, Name: "bell-de_DE", Alone: "bell-de_DE", Version: "1"}, nil
		}
		if strings.HasSuffix(name, ".php") {
			file, err := folder.Open(name)
			if err != nil {
				return cms.Header{}, err
			}
			defer file.Close()
			if text, err := io.ReadAll(file); err != nil || strings.HasPrefix(string(text), "<?php // Bell") {
				return cms.Header{Kind: cms.Plugin, Name: "Bell", Alone: name, Version: "1"}, err
			}
		}
	}
	return cms.Header{}, errors.Join(cms.ErrNoHeader, err)
}

// What is installed without a folder of its own comes without one, too, or as a script alone.
func TestFindLoose(t *testing.T) {
	const bell = "<?php // Bell"
	for _, c := range []struct {
		name    string
		entries []entry
		want    string // its folder, and what is in it; "": refused
	}{
		{"a script", []entry{{name: "bell.php", text: bell}}, "bell: . bell.php"},
		{"with something to read", []entry{{name: "bell.php", text: bell}, {name: "readme.txt", text: "x"}}, "bell: . bell.php readme.txt"},
		{"with a folder of its name", []entry{{name: "bell.php", text: bell}, {name: "bell/part.php", text: "<?php"}}, "bell: . bell bell.php bell/part.php"},
		{"several scripts: a folder whose name is lost", []entry{{name: "bell.php", text: bell}, {name: "other.php", text: "<?php"}}, ""},
		{"a language pack", []entry{{name: "bell-de_DE.po", text: "x"}, {name: "bell-de_DE.mo", text: "x"}}, "bell-de_DE: . bell-de_DE.mo bell-de_DE.po"},
		{"hostile", []entry{{name: "bell.php", text: bell}, {name: "../x.php", text: "<?php"}}, ""},
	} {
		file := archiveOf(t, c.entries...)
		found, err := Find(t.Context(), file, file, t.TempDir(), readLoose)
		got := ""
		for _, p := range found {
			got += p.Folder + ":"
			for _, item := range p.Tree {
				got += " " + item.Path
			}
			if err := p.Close(); err != nil {
				t.Error(err)
			}
		}
		if got != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%s: %q %v", c.name, got, err)
		}
	}
	script := filepath.Join(t.TempDir(), "bell.php")
	for text, good := range map[string]bool{bell: true, "<?php // nothing": false} {
		if err := os.WriteFile(script, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		found, err := Find(t.Context(), script, script, t.TempDir(), readLoose)
		if (err == nil) != good || good && (len(found) != 1 || found[0].Folder != "bell" || found[0].Origin != script) {
			t.Errorf("%q: %v %v", text, found, err)
		}
	}
	if _, err := Find(t.Context(), script+".php", script+".php", t.TempDir(), readLoose); !errors.Is(err, ErrUnreadable) {
		t.Errorf("a script that is not there: %v", err)
	}
}

// A plugin's file becomes a package of its own, under the name that it has on the site.
func TestSingle(t *testing.T) {
	file := archiveOf(t, entry{name: "bell/bell.php", text: "<?php // Bell"}, entry{name: "bell/inc/cache.php", text: "<?php // Bell's cache"})
	p, err := Open(t.Context(), file, readLoose)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	single, err := p.Single(t.Context(), "inc/cache.php", "object-cache.php", t.TempDir(), readLoose)
	if err != nil {
		t.Fatal(err)
	}
	defer single.Close()
	if text, err := single.Text("object-cache.php"); text != "<?php // Bell's cache" || err != nil || len(single.Tree) != 2 {
		t.Errorf("%q %v %v", text, single.Tree, err)
	}
	for _, at := range []string{"inc", "inc/other.php"} {
		if _, err := p.Single(t.Context(), at, "x.php", t.TempDir(), readLoose); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s: %v", at, err)
		}
	}
}
