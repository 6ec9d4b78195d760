package e2e

import (
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// A site that was moved is the same one: it is told, followed by one command, and its snapshots
// can be restored where it is now. Another site is not taken for it.
func TestMovedSite(t *testing.T) {
	f := adopted(t)
	f.run(t, "snapshot").want(t, 0)
	before := f.siteTree(t)
	root := filepath.Join(t.TempDir(), "moved here")
	must(t, os.CopyFS(root, os.DirFS(f.root)))
	address := testenv.ServeFerry(t, root)
	must(t, os.Rename(f.root, f.root+"-gone"))
	f.run(t, "survey").want(t, 1, "If the site was moved: wetland moved NEW-ROOT")

	other := layOut(t)
	must(t, os.RemoveAll(filepath.Join(other.root, "themes/harbourlight")), os.RemoveAll(filepath.Join(other.root, "uploads")), os.Mkdir(filepath.Join(other.root, "uploads"), 0o755), os.RemoveAll(filepath.Join(other.root, "plugins/tidetable")))
	other.exec(t, "DROP TABLE notices; DROP TABLE sailings; DROP TABLE enquiries; DROP TABLE menu")
	f.run(t, "moved", other.root, "--address", other.address).want(t, 2, "does not seem to be the site of snap-1", "of its 8 tables are there", "--sure")

	f.run(t, "moved", root, "--address", address).want(t, 0, "Followed.", "It is the site of snap-1", "files that were looked at are there", "8 of its 8 tables are there")
	text, err := os.ReadFile(f.config())
	if err != nil || !strings.Contains(string(text), "# the folder that the web server hands out") || !strings.Contains(string(text), path.Base(filepath.Dir(root))+"/moved") {
		t.Errorf("%v\n%s", err, text)
	}
	edit(t, filepath.Join(root, "themes/harbourlight/page.html"), "{{.Title}}", "{{.Title}}!")
	f.root, f.address = root, address
	f.run(t, "restore", "snap-1", "--yes", "--only", "harbourlight").want(t, 0, "Restored.")
	must(t, os.Remove(filepath.Join(root, "uploads/map.svg")))
	f.run(t, "restore", "snap-1", "--yes").want(t, 0, "Restored.", "equal to snap-1")
	same(t, before, f.siteTree(t))
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "Kept.")
	f.run(t, "restore", "snap-1", "--yes").want(t, 0, "Restored.")
}

// A root that was changed by hand is told, and its snapshots are taken for the same site's,
// because what it holds says so; those of another site are not.
func TestRootChangedByHand(t *testing.T) {
	f := adopted(t)
	f.run(t, "snapshot").want(t, 0)
	root := filepath.Join(t.TempDir(), "www")
	must(t, os.CopyFS(root, os.DirFS(f.root)))
	address := testenv.ServeFerry(t, root)
	f.edit(t, f.config(), f.root, root)
	f.edit(t, f.config(), f.address, address)
	must(t, os.Remove(filepath.Join(root, "uploads/map.svg")))
	f.run(t, "restore", "snap-1", "--yes").want(t, 0, "moved", "This is the same site", "Restored.")

	other := layOut(t)
	must(t, os.RemoveAll(filepath.Join(other.root, "themes/harbourlight")), os.RemoveAll(filepath.Join(other.root, "uploads")), os.RemoveAll(filepath.Join(other.root, "plugins/tidetable")))
	other.exec(t, "DROP TABLE notices; DROP TABLE sailings; DROP TABLE enquiries; DROP TABLE menu")
	f.edit(t, f.config(), root, other.root)
	f.edit(t, f.config(), address, other.address)
	f.run(t, "restore", "snap-1", "--yes").want(t, 2, "does not seem to be the same one", "wetland moved")
}
