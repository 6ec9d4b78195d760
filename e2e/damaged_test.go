package e2e

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// rests says which commands rest on a file of a workspace, by the beginning of its path: these alone may fail when it
// is damaged. The first that fits counts.
var rests = []struct{ file, commands string }{
	{"wetland.toml", "history verify shelf smoke snapshot examine update"},
	{"store/wetland-store-name", ""},
	{"store/wetland-store", "history verify smoke snapshot examine update"},
	{"store/snapshots/snap-1.", "verify"},
	{"store/volumes/", "verify"},
	{"runs/run-2/run.json", "history smoke snapshot examine update"}, // the newest tells whether anything is unsettled
	{"baseline.json", "smoke"},
	{"", ""},
}

// A damaged file of ours stops what needs it, and nothing else. Nothing ends with a trace of the program's own.
func TestDamagedFilesOfAWorkspace(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	f.run(t, "snapshot").want(t, 0)
	f.run(t, "update", f.pkg("harbourlight-2.5.0")).want(t, 3)
	f.run(t, "update", f.pkg("enquiries-1.2.0")).want(t, 0)
	commands := map[string][]string{
		"history": {"history"}, "verify": {"verify", "snap-1"}, "shelf": {"shelf"}, "smoke": {"smoke"},
		"snapshot": {"snapshot"},
		"examine":  {"examine", f.pkg("harbourlight-2.5.2")}, "update": {"update", f.pkg("harbourlight-2.5.2"), "--plan"},
	}
	codes := map[string]int{}
	for name, args := range commands {
		codes[name] = f.run(t, args...).code
	}
	var names []string
	err := filepath.WalkDir(f.care, func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			rel, err := filepath.Rel(f.care, name)
			names = append(names, rel)
			return err
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(39, 7))
	distance := sampled(max(1, 3*len(names)/15))
	for n := range 3 * len(names) {
		if n%distance != 0 {
			continue
		}
		name, how := names[n/3], []string{"a bit", "cut", "gone"}[n%3]
		t.Run(strings.ReplaceAll(name, "/", "|")+" "+how, func(t *testing.T) {
			care := filepath.Join(t.TempDir(), "care")
			if out, err := exec.Command("cp", "-a", f.care, care).CombinedOutput(); err != nil {
				t.Fatalf("%v %s", err, out)
			}
			damageFile(t, random, filepath.Join(care, name), how)
			allowed := ""
			for _, one := range rests {
				if strings.HasPrefix(name, one.file) {
					allowed = one.commands
					break
				}
			}
			for command, args := range commands {
				result := wetland(t, care, args...)
				if text := result.String(); strings.Contains(text, "goroutine ") || strings.Contains(text, "panic:") {
					t.Errorf("%s:\n%s", command, text)
				}
				if result.code != codes[command] && !strings.Contains(allowed, command) {
					t.Errorf("%s ends with %d, not %d:\n%s", command, result.code, codes[command], result)
				}
			}
		})
	}
}

func damageFile(t *testing.T, random *rand.Rand, name, how string) {
	t.Helper()
	text, err := os.ReadFile(name)
	switch {
	case err != nil:
	case how == "gone":
		err = os.Remove(name)
	case len(text) == 0:
		err = os.WriteFile(name, []byte("x"), 0o600)
	case how == "cut":
		err = os.WriteFile(name, text[:random.IntN(len(text))], 0o600)
	default:
		text[random.IntN(len(text))] ^= 1 << random.IntN(8)
		err = os.WriteFile(name, text, 0o600)
	}
	if err != nil {
		t.Fatal(fmt.Errorf("damage %s: %w", name, err))
	}
}
