package site

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/core/host"
	"wetland/core/workspace"
)

// Settling for less than the CMS needs would judge the old code: it wants to be said twice.
func TestShorterSettling(t *testing.T) {
	root, care := filepath.Join(t.TempDir(), "www"), t.TempDir()
	for name, text := range map[string]string{
		"wp-includes/version.php": "<?php $wp_version = '6.1.1';",
		"wp-config.php":           "<?php define('DB_NAME', 'x'); $table_prefix = 'wp_';",
		"wp-content/index.php":    "<?php",
	} {
		file := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for settle, wanted := range map[string]string{
		"":                            "",
		"wait_after_swap = \"10s\"\n": "",
		"wait_after_swap = \"1s\"\n":  "add shorter_wait = true",
		"wait_after_swap = \"0s\"\n":  "old code would still answer",
		"wait_after_swap = \"1s\"\nshorter_wait = true\n": "",
	} {
		config, err := workspace.ReadConfig([]byte("[site]\nroot = \"" + root + "\"\naddress = \"http://ferry.example/\"\ncms = \"wordpress\"\n[smoke]\n" + settle))
		if err != nil {
			t.Fatal(err)
		}
		_, err = Open(t.Context(), &workspace.Workspace{Dir: care, Config: *config, Host: host.Here, Folder: root})
		if (err == nil) != (wanted == "") || err != nil && !strings.Contains(err.Error(), wanted) {
			t.Errorf("%q: %v, want %q", settle, err, wanted)
		}
	}
}
