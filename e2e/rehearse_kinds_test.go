package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"wetland/internal/testenv"
)

// recipes are the kinds of sites of which the tests of pages are made: with builders, shops, forums, page caches
// and others.
const recipes = "../core/smoke/fetching/testdata/kinds"

// ofRecipe lays out a site of one kind.
func ofRecipe(t *testing.T, name string) *testenv.Site {
	t.Helper()
	site, content := testenv.WordPress, "wp-content"
	switch name {
	case "newest":
		site = testenv.NewestWordPress
	case "subfolder":
		site, content = func(t testing.TB) *testenv.Site { site, _ := testenv.SubfolderWordPress(t); return site }, "stuff"
	}
	s := site(t)
	recipe, err := filepath.Abs(filepath.Join(recipes, name))
	must(t, err)
	if out, err := exec.Command("cp", "-r", recipe+"/wp-content/.", filepath.Join(s.Root, content)).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	script, err := os.ReadFile(filepath.Join(recipe, "setup.php"))
	must(t, err)
	s.PHP(t, script)
	return s
}

// The copy of a site of any kind says on its pages what the site says, and a package is judged there as on the
// site.
func TestRehearseEveryKind(t *testing.T) {
	names, err := filepath.Glob(filepath.Join(recipes, "*"))
	must(t, err)
	if len(names) < 8 {
		t.Fatalf("only %d kinds are there", len(names))
	}
	if os.Getenv("WETLAND_TORTURE") == "" {
		t.Skip("make torture goes through all of them; make test through the sites of TestRehearseWordPress")
	}
	for _, folder := range names {
		name := filepath.Base(folder)
		t.Run(name, func(t *testing.T) {
			site := ofRecipe(t, name)
			workspace := adoptKind(t, site)
			before := remember(t, site, workspace)
			good, bad := newTheme(t, site, ".1", map[string]string{"assets/css/new.css": "p { margin: 0 }\n"}), newTheme(t, site, ".2", map[string]string{"functions.php": "<?php\ntideline_is_missing();\n"})
			code := 0
			if name == "newest" {
				code = 4 // this machine has another PHP, and another server
			}
			wetland(t, workspace, "rehearse", good).want(t, code, "of the copy say the same as the site's", "all sound")
			before.check(t)
			rehearsed := wetland(t, workspace, "rehearse", bad, "--json").want(t, 3)
			before.check(t)
			updated := wetland(t, workspace, "update", bad, "--json", "--in-doubt", "back")
			on, live := verdictsOf(t, rehearsed), verdictsOf(t, updated)
			for page, verdict := range live {
				if on[page] != verdict {
					t.Errorf("%s: on the copy %s\non the site %s", page, on[page], verdict)
				}
			}
		})
	}
}
