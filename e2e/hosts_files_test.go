package e2e

import (
	"testing"

	"wetland/internal/testenv"
)

// Where files can be moved alone, what cannot be done is told before anything is touched: a folder would be absent,
// the tables cannot be reached.
func TestFilesAlone(t *testing.T) {
	t.Parallel()
	t.Run("a gap", func(t *testing.T) {
		account := testenv.StartFilesAccount(t)
		reachBySSH(t, account)
		site := testenv.WordPress(t)
		care := t.TempDir()
		wetland(t, care, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0, "files are moved by SFTP", "exchange not offered")
		wetland(t, care, "snapshot").want(t, 0)
		good := newTheme(t, site, ".1", map[string]string{"assets/css/new.css": "p { margin: 0 }\n"})
		asked := func(accepted bool, args ...string) result {
			account.FilesAlone = accepted // then commands accept the gap
			return wetland(t, care, args...)
		}
		before := tree(t, site.Root, caches...)
		asked(false, "update", good).want(t, 2, "missing for an instant", "--allow-gap")
		same(t, before, tree(t, site.Root, caches...))
		asked(true, "update", good).want(t, 0, "Kept.", "by two renames: the folder was absent for")
		equalToPackage(t, good, "twentytwentyone", tree(t, site.Root+"/wp-content/themes/twentytwentyone"))
		nothingLeft(t, site.Root)
		site.Write(t, "wp-content/themes/twentytwentyone/assets/new.css", "p { margin: 0 }\n")
		before = tree(t, site.Root, caches...)
		asked(false, "restore", "snap-1", "--yes").want(t, 2, "missing for an instant", "--allow-gap")
		same(t, before, tree(t, site.Root, caches...))
	})
	t.Run("no connections", func(t *testing.T) {
		reachBySSH(t, testenv.StartFilesAccount(t, "AllowTcpForwarding no", "AllowStreamLocalForwarding no"))
		site := testenv.WordPress(t)
		care := t.TempDir()
		wetland(t, care, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 4, "forbids connections by way of it", "tables can be neither kept nor put back")
		before := tree(t, site.Root, caches...)
		good := newTheme(t, site, ".1", map[string]string{"assets/css/new.css": "p { margin: 0 }\n"})
		wetland(t, care, "update", good).want(t, 2, "forbids connections by way of it")
		same(t, before, tree(t, site.Root, caches...))
	})
	t.Run("tables in a file", func(t *testing.T) {
		reachBySSH(t, testenv.StartFilesAccount(t))
		f := layOut(t)
		f.run(t, "adopt", f.root, "--address", f.address, "--no-browser").want(t, 4, "only a program on its machine can open", "tables can be neither kept nor put back")
	})
}
