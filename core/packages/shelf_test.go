package packages

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wetland/core/files"
	"wetland/core/packs"
	"wetland/core/site/cms"
)

// shelved puts versions of two plugins on a shelf.
func shelved(t *testing.T) Shelf {
	t.Helper()
	s := Shelf{Dir: t.TempDir()}
	for _, folder := range []string{"tidetable", "enquiries"} {
		for _, version := range []string{"1.8.0", "1.8.3"} {
			text := folder + " " + version
			component := cms.Component{Folder: folder, Header: cms.Header{Kind: cms.Plugin, Name: folder, Version: version}}
			tree := files.Tree{{Path: ".", Kind: files.Folder, Mode: 0o755}, {Path: "plugin.toml", Kind: files.File, Mode: 0o644,
				Size: int64(len(text)), Hash: packs.PlainID([]byte(text)).String()}}
			open := func(files.Item) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }
			if _, err := s.Keep(t.Context(), component, tree, open, "replaced by run-1"); err != nil {
				t.Fatal(err)
			}
		}
	}
	return s
}

// Whatever bit of a label or an archive is wrong, or if it is cut or gone: the other packages are there as before, and
// the damaged one is used as what it is, or not at all.
func TestDamageOnTheShelfStopsNothingElse(t *testing.T) {
	first := shelved(t)
	whole, err := first.List()
	if err != nil || len(whole) != 4 {
		t.Fatalf("%+v %v", whole, err)
	}
	for _, pattern := range []string{"*.json", "*.zip"} {
		for n := range 60 {
			s := shelved(t)
			name := filepath.Join(s.Dir, "plugins/tidetable", strings.Replace(pattern, "*", "tidetable@1.8.3", 1))
			text, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			at := n * len(text) / 60
			switch n % 10 {
			case 0:
				text = text[:at]
			default:
				text[at] ^= 1 << (n % 8)
			}
			if err := os.WriteFile(name, text, 0o600); err != nil {
				t.Fatal(err)
			}
			where := fmt.Sprintf("%s, byte %d", pattern, at)
			all, err := s.List()
			if err != nil {
				t.Errorf("%s: %v", where, err)
			}
			for _, one := range whole {
				i := slices.IndexFunc(all, func(e Entry) bool { return e.Folder == one.Folder && e.Version == one.Version })
				if one.Folder == "tidetable" && one.Version == "1.8.3" {
					if i >= 0 && all[i].Kind != cms.Plugin {
						t.Errorf("%s: %+v", where, all[i])
					}
				} else if i < 0 || all[i].Content != one.Content {
					t.Errorf("%s: %s is not there as before", where, one.Title())
				}
			}
			if entry, err := s.Pick("enquiries@1.8.3"); err != nil || entry.Version != "1.8.3" {
				t.Errorf("%s: %+v %v", where, entry, err)
			}
			if entry, err := s.Pick("tidetable@1.8.3"); err == nil &&
				entry.File != filepath.Join(s.Dir, "plugins/tidetable/tidetable@1.8.3.zip") {
				t.Errorf("%s: %+v", where, entry)
			}
		}
	}
}
