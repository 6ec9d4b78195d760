package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/internal/testenv"
)

// victim is a site on which commands are killed.
type victim struct {
	workspace string
	folders   []string                // of the components, absolute
	whole     map[string][]files.Tree // the trees that each may be
	kills     map[string]int          // by command and step of the journal
}

// journal returns the newest run's entries.
func (v *victim) journal() (steps []string) {
	runs, err := filepath.Glob(filepath.Join(v.workspace, "runs/run-*/journal.jsonl"))
	if err != nil || len(runs) == 0 {
		return nil
	}
	sort.Slice(runs, func(i, j int) bool {
		return len(runs[i]) < len(runs[j]) || (len(runs[i]) == len(runs[j]) && runs[i] < runs[j])
	})
	text, err := os.ReadFile(runs[len(runs)-1])
	if err != nil {
		return nil
	}
	for line := range bytes.SplitSeq(bytes.TrimSpace(text), []byte("\n")) {
		var entry struct{ Step string }
		if json.Unmarshal(line, &entry) == nil {
			steps = append(steps, entry.Step)
		}
	}
	return steps
}

// The processes of a command that are killed.
const (
	both   = "both"
	child  = "child"  // which does the work
	parent = "parent" // which watches it
)

// killAt runs a command and kills one of its processes, or both, a moment after its journal has so
// many entries more than there are. It tells whether it came to that, and how the command ended.
func (v *victim) killAt(t *testing.T, who string, entries int, moment time.Duration, args ...string) (r result, came bool) {
	t.Helper()
	runs, _ := filepath.Glob(filepath.Join(v.workspace, "runs/run-*"))
	begun := 0
	if args[0] == "recover" {
		begun = len(v.journal())
	}
	var out, errs bytes.Buffer
	command := wetlandCommand(t, args...)
	command.Dir, command.Stdout, command.Stderr = v.workspace, &out, &errs
	inGroup(command)
	must(t, command.Start())
	ended := make(chan error, 1)
	go func() { ended <- command.Wait() }()
	said := func() result { return result{command.ProcessState.ExitCode(), out.String(), errs.String()} }
	for {
		select {
		case <-ended:
			return said(), false
		case <-time.After(200 * time.Microsecond):
		}
		now, _ := filepath.Glob(filepath.Join(v.workspace, "runs/run-*"))
		steps := v.journal()
		if args[0] != "recover" && len(now) == len(runs) || len(steps) < begun+entries {
			continue
		}
		time.Sleep(moment)
		works := childOf(command)
		switch {
		case works == 0:
			continue // it has just ended
		case who == both:
			signalAll(command, syscall.SIGKILL)
		case who == parent:
			must(t, command.Process.Kill())
		case syscall.Kill(works, syscall.SIGKILL) != nil:
			continue
		}
		until(t, "the end of the child", func() bool { return errors.Is(syscall.Kill(works, 0), syscall.ESRCH) })
		<-ended
		v.kills[args[0]+", "+steps[len(steps)-1]]++
		return said(), true
	}
}

// wantWhole fails unless each component is wholly one version.
func (v *victim) wantWhole(t *testing.T) {
	t.Helper()
	for _, folder := range v.folders {
		now, matches := tree(t, folder), false
		for _, one := range v.whole[folder] {
			matches = matches || len(files.Content.Compare(one, now)) == 0
		}
		if !matches {
			t.Fatalf("%s is a mixture of versions", folder)
		}
	}
}

func (v *victim) run(t *testing.T, args ...string) result {
	t.Helper()
	return wetland(t, v.workspace, args...)
}

// torment kills updates at each entry of their journal and some moments later, settles
// each, now and then with a recover that is killed, too, and puts everything back.
func (v *victim) torment(t *testing.T, random *rand.Rand, each int, root string, updates ...[]string) {
	first := true
	for _, update := range updates {
		for entries := 1 + random.IntN(each); ; entries += each {
			if _, came := v.killAt(t, both, entries, time.Duration(random.IntN(30))*time.Millisecond, update...); !came {
				if first {
					t.Fatalf("%q ended before it was killed", update)
				}
				break
			}
			first = false
			v.wantWhole(t)
			if entries%2 == 0 {
				v.killAt(t, both, 1+random.IntN(3), 0, "recover")
				v.wantWhole(t)
			}
			settled := v.run(t, "recover")
			if settled.code != 0 {
				t.Fatalf("after %d entries of %q: recover: %s", entries, update, settled)
			}
			v.wantWhole(t)
			nothingLeft(t, root)
			v.run(t, "smoke").want(t, 0, "Sound.")
			v.run(t, "verify", "snap-1").want(t, 0)
			v.run(t, "restore", "snap-1", "--yes").want(t, 0)
		}
		v.run(t, "restore", "snap-1", "--yes").want(t, 0)
	}
	var names []string
	total := 0
	for name, n := range v.kills {
		names, total = append(names, fmt.Sprintf("%s %d", name, n)), total+n
	}
	sort.Strings(names)
	t.Logf("%d kills: %s", total, strings.Join(names, "; "))
}

func newVictim(t *testing.T, workspace string, folders []string, versions ...map[string]files.Tree) *victim {
	v := &victim{workspace: workspace, folders: folders, whole: map[string][]files.Tree{}, kills: map[string]int{}}
	for _, folder := range folders {
		v.whole[folder] = append(v.whole[folder], tree(t, folder))
		for _, version := range versions {
			if other, ok := version[folder]; ok {
				v.whole[folder] = append(v.whole[folder], other)
			}
		}
	}
	wetland(t, workspace, "snapshot").want(t, 0)
	return v
}

// sampled is the distance between the entries at which a command is killed.
func sampled(each int) int {
	if os.Getenv("WETLAND_TORTURE") != "" {
		return 1
	}
	return each
}

func TestKilledAtEachStepOnRowlock(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	theme, plugin := filepath.Join(f.root, "themes/harbourlight"), filepath.Join(f.root, "plugins/enquiries")
	v := newVictim(t, f.care, []string{theme, plugin},
		map[string]files.Tree{theme: packageTree(t, "harbourlight-2.5.2"), plugin: packageTree(t, "enquiries-1.2.0")},
		map[string]files.Tree{theme: packageTree(t, "harbourlight-2.5.0")})
	v.torment(t, rand.New(rand.NewPCG(3, 5)), sampled(8), f.root,
		[]string{"update", f.pkg("enquiries-1.2.0"), f.pkg("harbourlight-2.5.2")},
		[]string{"update", f.pkg("enquiries-1.2.0"), f.pkg("harbourlight-2.5.0"), "--search", "yes"},
		[]string{"update", f.pkg("enquiries-1.2.0"), f.pkg("harbourlight-2.5.0"), "--one-by-one"})
}

func TestKilledAtEachStepOnWordPress(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	workspace := care(t, site)
	edit(t, filepath.Join(workspace, "wetland.toml"), `cms = "wordpress"`, "cms = \"wordpress\"\nphp_pool = \"by request\"")
	onlyPages(t, workspace, "/", "/?p=8")
	theme := filepath.Join(site.Root, "wp-content/themes/twentytwentyone")
	unpack := func(archive string) map[string]files.Tree {
		folder := t.TempDir()
		unzip(t, archive, folder)
		return map[string]files.Tree{theme: tree(t, filepath.Join(folder, "twentytwentyone"))}
	}
	good := themePackage(t, site, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
	bad := themePackage(t, site, "1.8", map[string]string{"single.php": brokenSingle})
	v := newVictim(t, workspace, []string{theme}, unpack(good), unpack(bad))
	v.torment(t, rand.New(rand.NewPCG(3, 6)), sampled(12), site.Root, []string{"update", good}, []string{"update", bad})
}
