package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"wetland/internal/testenv"
)

// Pipes in the place of files hold nothing up, wherever somebody put them: each command ends,
// and says what is in the way where it needs the file.
func TestPipesHoldNothingUp(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	care := t.TempDir()
	wetland(t, care, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0)
	// PHP itself waits for such pipes: pages are not waited for long.
	edit(t, filepath.Join(care, "wetland.toml"), `timeout = "20s"`, `timeout = "1s"`)
	newer := themePackage(t, site, "1.8", nil)
	wetland(t, care, "snapshot").want(t, 0)
	const theme = "wp-content/themes/twentytwentyone/"
	for _, c := range []struct {
		at     string
		needed string // by all commands: then it is told in these words
	}{
		{"wp-config.php", "wp-config.php: it is neither a file nor a folder"},
		{"wp-includes/version.php", "holds no wordpress site any more"},
		{theme + "style.css", ""},
		{theme + "pipe.php", ""},
		{"wp-content/plugins/pipe/pipe.php", ""},
		{"wp-content/plugins/pipe.php", ""},
		{"wp-content/mu-plugins/pipe.php", ""},
		{"wp-content/object-cache.php", ""},
		{"wp-content/uploads/pipe.jpg", ""},
		{"wp-content/debug.log", ""},
		{".maintenance", ""},
		{"dump.sql", ""},
		{"wp-content/cache/pipe", ""},
	} {
		t.Run(c.at, func(t *testing.T) {
			file := filepath.Join(site.Root, c.at)
			must(t, os.MkdirAll(filepath.Dir(file), 0o755))
			if err := os.Rename(file, file+".kept"); err == nil {
				defer os.Rename(file+".kept", file)
			}
			must(t, unix.Mkfifo(file, 0o666))
			defer os.Remove(file)
			for _, args := range [][]string{{"survey"}, {"snapshot"}, {"examine", newer}, {"recover"}} {
				ended := inTime(t, care, args...)
				if said := strings.Join(strings.Fields(ended.stdout+ended.err), " "); c.needed != "" && args[0] != "recover" && !strings.Contains(said, c.needed) {
					t.Errorf("wetland %s does not say %q\n%s", args[0], c.needed, ended)
				}
			}
		})
	}
}

// inTime runs the program, and fails if it does not end.
func inTime(t *testing.T, workspace string, args ...string) result {
	t.Helper()
	command := wetlandCommand(t, args...)
	late := time.AfterFunc(time.Minute, func() { // it would wait for ever
		t.Errorf("wetland %s does not end", strings.Join(args, " "))
		_ = command.Process.Kill()
	})
	defer late.Stop()
	return finish(t, command, workspace)
}

// What is called like our own folders is kept and restored like anything else: nothing hides
// there from a restore.
func TestNothingHidesFromARestore(t *testing.T) {
	f := adopted(t)
	f.run(t, "snapshot").want(t, 0)
	before := f.siteTree(t)
	for _, name := range []string{"uploads/.wetland-staging/shell.php", "uploads/.wetland-staging-a/shell.php", "themes/.wetland-probe-a/x", ".wetland-staging/x.html"} {
		file := filepath.Join(f.root, name)
		must(t, os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte("<?php"), 0o644))
	}
	f.run(t, "restore", "snap-1", "--yes").want(t, 0, "Restored.")
	same(t, before, f.siteTree(t))
}
