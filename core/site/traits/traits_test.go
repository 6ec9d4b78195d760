package traits

import (
	"path"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/andybalholm/cascadia"
)

// Whatever the table holds can be used without looking: patterns and selectors are some, names are
// names.
func TestTable(t *testing.T) {
	var names, markers []string
	for _, one := range Known() {
		if one.Name == "" || one.Title == "" || slices.Contains(names, one.Name) || slices.Contains(markers, one.Marker) {
			t.Errorf("%q (%s) is no name of its own, or %s no marker", one.Name, one.Title, one.Marker)
		}
		names, markers = append(names, one.Name), append(markers, one.Marker)
		for _, name := range slices.Concat([]string{one.Marker, one.Settings, one.Themes, one.Plugins, one.Uploads, one.ThemeHeader, one.Cache}, one.ChildsOwn, one.Volatile, one.LooseFiles, one.FilesForAll, one.FirstPages) {
			if name == "" || path.IsAbs(name) || path.Clean(name) != name || strings.HasPrefix(name, "..") {
				t.Errorf("%s: %q is no path below a folder", one.Name, name)
			}
		}
		for purpose, tables := range one.Tables {
			if !slices.Contains([]string{"settings", "visitors' writes", "volatile"}, purpose) || len(tables) == 0 {
				t.Errorf("%s: tables for %q", one.Name, purpose)
			}
			for _, pattern := range tables {
				if _, err := path.Match(pattern, ""); err != nil {
					t.Errorf("%s: tables %q: %v", one.Name, pattern, err)
				}
			}
		}
		for _, shape := range one.Pages.Errors {
			if _, err := regexp.Compile(shape.Pattern); err != nil || shape.Key != strings.ToLower(shape.Key) || !strings.Contains(strings.ToLower(shape.Pattern), shape.Key) {
				t.Errorf("%s: %q with the key %q: %v", one.Name, shape.Pattern, shape.Key, err)
			}
		}
		for _, selector := range []string{one.Pages.Ornaments, one.Pages.Known} {
			if _, err := cascadia.ParseGroup(selector); selector != "" && err != nil {
				t.Errorf("%s: %q: %v", one.Name, selector, err)
			}
		}
		if !reflect.DeepEqual(Of(one.Name), one) {
			t.Errorf("%s is not found by its name", one.Name)
		}
	}
	if !reflect.DeepEqual(Of("none"), Traits{}) {
		t.Error("of no CMS something is known")
	}
}
