package workspace

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const paged = `format = 1
[site]
name = "Otterby Ferry"
root = "/srv/www/ferry"
cms = "wordpress"
address = "https://ferry.example/"

# The pages to test.
[[pages]]
path = "/"           # the front page
expect = ["ferry"]

# It is the one that matters.
[[pages]]
path = '/timetable'
status = 200

[smoke]
concurrency = 2

[[pages]]
path = "/fares"
`

func changed(t *testing.T, text string, add []Page, leaveOut ...string) (string, error) {
	t.Helper()
	dir := t.TempDir()
	file := filepath.Join(dir, ConfigName)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	w, err := Load(dir, OnlyHere)
	if err != nil {
		t.Fatal(err)
	}
	problem := w.ChangePages(add, leaveOut)
	after, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return string(after), problem
}

func TestChangePages(t *testing.T) {
	text, err := changed(t, paged, []Page{{Path: `/a "b"`}, {Path: "/none", Status: 404}}, "/timetable", "/fares")
	if err != nil {
		t.Fatal(err)
	}
	for _, stays := range []string{"# The pages to test.", `path = "/"           # the front page`, `expect = ["ferry"]`, "# It is the one that matters.", "[smoke]\nconcurrency = 2", "[[pages]]\npath = \"/a \\\"b\\\"\"", "path = \"/none\"\nstatus = 404"} {
		if !strings.Contains(text, stays) {
			t.Errorf("%q is gone:\n%s", stays, text)
		}
	}
	if strings.Contains(text, "timetable") || strings.Contains(text, "fares") {
		t.Errorf("pages are left:\n%s", text)
	}
	if same, err := changed(t, paged, nil); err != nil || same != paged {
		t.Errorf("nothing was to be changed: %v\n%s", err, same)
	}
}

// What cannot be changed is left as it was.
func TestChangePagesOfAnotherForm(t *testing.T) {
	inline := strings.Split(paged, "# The pages")[0]
	inline = "pages = [{path = \"/\"}, {path = \"/fares\"}]\n" + inline
	text, err := changed(t, inline, nil, "/fares")
	if err == nil || !strings.Contains(err.Error(), "by hand") || text != inline {
		t.Errorf("%v\n%s", err, text)
	}
}
