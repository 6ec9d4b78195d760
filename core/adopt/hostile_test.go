package adopt

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"

	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/workspace"
)

// hostile lays out a site whose settings, folders and links try to become lines of
// wetland.toml, and serves it.
func hostile(t *testing.T, content, prefix string, links []string) (root, address string) {
	t.Helper()
	root = filepath.Join(t.TempDir(), "www")
	write := func(name, text string) {
		file := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	php := func(text string) string { return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(text) + "'" }
	write("wp-includes/version.php", "<?php $wp_version = '6.1.1';")
	write("wp-includes/js/wp-embed.js", "1;")
	write("wp-includes/css/buttons.css", "a{}")
	write(filepath.Join(content, "themes/boat/style.css"), "/*\nTheme Name: Boat\nVersion: 1.0\n*/")
	write(filepath.Join(content, "plugins/index.php"), "<?php")
	write("wp-config.php", fmt.Sprintf("<?php\ndefine('DB_NAME', %s);\ndefine('DB_USER', %s);\ndefine('DB_PASSWORD', getenv('X'));\ndefine('DB_HOST', '127.0.0.1:1');\n$table_prefix = %s;\ndefine('WP_CONTENT_DIR', __DIR__ . %s);\n",
		php("ferry\n[hooks]\nbefore = 'touch x'"), php("ferry"), php(prefix), php("/"+content)))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if file, err := os.ReadFile(filepath.Join(root, filepath.FromSlash(r.URL.Path))); err == nil {
			_, _ = w.Write(file)
			return
		}
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, "<!DOCTYPE html><html><head><title>Boat</title></head><body><nav>")
		for _, link := range links {
			fmt.Fprintf(w, "<a href=\"%s\">%s</a>", link, link)
		}
		fmt.Fprint(w, "</nav><main><h1>Boat</h1><p>The boat leaves when the bell has rung.</p></main></body></html>")
	}))
	t.Cleanup(server.Close)
	return root, server.URL + "/"
}

// Nothing that a site says ends a value or a comment of wetland.toml early.
func TestHostileSettingsStayValues(t *testing.T) {
	const hook = "\n[hooks]\nbefore = '''touch /tmp/taken'''\n#"
	for _, c := range []struct {
		name, content, prefix, title string
		links                        []string
	}{
		{"a line break in the content folder", "content" + hook, "wp_", "", []string{"/a'''b", "/it's"}},
		{"carriage returns", "content\r[hooks]\rbefore = 'x'", "wp_", "", nil},
		{"a prefix", "content", "x`; '''\n[hooks]\nbefore='x'", "", nil},
		{"a name", "content", "wp_", "Ferry\"\n[hooks]\nbefore = \"touch x\"\n# \x1b[2J\u202e \x7f", []string{`/"""`, "/?q=%0A[hooks]", "/%22%0d", "/\u202egnp"}},
		{"a backslash at the end", `content\`, `wp_\`, `Ferry\`, []string{`/x\`}},
		{"quotes", `con"tent'''`, "wp_", `"""`, []string{"/'''", "/\"; x = 1"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			root, address := hostile(t, c.content, c.prefix, c.links)
			own := t.TempDir()
			result, err := Adopt(t.Context(), Options{Root: root, Address: address, Name: c.title, Workspace: own, NoBrowser: true, PoolSockets: []string{}, Report: progress.Silent{}})
			if err != nil {
				t.Fatal(err)
			}
			text, err := os.ReadFile(filepath.Join(own, workspace.ConfigName))
			if err != nil {
				t.Fatal(err)
			}
			var read map[string]any
			if err := toml.Unmarshal(text, &read); err != nil {
				t.Fatalf("%v\n%s", err, text)
			}
			wantKeys(t, read, text)
			config, err := workspace.ReadConfig(text)
			if err != nil {
				t.Fatal(err)
			}
			if config.Site.Root != root || config.Site.Address != address || config.Hooks != (workspace.HooksConfig{}) || (c.title != "" && config.Site.Name != c.title) {
				t.Errorf("%+v\n%s", config.Site, text)
			}
			for i, page := range result.Pages {
				if config.Pages[i].Path != page.Path {
					t.Errorf("page %q was written as %q", page.Path, config.Pages[i].Path)
				}
			}
			if strings.ContainsFunc(string(text), func(r rune) bool { return r < 0x20 && r != '\n' || r == 0x7f || r == 0x202e }) {
				t.Errorf("control characters in it:\n%q", text)
			}
		})
	}
}

// wantKeys fails if the file has any other table than those that adopting writes.
func wantKeys(t *testing.T, read map[string]any, text []byte) {
	t.Helper()
	known := []string{"format", "site", "database", "files", "smoke", "update", "retention", "pages", "reach"}
	for key := range read {
		if !slices.Contains(known, key) {
			t.Errorf("%s is in it:\n%s", key, text)
		}
	}
}

// What a CMS calls its site becomes a name of one line.
func TestOneLine(t *testing.T) {
	for title, want := range map[string]string{
		"Otterby Ferry":                   "Otterby Ferry",
		"  Otterby\n\tFerry\x1b[2J\u202e": "Otterby Ferry [2J",
		"\n":                              "",
		strings.Repeat("é", 100):          strings.Repeat("é", 80),
		"\xff\xfeFerry":                   "Ferry",
	} {
		if got := oneLine(title); got != want {
			t.Errorf("%q becomes %q, not %q", title, got, want)
		}
	}
}

// Pages that are dead when the list is made are told, with where they are named, and not put
// on it.
func TestDeadPagesAreNotPutOnTheList(t *testing.T) {
	root, address := hostile(t, "content", "wp_", []string{"/fares", "/author/"})
	own := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/author/":
			http.NotFound(w, r)
		case "/broken":
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<!DOCTYPE html><html><body><main><p>Warning: Undefined variable $tide in /srv/a.php on line 3</p></main></body></html>")
		case "/sitemap.xml":
			fmt.Fprintf(w, "<urlset><url><loc>http://%s/gone</loc></url><url><loc>http://%s/broken</loc></url></urlset>", r.Host, r.Host)
		case "/gone":
			http.Error(w, "gone", http.StatusGone)
		default:
			response, err := http.Get(strings.TrimSuffix(address, "/") + r.URL.RequestURI())
			if err != nil {
				t.Error(err)
				return
			}
			w.Header().Set("Content-Type", response.Header.Get("Content-Type"))
			_, _ = io.Copy(w, response.Body)
			_ = response.Body.Close()
		}
	}))
	defer own.Close()
	result, err := Adopt(t.Context(), Options{Root: root, Address: own.URL + "/", Workspace: t.TempDir(), NoBrowser: true, PoolSockets: []string{}, Report: progress.Silent{}})
	if err != nil {
		t.Fatal(err)
	}
	var listed, dead []string
	for _, page := range result.Pages {
		listed = append(listed, page.Path)
	}
	for _, one := range result.Dead {
		dead = append(dead, one.String())
	}
	if slices.Contains(listed, "/author/") || slices.Contains(listed, "/gone") || slices.Contains(listed, "/broken") || !slices.Contains(listed, "/fares") {
		t.Errorf("listed: %q", listed)
	}
	if !slices.Equal(dead, []string{"/author/ answers 404; it is named in the front page", "/gone answers 410; it is named in /sitemap.xml"}) {
		t.Errorf("dead: %q", dead)
	}
	if !slices.ContainsFunc(result.Doubts, func(r runs.Reason) bool {
		return strings.Contains(r.What, "the page /broken is broken now") && strings.Contains(r.What, "Not on the list")
	}) {
		t.Errorf("doubts: %+v", result.Doubts)
	}
}
