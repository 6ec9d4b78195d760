package e2e

import (
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"testing"

	"wetland/internal/testenv"
)

// Whoever may merely read the site cannot keep it locked; and while somebody tries, two runs still
// exclude each other, from two workspaces, too.
func TestReaderCannotHoldTheLock(t *testing.T) {
	if os.Geteuid() != 0 {
		testenv.Missing(t, "the rights of root")
	}
	f, g := gated(t)
	for folder := filepath.Dir(f.root); folder != "/tmp" && folder != "/"; folder = filepath.Dir(folder) {
		must(t, os.Chmod(folder, 0o755)) // so that others get there
	}
	reader := exec.Command("flock", f.root, "sh", "-c", "echo held; exec sleep 600")
	asOrdinaryUser(reader)
	said, err := reader.StdoutPipe()
	must(t, err)
	must(t, reader.Start())
	defer func() { _ = reader.Process.Kill(); _ = reader.Wait() }()
	word := make([]byte, 5)
	_, err = said.Read(word)
	must(t, err)
	f.run(t, "snapshot").want(t, 0)
	plugins := filepath.Join(f.root, "plugins")
	must(t, os.Chmod(plugins, 0o777)) // who may write there counts
	f.run(t, "snapshot").want(t, 2, "another run works on this site")
	must(t, os.Chmod(plugins, 0o755))

	text, err := os.ReadFile(f.config())
	must(t, err)
	other := t.TempDir()
	must(t, os.WriteFile(filepath.Join(other, "wetland.toml"), text, 0o600))
	_, _ = updateHeld(t, f, g)
	wetland(t, other, "update", f.pkg("enquiries-1.2.0")).want(t, 2, "another run works on this site")
}

// Where the web server's user may write what the workspace lies in, adopting warns.
func TestAdoptWarnsOfTheWebUser(t *testing.T) {
	onlyHere(t)
	account, err := user.Lookup("www-data")
	if err != nil || os.Geteuid() != 0 {
		testenv.Missing(t, "the rights of root, and www-data")
	}
	owner, err := strconv.Atoi(account.Uid)
	must(t, err)
	f := layOut(t)
	must(t, os.Chown(filepath.Dir(f.care), owner, -1))
	f.run(t, "adopt", f.root, "--address", f.address, "--no-browser").want(t, 4, "www-data, as which the web server runs, may write "+filepath.Dir(f.care), "Choose a folder for the workspace elsewhere")
}
