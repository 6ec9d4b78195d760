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
		wetland(t, care, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0, "files are moved by SFTP", "exchange not offered", "answers in", "reading 1,000 small files takes")
		wetland(t, care, "snapshot").want(t, 0)
		good := newTheme(t, site, ".1", map[string]string{"assets/css/new.css": "p { margin: 0 }\n"})
		asked := func(accepted bool, args ...string) result {
			account.FilesAlone = accepted // then commands accept the gap
			return wetland(t, care, args...)
		}
		before := tree(t, site.Root, caches...)
		for _, args := range [][]string{{"update", good, "--plan"}, {"examine", good}} {
			asked(true, args...).want(t, map[string]int{"update": 0, "examine": 4}[args[0]], "its machine", "files are moved by SFTP", "Ask your host for a full shell")
		}
		asked(false, "update", good).want(t, 2, "missing for an instant", "--allow-gap")
		same(t, before, tree(t, site.Root, caches...))
		asked(true, "update", good).want(t, 0, "Kept.", "by two renames: the folder was absent for")
		equalToPackage(t, good, "twentytwentyone", tree(t, site.Root+"/wp-content/themes/twentytwentyone"))
		nothingLeft(t, site.Root)
		next := newTheme(t, site, ".2", map[string]string{"assets/css/new.css": "p { margin: 1px }\n"})
		asked(true, "update", next, "--plan").want(t, 0, "missing for an instant", "last time it was", "the last update took")
		site.Write(t, "wp-content/themes/twentytwentyone/assets/new.css", "p { margin: 0 }\n")
		before = tree(t, site.Root, caches...)
		asked(false, "restore", "snap-1", "--yes").want(t, 2, "missing for an instant", "--allow-gap")
		same(t, before, tree(t, site.Root, caches...))
	})
	t.Run("no connections", func(t *testing.T) {
		reachBySSH(t, testenv.StartFilesAccount(t, unconnected...))
		site := testenv.WordPress(t)
		care := t.TempDir()
		wetland(t, care, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 4, "forbids connections by way of it", "tables can be neither kept nor put back")
		before := tree(t, site.Root, caches...)
		good := newTheme(t, site, ".1", map[string]string{"assets/css/new.css": "p { margin: 0 }\n"})
		wetland(t, care, "update", good).want(t, 2, "forbids connections by way of it", "--without-database")
		wetland(t, care, "snapshot").want(t, 2, "--without-database")
		same(t, before, tree(t, site.Root, caches...))
		wetland(t, care, "snapshot", "--without-database").want(t, 0, "0 tables", "its tables are not in it")
		wetland(t, care, "update", good, "--without-database", "--rehearse").want(t, 2, "without them the pages of a copy would show nothing")
		wetland(t, care, "verify", "snap-1", "--bring-up").want(t, 2, "without them the pages of a copy would show nothing")
		wetland(t, care, "survey").want(t, 4, "not known", "what is active")
		bad := newTheme(t, site, ".2", map[string]string{"functions.php": "<?php\nthis_is_not_there();\n"})
		wetland(t, care, "update", bad, "--without-database").want(t, 3, "files and pages are as before", "The database was not in Wetland's hands")
		same(t, before, tree(t, site.Root, caches...))
		wetland(t, care, "update", good, "--without-database").want(t, 4, "with doubts", "The database was not in Wetland's hands")
		equalToPackage(t, good, "twentytwentyone", tree(t, site.Root+"/wp-content/themes/twentytwentyone"))
		wetland(t, care, "restore", "snap-1", "--yes").want(t, 0, "they stay as they are")
		same(t, before, tree(t, site.Root, caches...))
		nothingLeft(t, site.Root)
	})
	t.Run("tables in a file", func(t *testing.T) {
		reachBySSH(t, testenv.StartFilesAccount(t))
		f := layOut(t)
		f.run(t, "adopt", f.root, "--address", f.address, "--no-browser").want(t, 4, "only a program on its machine can open", "tables can be neither kept nor put back")
		f.run(t, "update", f.pkg("harbourlight-2.5.2"), "--without-database", "--plan").want(t, 0, "the tables are not in Wetland's hands")
		f.run(t, "update", f.pkg("harbourlight-2.5.2"), "--without-database").want(t, 4, "wetland restore snap-1", "brings the files back")
		f.run(t, "restore", "harbourlight@2.4.1").want(t, 2, "--without-database")
		f.run(t, "restore", "harbourlight@2.4.1", "--without-database").want(t, 4, "Harbourlight 2.4.1 is in place")
	})
}
