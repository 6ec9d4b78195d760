package e2e

import (
	"bufio"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A long step gives a sign of life on standard error though nobody sits at a terminal, also
// beside JSON; with --quiet there is none.
func TestSignsOfLifeWithoutATerminal(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		hook  string
		args  []string
		signs bool
	}{
		"text":  {"until [ -e go ]; do sleep 0.1; done", nil, true},
		"json":  {"until [ -e go ]; do sleep 0.1; done", []string{"--json"}, true},
		"quiet": {"sleep 1.5", []string{"--quiet"}, false},
	} {
		t.Run(name, func(t *testing.T) {
			f := adopted(t)
			f.edit(t, f.config(), "[update]", "[hooks]\nbefore = \""+c.hook+"\"\n\n[update]")
			command := wetlandCommand(t, append([]string{"update", f.pkg("harbourlight-2.5.2")}, c.args...)...)
			command.Dir = f.care
			errs, err := command.StderrPipe()
			must(t, err, command.Start())
			told := false
			for lines := bufio.NewScanner(errs); lines.Scan(); {
				if strings.HasPrefix(lines.Text(), "  ..  hook before       under way") {
					told = true
					must(t, os.WriteFile(filepath.Join(f.care, "go"), nil, 0o600))
				}
			}
			rest, _ := io.ReadAll(errs) // closed by now
			if err := command.Wait(); err != nil || told != c.signs || len(rest) > 0 {
				t.Errorf("told %v, %v, %s", told, err, rest)
			}
		})
	}
}
