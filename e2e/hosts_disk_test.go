package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"wetland/internal/testenv"
)

// mounted is a small disk of its own; "" where this user may mount none.
func mounted(t *testing.T, options string) string {
	t.Helper()
	dir := t.TempDir()
	if said, err := exec.Command("mount", "-t", "tmpfs", "-o", options, "tmpfs", dir).CombinedOutput(); err != nil {
		t.Logf("no disk can be mounted here: %v %s", err, said)
		return ""
	}
	t.Cleanup(func() {
		if said, err := exec.Command("umount", "--lazy", dir).CombinedOutput(); err != nil {
			t.Errorf("%v %s", err, said)
		}
	})
	return dir
}

// A disk on the site's machine that fills up after an update has begun: the site stays as it was, and
// nothing is left beside it.
func TestDiskOfAHostThatFillsUp(t *testing.T) {
	testenv.TakesLong(t)
	disk := mounted(t, "size=40m")
	if disk == "" {
		t.Skip("no disk can be mounted here")
	}
	reachBySSH(t, testenv.OwnSSHAccount(t))
	dir := t.TempDir()
	f := &ferry{root: filepath.Join(disk, "site"), packages: filepath.Join(dir, "packages"), care: filepath.Join(dir, "care")}
	must(t, os.Mkdir(f.care, 0o755))
	f.address = testenv.Ferry(t, f.root, f.packages)
	f.run(t, "adopt", f.root, "--address", f.address, "--no-browser").want(t, 0)
	settings := filepath.Join(f.care, "wetland.toml")
	text, err := os.ReadFile(settings)
	filler := filepath.Join(disk, "filler")
	must(t, err, os.WriteFile(settings, append(text, "\n[hooks]\nbefore = 'head -c 100000000 /dev/zero > "+filler+" 2>/dev/null; true'\n"...), 0o600))
	before := f.siteTree(t)
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 1, "no space left", "Nothing on the site was changed")
	same(t, before, f.siteTree(t))
	nothingLeft(t, f.root)
	must(t, os.Remove(filler), os.WriteFile(settings, text, 0o600))
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "Kept.")
}
