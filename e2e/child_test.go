package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"wetland/core/files"
)

// Whatever ends the process that works on the site, the other one puts back what was before, and
// the exit code is true: not the 2 of a Go program that breaks off, which here means that nothing
// was touched.
func TestChildThatDiesIsRecovered(t *testing.T) {
	for name, signal := range map[string]syscall.Signal{"killed": syscall.SIGKILL, "by a defect, with Go's exit code": syscall.SIGQUIT, "by a defect of memory": syscall.SIGSEGV} {
		t.Run(name, func(t *testing.T) {
			f, g := gated(t)
			before := f.siteTree(t)
			command, wait := updateHeld(t, f, g)
			g.open()
			killChild(t, command, signal)
			wait().want(t, 3, "Wetland broke off.", "run-1 is not settled", "Put back.", "Version 2.4.1 is back, and proved")
			same(t, before, f.siteTree(t))
			nothingLeft(t, f.root)
			f.run(t, "recover").want(t, 0, "there is nothing to recover")
		})
	}
}

func TestChildThatDiesBeforeTheSwap(t *testing.T) {
	f, g := gated(t)
	before := f.siteTree(t)
	command, wait := updateHeldBefore(t, f, g, "--json")
	killChild(t, command, syscall.SIGKILL)
	g.open()
	var document struct {
		Exit  int    `json:"exit_code"`
		State string `json:"state"`
		Error string `json:"error"`
	}
	wait().want(t, 1, "Wetland broke off.").decode(t, &document)
	if document.Exit != 1 || document.State != "stopped" && document.Error == "" {
		t.Errorf("%+v", document)
	}
	same(t, before, f.siteTree(t))
	nothingLeft(t, f.root)
}

// Where the watching process is gone, the other one puts back what was before, since nobody would
// see how it ends.
func TestParentThatDies(t *testing.T) {
	f, g := gated(t)
	before := f.siteTree(t)
	command, wait := updateHeld(t, f, g)
	g.open()
	works := childOf(command)
	if works == 0 {
		t.Fatal("it has no child")
	}
	must(t, command.Process.Kill())
	_ = wait
	until(t, "the end of the child", func() bool { return errors.Is(syscall.Kill(works, 0), syscall.ESRCH) })
	same(t, before, f.siteTree(t))
	nothingLeft(t, f.root)
	f.run(t, "recover").want(t, 0, "there is nothing to recover")
	f.run(t, "history").want(t, 0, "put back")
}

// A terminal sends a signal to all processes of a command: that is one Ctrl-C, not two.
func TestSignalToTheGroupArrivesOnce(t *testing.T) {
	for _, signal := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP} {
		f, g := gated(t)
		before := f.siteTree(t)
		command, wait := updateHeld(t, f, g)
		g.open()
		signalAll(command, signal)
		wait().want(t, 3, "Stopping.", "Put back.")
		same(t, before, f.siteTree(t))
	}
}

// Neither the pipes of a child nor the secrets of its environment reach what it starts; and they
// make no child of anything else.
func TestChildsPipesAreItsOwn(t *testing.T) {
	f := adopted(t)
	said := filepath.Join(t.TempDir(), "environment")
	config, err := os.ReadFile(f.config())
	must(t, err)
	must(t, os.WriteFile(f.config(), fmt.Appendf(config, "\n[hooks]\nbefore = \"env > %s; ls -l /proc/self/fd >> %[1]s\"\n", said), 0o600))
	t.Setenv("FERRY_PASSWORD", "a secret")
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0)
	text, err := os.ReadFile(said)
	must(t, err)
	if strings.Contains(string(text), "WETLAND_CHILD") || strings.Contains(string(text), " 3 -> pipe") || strings.Contains(string(text), "a secret") || !strings.Contains(string(text), "WETLAND_RUN=run-1") {
		t.Errorf("a hook was given\n%s", text)
	}
	command := wetlandCommand(t, "smoke")
	command.Env = append(command.Environ(), "WETLAND_CHILD_PIPES=3,4")
	finish(t, command, f.care).want(t, 1, "is not for you to set")
}

// A kill of the child, of its parent or of both, at each entry of the journal: no folder is a
// mixture, an exit code of 0 to 4 is true, and recover settles what is left.
func TestKilledChildOrParent(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	theme := filepath.Join(f.root, "themes/harbourlight")
	v := newVictim(t, f.care, []string{theme}, map[string]files.Tree{theme: packageTree(t, "harbourlight-2.5.2")})
	old, new := v.whole[theme][0], v.whole[theme][1]
	random := rand.New(rand.NewPCG(9, 2))
	each, kills := sampled(7), 0
	for _, who := range []string{child, parent, both} {
		for entries := 1 + random.IntN(each); ; entries += each {
			r, came := v.killAt(t, who, entries, 0, "update", f.pkg("harbourlight-2.5.2"), "--json")
			if !came {
				break
			}
			kills++
			v.wantWhole(t)
			now := tree(t, theme)
			isOld, isNew := len(files.Content.Compare(old, now)) == 0, len(files.Content.Compare(new, now)) == 0
			if who == child {
				var document struct {
					Exit int `json:"exit_code"`
				}
				must(t, json.Unmarshal([]byte(r.stdout), &document))
				if document.Exit != r.code || r.code == 2 || (r.code == 0) != isNew && r.code < 5 || (r.code == 1 || r.code == 3) && !isOld {
					t.Fatalf("after %d entries: exit code %d (%d), old %v, new %v\n%s", entries, r.code, document.Exit, isOld, isNew, r)
				}
				nothingLeft(t, f.root)
			}
			if settled := v.run(t, "recover"); settled.code != 0 {
				t.Fatalf("after %d entries and the end of %s: recover: %s", entries, who, settled)
			}
			nothingLeft(t, f.root)
			v.run(t, "restore", "snap-1", "--yes").want(t, 0)
		}
		v.run(t, "restore", "snap-1", "--yes").want(t, 0)
	}
	t.Logf("%d kills", kills)
}
