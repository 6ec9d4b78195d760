package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/internal/testenv"
)

// rounds is how many of a long row of trials are made: all of them in the long run.
func rounds(few, all int) int {
	if os.Getenv("WETLAND_TORTURE") != "" {
		return all
	}
	return few
}

// snapshots lists the snapshots that count.
func (f *ferry) snapshots(t *testing.T) []string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(f.care, "store/snapshots/*.manifest"))
	must(t, err)
	for i := range found {
		found[i] = strings.TrimSuffix(filepath.Base(found[i]), ".manifest")
	}
	return found
}

// twoStates takes snap-1 and snap-2 of two states of the site, pinned, and lets tidy
// take everything else.
func twoStates(t *testing.T) (f *ferry, states [2]files.Tree) {
	t.Helper()
	f = adopted(t)
	data := make([]byte, 3<<20)
	_, _ = rand.NewChaCha8([32]byte{5}).Read(data) // never fails, by its contract
	for i := range 12 {
		must(t, os.WriteFile(filepath.Join(f.root, fmt.Sprintf("uploads/%d.bin", i)), data[i<<18:(i+1)<<18], 0o644))
	}
	for _, name := range []string{"all_for_days = 14", "one_a_day_for_days = 60", "one_a_week_for_weeks = 26", "one_a_month_for_months = 24"} {
		key, _, _ := strings.Cut(name, " =")
		f.edit(t, f.config(), name, key+" = 0")
	}
	f.run(t, "snapshot", "--pin").want(t, 0)
	states[0] = f.siteTree(t)
	must(t, os.RemoveAll(filepath.Join(f.root, "uploads/3.bin")), os.WriteFile(filepath.Join(f.root, "uploads/4.bin"), data[77:1<<20], 0o600),
		os.WriteFile(filepath.Join(f.root, "themes/harbourlight/extra.css"), []byte("b{}"), 0o644))
	f.exec(t, "UPDATE notices SET title = title || '!'")
	f.run(t, "snapshot", "--pin").want(t, 0)
	states[1] = f.siteTree(t)
	return f, states
}

// Kill -9 at random moments of snapshot, restore and tidy: every snapshot that counts
// is whole, and a restore is settled to what was wanted, or had not begun.
func TestStoreSurvivesKills(t *testing.T) {
	t.Parallel()
	f, states := twoStates(t)
	random := rand.New(rand.NewPCG(3, 14))
	for n := range rounds(12, 200) {
		var args []string
		switch n % 4 {
		case 0:
			must(t, os.WriteFile(filepath.Join(f.root, "uploads/diary.txt"), fmt.Appendf(nil, "%d %x", n, make([]byte, random.IntN(1<<20))), 0o644))
			args = []string{"snapshot"}
		case 1:
			args = []string{"restore", "snap-1", "--yes"}
		case 2:
			args = []string{"restore", "snap-2", "--yes"}
		case 3:
			args = []string{"tidy", "--yes"}
		}
		command, wait := f.start(t, args...)
		time.Sleep(time.Duration(random.IntN(400)) * time.Millisecond)
		signalAll(command, syscall.SIGKILL)
		wait()
		if r := f.run(t, "recover"); r.code != 0 && r.code != 4 && !strings.Contains(r.stdout+r.err, "nothing to recover") {
			t.Fatalf("round %d, %v: %s", n, args, r)
		}
		for _, name := range f.snapshots(t) {
			if r := f.run(t, "verify", name); r.code != 0 {
				t.Fatalf("round %d, %v: %s", n, args, r)
			}
		}
		if len(f.snapshots(t)) < 2 {
			t.Fatalf("round %d: the pinned snapshots are gone", n)
		}
		if n%4 == 1 || n%4 == 2 {
			now := f.siteTree(t)
			if len(files.Exact.Compare(states[0], now)) > 0 && len(files.Exact.Compare(states[1], now)) > 0 && !strings.Contains(fmt.Sprint(now), "diary.txt") {
				t.Fatalf("round %d: the site is in neither state", n)
			}
		}
		nothingLeft(t, f.root)
	}
	f.run(t, "restore", "snap-1", "--yes").want(t, 0)
	same(t, states[0], f.siteTree(t))
	f.run(t, "tidy", "--yes").want(t, 0)
	if left, err := filepath.Glob(filepath.Join(f.care, "store/*/*.part")); err != nil || len(left) > 0 {
		t.Errorf("left: %v %v", left, err)
	}
}

// Both at once: snapshots by several processes do not disturb each other or a tidy.
func TestStoreIsUsedByManyAtOnce(t *testing.T) {
	f, _ := twoStates(t)
	other := t.TempDir()
	text, err := os.ReadFile(f.config())
	must(t, err)
	must(t, os.WriteFile(filepath.Join(other, "wetland.toml"), text, 0o600), os.Symlink(filepath.Join(f.care, "store"), filepath.Join(other, "store")))
	for range rounds(2, 20) {
		first, waitFirst := f.start(t, "verify", "snap-1")
		second, waitSecond := f.start(t, "tidy", "--yes")
		f.run(t, "snapshot").want(t, 0)
		wetland(t, other, "snapshot").want(t, 0)
		waitFirst()
		waitSecond()
		if first.ProcessState.ExitCode() != 0 || second.ProcessState.ExitCode() != 0 {
			t.Fatalf("verify ended with %d, tidy with %d", first.ProcessState.ExitCode(), second.ProcessState.ExitCode())
		}
	}
	for _, name := range f.snapshots(t) {
		f.run(t, "verify", name).want(t, 0)
	}
}

// The disk of the workspace is full at one of many moments: what counted before still
// does, and with room again all goes on.
func TestStoreOnAFullDisk(t *testing.T) {
	if os.Getenv("WETLAND_TORTURE") == "" {
		t.Skip("only in the long run: it mounts a small disk; core/snapshot fills a disk at other moments")
	}
	f := adopted(t)
	for _, name := range []string{"all_for_days = 14", "one_a_day_for_days = 60", "one_a_week_for_weeks = 26", "one_a_month_for_months = 24"} {
		key, _, _ := strings.Cut(name, " =")
		f.edit(t, f.config(), name, key+" = 0")
	}
	small := filepath.Join(f.care, "store")
	must(t, os.MkdirAll(small, 0o700))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=8m,mode=0700", "tmpfs", small).CombinedOutput(); err != nil {
		testenv.Missing(t, "the right to mount a tmpfs ("+string(out)+")")
	}
	defer exec.Command("umount", small).Run()
	f.run(t, "snapshot", "--pin").want(t, 0)
	data := make([]byte, 512<<10)
	refused := 0
	for n := range 20 {
		_, _ = rand.NewChaCha8([32]byte{byte(n)}).Read(data) // never fails, by its contract
		must(t, os.WriteFile(filepath.Join(f.root, "uploads/large.bin"), data, 0o644))
		filler := filepath.Join(f.care, "store/volumes/filler")
		free, err := files.FreeSpace(t.Context(), filestest.Whole(t), small)
		must(t, err)
		must(t, os.WriteFile(filler, make([]byte, max(0, int(free)-n*36<<10)), 0o600))
		r := f.run(t, "update", f.pkg("enquiries-1.2.0"), "--allow-same")
		must(t, os.Remove(filler))
		switch r.code {
		case 0:
		case 1:
			refused++
		default:
			t.Fatalf("round %d: %s", n, r)
		}
		for _, name := range f.snapshots(t) {
			f.run(t, "verify", name).want(t, 0)
		}
		f.run(t, "restore", "snap-1", "--yes").want(t, 0)
		f.run(t, "tidy", "--yes").want(t, 0)
	}
	if refused < 8 {
		t.Errorf("the disk was full in %d rounds only", refused)
	}
}
