package adopt

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/core/progress"
	"wetland/internal/testenv"
)

func TestMain(m *testing.M) { os.Exit(testenv.Run(m)) }

// The pool of PHP that serves a site is known by the compiled code that it keeps; another
// site's pool is not taken for it.
func TestPoolOfTheSiteIsFound(t *testing.T) {
	site := testenv.NginxWordPress(t)
	socket := strings.TrimPrefix(site.Pool, "unix:")
	for name, want := range map[string]string{"own": site.Pool, "another": ""} {
		root := site.Root
		if name == "another" {
			root = testenv.WordPress(t).Root
		}
		workspace := t.TempDir()
		result, err := Adopt(t.Context(), Options{
			Root: root, Workspace: workspace, NoBrowser: true, Report: progress.Silent{},
			PoolSockets: []string{filepath.Join(filepath.Dir(socket), "*.sock"), socket},
		})
		if err != nil {
			t.Fatal(err)
		}
		text, err := os.ReadFile(filepath.Join(workspace, "wetland.toml"))
		if err != nil {
			t.Fatal(err)
		}
		if result.Pool != want || result.NoPool != (want == "") || strings.Contains(string(text), "\nphp_pool = ") != (want != "") {
			t.Errorf("%s: %q\n%s", name, result.Pool, text)
		}
	}
}
