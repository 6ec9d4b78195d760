package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"wetland/internal/testenv"
)

// careOf adopts any WordPress site into a workspace of the test.
func careOf(t *testing.T, site *testenv.Site, more ...string) string {
	t.Helper()
	workspace := t.TempDir()
	wetland(t, workspace, append([]string{"adopt", site.Root, "--address", site.Address, "--no-browser"}, more...)...).want(t, 0)
	return workspace
}

// noCopyIsLeft fails where something of a private copy is still there.
func noCopyIsLeft(t *testing.T, workspace string) {
	t.Helper()
	left, err := os.ReadDir(filepath.Join(workspace, "copies"))
	if err == nil && len(left) > 0 {
		t.Errorf("%s of a copy is still there", left[0].Name())
	}
}

// A rehearsal tells of real packages what an update would, and the site stays as it is.
func TestRehearseWordPress(t *testing.T) {
	site := testenv.WordPress(t)
	workspace := careOf(t, site)
	rows, files := rowsOf(t, site.Account.Root, "of_"), tree(t, site.Root, caches...)
	good := themePackage(t, site, "1.8", map[string]string{"assets/css/new.css": "p { margin: 0 }\n"})
	bad := themePackage(t, site, "1.9", map[string]string{"single.php": brokenSingle})
	wetland(t, workspace, "rehearse", good).want(t, 0, "Sound on a copy", "all sound on the copy", "was not touched")
	wetland(t, workspace, "rehearse", bad).want(t, 3, "Broken on a copy", "was not touched")
	same(t, files, tree(t, site.Root, caches...))
	sameRows(t, rows, rowsOf(t, site.Account.Root, "of_"))
	noCopyIsLeft(t, workspace)
}
