package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestShelfAndUpdatesFromIt(t *testing.T) {
	f := adopted(t)
	f.run(t, "shelf").want(t, 0, "The shelf is empty")
	f.run(t, "shelve", f.packages).want(t, 0, "Harbourlight 2.5.2, from harbourlight-2.5.2.zip", "Tidetable 2.1.0")
	f.run(t, "shelf").want(t, 0, "harbourlight 3.0.0 newer, major", "harbourlight 2.5.2 newer, minor")
	f.run(t, "update", "harbourlight@2.5.2").want(t, 0, "Kept. Harbourlight 2.5.2")
	f.run(t, "shelf").want(t, 0, "harbourlight 2.5.2 installed", "harbourlight 2.4.1 older than 2.5.2", "was installed here")

	// One can always go back to what was installed, exactly.
	f.run(t, "update", "harbourlight@2.4.1").want(t, 2, "older than the installed 2.5.2", "--allow-older")
	f.run(t, "update", "harbourlight@2.4.1", "--allow-older").want(t, 0, "Kept. Harbourlight 2.4.1")
	f.wantTheme(t, "2.4.1")
	var shelf struct {
		Shelf []struct {
			Folder, Version, Installed, Distance string
			Beside, Replaced                     bool
		}
	}
	f.run(t, "shelf", "--json").decode(t, &shelf)
	for _, entry := range shelf.Shelf {
		if entry.Beside {
			t.Errorf("the same content is on the shelf twice: %+v", entry)
		}
	}
	f.run(t, "update", "harbourlight@9.9").want(t, 1, "the shelf has no such package")
	f.run(t, "update", "moonraker").want(t, 1, "the shelf has no such package", "wetland shelf")
}

// zippedText is a zip of these entries, as a text.
func zippedText(t *testing.T, entries map[string]string) string {
	t.Helper()
	text, err := os.ReadFile(zipOf(t, "inner.zip", entries))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func TestBundles(t *testing.T) {
	f := adopted(t)
	read := func(name string) string {
		t.Helper()
		text, err := os.ReadFile(f.pkg(name))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	bundle := zipOf(t, "harbourlight-all.zip", map[string]string{
		"Harbourlight/licence.txt":                   "for one site",
		"Harbourlight/manual/index.html":             "<html></html>",
		"Harbourlight/theme/harbourlight.zip":        read("harbourlight-2.5.2"),
		"Harbourlight/companions/tidetable.zip":      read("tidetable-2.0.0"),
		"__MACOSX/Harbourlight/._licence.txt":        "junk",
		"Harbourlight/theme/.DS_Store":               "junk",
		"Harbourlight/manual/pictures/lantern-1.txt": "x",
	})
	plugins := zipOf(t, "two.zip", map[string]string{"a/tidetable.zip": read("tidetable-2.0.0"), "b/enquiries.zip": read("enquiries-1.2.0")})
	f.run(t, "update", plugins).want(t, 2, "holds several packages", "plugin Enquiries 1.2.0 (enquiries)", "plugin Tidetable 2.0.0 (tidetable)", "--pick FOLDER")
	f.run(t, "examine", plugins, "--pick", "enquiries").want(t, 4, "plugin Enquiries 1.2.0")
	// Two zips deep, with a companion inside the theme itself as well.
	theme := zipOf(t, "theme.zip", map[string]string{"documents/read.txt": "x", "harbourlight.zip": read("harbourlight-2.5.2")})
	inner, err := os.ReadFile(theme)
	if err != nil {
		t.Fatal(err)
	}
	deep := zipOf(t, "deep.zip", map[string]string{"all/inside.zip": string(inner), "all/companions/tidetable.zip": read("tidetable-2.0.0"), "all/extra/enquiries.zip": read("enquiries-1.2.0"), "manual/a.txt": "x"})
	f.run(t, "examine", deep).want(t, 4, "theme Harbourlight 2.5.2", "plugin Tidetable 2.0.0 came along with it, and 1.3.0 is installed: they are meant to go together", "plugin Enquiries 1.2.0 came along")
	carrying := entriesOf(t, filepath.Join(f.root, "themes/harbourlight"), "harbourlight")
	carrying["harbourlight/theme.toml"] = strings.Replace(carrying["harbourlight/theme.toml"], "2.4.1", "2.4.2", 1)
	carrying["harbourlight/companions/tidetable.zip"] = read("tidetable-2.0.0")
	f.run(t, "examine", zipOf(t, "carrying.zip", carrying)).want(t, 4, "theme Harbourlight 2.4.2", "plugin Tidetable 2.0.0 came along with it")
	// What a theme requires comes along: the command for it is told, and works.
	needing := zipOf(t, "needing all.zip", map[string]string{
		"a/harbourlight.zip": zippedText(t, map[string]string{"harbourlight/theme.toml": "name = \"Harbourlight\"\nversion = \"2.4.2\"\nrequires_plugins = [\"moonraker\"]\n"}),
		"b/moonraker.zip":    zippedText(t, map[string]string{"moonraker/plugin.toml": "name = \"Moonraker\"\nversion = \"1.0.0\"\n"}),
	})
	first := fmt.Sprintf("Install that first: wetland update '%s' --pick moonraker", needing)
	f.run(t, "examine", needing, "--pick", "harbourlight").want(t, 3, first)
	f.run(t, "update", needing, "--pick", "harbourlight").want(t, 2, first)
	f.run(t, "update", needing, "--pick", "moonraker").want(t, 0, "Moonraker 1.0.0 is installed, not active")
	f.run(t, "update", bundle).want(t, 0, "Kept. Harbourlight 2.5.2", "left out plugin Tidetable 2.0.0 is in the bundle, too, and not installed with it (installed: 1.3.0)", "examines the plugin Tidetable 2.0.0, which came along with the package and was not installed")
	f.run(t, "shelve", bundle).want(t, 0, "Harbourlight 2.5.2", "Tidetable 2.0.0")
	f.run(t, "update", "tidetable", "--allow-major").want(t, 0, "Kept. Tidetable 2.0.0")
	alone := zipOf(t, "bundle.zip", map[string]string{"all/enquiries.zip": read("enquiries-1.2.0"), "docs/read.txt": "x"})
	f.run(t, "update", alone).want(t, 0, "Kept. Enquiries 1.2.0")
	f.run(t, "shelve", textFile(t, "no.zip", "nothing"), alone).want(t, 4, "Enquiries 1.2.0", "no.zip is not a zip file")
	f.run(t, "shelve", textFile(t, "no.zip", "nothing")).want(t, 2, "not taken")
}

// An archive of a vendor's repository, whose folder has the version or a branch in its name, is
// the same component on the shelf and for an update.
func TestFoldersOfRepositories(t *testing.T) {
	f := adopted(t)
	unpacked := t.TempDir()
	unzip(t, f.pkg("harbourlight-2.5.2"), unpacked)
	for _, folder := range []string{"harbourlight-2.5.2", "harbourlight-main", "harbourlight_v2.5.2"} {
		file := zipOf(t, folder+".zip", entriesOf(t, filepath.Join(unpacked, "harbourlight"), folder))
		f.run(t, "update", file, "--plan").want(t, 0, "(harbourlight) 2.4.1 -> 2.5.2")
		f.run(t, "shelve", file).want(t, 0, "Harbourlight 2.5.2")
	}
	f.run(t, "shelf").want(t, 0, "harbourlight 2.5.2 newer, minor")
	f.run(t, "update", "harbourlight@2.5.2").want(t, 0, "Kept.")
	f.wantTheme(t, "2.5.2")
	f.run(t, "update", zipOf(t, "other.zip", entriesOf(t, filepath.Join(unpacked, "harbourlight"), "moonlight"))).want(t, 2, "the package's folder is moonlight, but Harbourlight is installed in the folder harbourlight")
}

// Where a version is on the shelf with two contents, the list says how each is named.
func TestShelfNamesTheFileOfTwins(t *testing.T) {
	f := adopted(t)
	unpacked := t.TempDir()
	unzip(t, f.pkg("harbourlight-2.5.2"), unpacked)
	entries := entriesOf(t, filepath.Join(unpacked, "harbourlight"), "harbourlight")
	entries["harbourlight/extra.txt"] = "another build"
	second := zipOf(t, "again.zip", entries)
	f.run(t, "shelve", f.pkg("harbourlight-2.5.2"), second).want(t, 0)
	f.run(t, "update", "harbourlight@2.5.2").want(t, 1, "several packages of the same version", "Name the file")
	said := f.run(t, "shelf").want(t, 0, "to take this one, name its file")
	var named string
	for _, word := range strings.Fields(said.stdout) {
		if strings.HasSuffix(word, "harbourlight@2.5.2.zip") {
			named = word
		}
	}
	f.run(t, "update", named, "--plan").want(t, 0, "2.4.1 -> 2.5.2")
}
