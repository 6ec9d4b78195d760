package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// A theme that changes settings and dies is put back on a site whose settings are kept in an
// object cache, too. Where PHP can be asked, the cache is emptied and that is proved; where it
// cannot, what is not proved is said.
func TestObjectCacheAfterGoingBack(t *testing.T) {
	for _, asked := range []bool{true, false} {
		t.Run(fmt.Sprintf("PHP asked %v", asked), func(t *testing.T) {
			t.Parallel()
			site := testenv.NginxWordPress(t)
			folder := keepOptions(t, site)
			workspace := t.TempDir()
			wetland(t, workspace, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0)
			askPool(t, workspace, site, asked)
			functions, err := os.ReadFile(filepath.Join(site.Root, "wp-content/themes/twentytwentyone/functions.php"))
			must(t, err)
			theme := themePackage(t, site, "1.8", map[string]string{
				"functions.php": string(functions) + "\nupdate_option( 'blogdescription', 'As the new theme wants it' );\n", "single.php": brokenSingle,
			})
			if kept, err := os.ReadDir(folder); err != nil || len(kept) == 0 {
				t.Fatalf("the object cache keeps nothing: %v", err)
			}
			result := wetland(t, workspace, "update", theme)
			result.want(t, 3)
			said, not := "the object cache was emptied, which is proved", "What is not proved"
			if !asked {
				said, not = "What is not proved: that the object cache has none of the newer settings", "which is proved"
			}
			if out := strings.Join(strings.Fields(result.stdout), " "); !strings.Contains(out, said) || strings.Contains(out, not) {
				t.Errorf("want %q, and not %q:\n%s", said, not, result.stdout)
			}
			if page, err := site.Get("/"); asked && (err != nil || strings.Contains(page, "As the new theme wants it")) {
				t.Errorf("visitors get the newer setting, or nothing: %v", err)
			}
		})
	}
}

// keepOptions gives a site an object cache that keeps its settings in files.
func keepOptions(t *testing.T, site *testenv.Site) (folder string) {
	t.Helper()
	text, err := os.ReadFile("../core/smoke/fetching/testdata/kinds/cached/wp-content/object-cache.php")
	must(t, err)
	kept := strings.Replace(string(text), "array( 'stillwater', 'transient' )", "array( 'options', 'wetland' )", 1)
	if kept == string(text) {
		t.Fatal("the object cache keeps other groups")
	}
	folder = filepath.Join(filepath.Dir(site.Root), "objects") // no folder of the site: nothing else clears it
	must(t, os.Mkdir(folder, 0o777), os.Chmod(folder, 0o777))
	site.Write(t, "wp-content/object-cache.php", strings.ReplaceAll(kept, "WP_CONTENT_DIR . '/cache/objects", "'"+folder))
	return folder
}
