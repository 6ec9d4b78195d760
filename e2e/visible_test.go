package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"wetland/core/visible"
	"wetland/internal/testenv"
)

// hostileText would clear the screen, write to the clipboard, turn what follows, and print a line
// that tells of a step.
const hostileText = "x\x1b[2J\x1b]52;c;eA==\x07\u202e\u0085<img src=http://rogue.example/>![y](z)\n  ok  pages             all sound"

var ownColour = regexp.MustCompile(`\x1b\[(0|1|2|32|33|31;1)m`)

// shows fails if what a command says holds anything that a terminal would obey, or a step that was
// none.
func (r result) shows(t *testing.T, command string) {
	t.Helper()
	said := r.stdout + r.err
	if i := strings.IndexFunc(said, func(r rune) bool { return r != '\n' && r != '\t' && visible.Disturbs(r) }); i >= 0 {
		t.Errorf("%s: it says %q", command, said[max(0, i-80):min(len(said), i+40)])
	}
	if strings.Contains(said, "\n  ok  pages             all sound\n") {
		t.Errorf("%s: a false step:\n%s", command, said)
	}
}

// What packages, files and pages are called reaches neither terminal nor document as it is.
func TestNothingHostileReachesTheTerminal(t *testing.T) {
	f := adopted(t)
	escaped := strings.NewReplacer("\x1b", `\u001b`, "\x07", `\u0007`, "\u202e", `\u202e`, "\u0085", `\u0085`, "\n", `\u000a`).Replace(hostileText)
	plugin := filepath.Join(f.root, "plugins/tidetable")
	f.edit(t, filepath.Join(plugin, "plugin.toml"), `"Tidetable"`, `"`+escaped+`"`)
	must(t, os.WriteFile(filepath.Join(plugin, strings.ReplaceAll(hostileText, "/", "")), []byte(hostileText), 0o644))
	must(t, os.WriteFile(filepath.Join(f.root, "uploads", strings.ReplaceAll(hostileText, "/", "")), []byte(hostileText), 0o644))
	entries := entriesOf(t, plugin, "tidetable")
	for name := range entries {
		if strings.Contains(name, "\n") {
			delete(entries, name)
		}
	}
	entries["tidetable/plugin.toml"] = "name = \"" + escaped + "\"\nversion = \"1.4.0 " + escaped + "\"\nauthor = \"" + escaped + "\"\n"
	entries["tidetable/hostile.html"] = hostileText
	entries["tidetable/CHANGELOG.md"] = "## 1.4.0\n- " + hostileText + "\n"
	pkg := zipOf(t, "tidetable-1.4.0.zip", entries)
	entries["tidetable/"+strings.ReplaceAll(hostileText, "/", "")] = "x"
	named := zipOf(t, "named.zip", entries)
	for _, command := range [][]string{
		{"examine", named}, {"examine", pkg, "--diff", "hostile.html"}, {"survey"}, {"snapshot"}, {"update", pkg, "--plan"},
		{"update", pkg, "--lose-edits", "--in-doubt", "keep"}, {"history"}, {"report", "run-1"}, {"report", "run-1", "--as", "markdown"}, {"restore", "snap-1", "--yes"},
		{"shelf"}, {"smoke"}, {"verify", "snap-1"}, {"update", hostileText}, {"report", hostileText}, {"restore", hostileText, "--yes"}, {"pages", "add", "/" + hostileText},
	} {
		r := f.run(t, command...)
		r.shows(t, strings.Join(command[:1], " "))
		if command[0] == "report" && command[1] == "run-1" && r.code != 0 {
			t.Fatalf("nothing is reported of the update: %s\n%s", r, f.run(t, "update", pkg, "--lose-edits", "--in-doubt", "keep"))
		}
		if command[0] == "report" && len(command) == 4 && strings.ContainsAny(strings.NewReplacer(`\<`, "", `\!`, "").Replace(r.stdout), "<") {
			t.Errorf("a tag in Markdown:\n%s", r.stdout)
		}
	}
	f.run(t, "examine", named).want(t, 3, "cannot be used")
	page, err := os.ReadFile(filepath.Join(f.care, "runs/run-1/report.html"))
	must(t, err)
	result{stdout: string(page)}.shows(t, "report.html")
}

func TestNothingHostileReachesAColouredTerminal(t *testing.T) {
	f := adopted(t)
	must(t, os.WriteFile(filepath.Join(f.root, "plugins/tidetable", strings.ReplaceAll(hostileText, "/", "")), []byte("x"), 0o644))
	for _, arguments := range [][]string{{"survey"}, {"examine", f.pkg("tidetable-2.0.0")}, {"update", hostileText}} {
		command := wetlandCommand(t, arguments...)
		command.Dir = f.care
		terminal := testenv.OnTerminal(t, command)
		_, shown := terminal.Wait()
		// What a progress bar writes: back to the line's begin, and to its end without what was there.
		shown = strings.NewReplacer("\r\n", "\n", "\r", "", "\x1b[2K", "", "\x1b[K", "", "\x1b[?25l", "", "\x1b[?25h", "").Replace(ownColour.ReplaceAllString(shown, ""))
		result{stdout: shown}.shows(t, strings.Join(arguments[:1], " "))
	}
}
