package testenv

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"wetland/demo/sshd"
)

// SSHServer is OpenSSH's server, on a loopback port. The account that it lets in is the one that runs
// the tests.
type SSHServer struct{ *sshd.Server }

func needSSH(t testing.TB) {
	t.Helper()
	if _, err := os.Stat(sshd.Program); err != nil {
		Missing(t, "OpenSSH's server")
	}
}

// StartSSH starts a server until the test ends, with more lines of its settings.
func StartSSH(t testing.TB, more ...string) *SSHServer {
	t.Helper()
	needSSH(t)
	s, err := sshd.Start(t.Context(), t.TempDir(), more...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return &SSHServer{s}
}

// Allow lets a key in, by the file of its secret half.
func (s *SSHServer) Allow(t testing.TB, key string) {
	t.Helper()
	if err := s.Server.Allow(key); err != nil {
		t.Fatal(err)
	}
}

// KnownLine is the server's line in a file of known hosts.
func (s *SSHServer) KnownLine(t testing.TB) string {
	t.Helper()
	public, err := s.PublicKey()
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf("[127.0.0.1]:%d %s", s.Port, public)
}

// MakeSSHKey makes a key in a folder and returns its file.
func MakeSSHKey(t testing.TB, dir, name, passphrase string) string {
	t.Helper()
	file := filepath.Join(dir, name)
	if err := sshd.MakeKey(file, passphrase); err != nil {
		t.Fatal(err)
	}
	return file
}

var sshAccount struct {
	sync.Mutex
	*sshd.Account
}

// OwnSSHAccount is the account that runs the tests, by way of one server for all tests of a package.
func OwnSSHAccount(t testing.TB) *sshd.Account {
	t.Helper()
	sshAccount.Lock()
	defer sshAccount.Unlock()
	if sshAccount.Account == nil {
		account, stop := startSSHAccount(t)
		running.Lock()
		running.stops = append(running.stops, stop)
		running.Unlock()
		sshAccount.Account = account
	}
	return sshAccount.Account
}

// StartSSHAccount is that account by way of a server of the test's own.
func StartSSHAccount(t testing.TB) *sshd.Account {
	t.Helper()
	account, stop := startSSHAccount(t)
	t.Cleanup(stop)
	return account
}

// StartFilesAccount is that account by way of a server of the test's own that lets files be moved, and no program
// be run, with more lines of its settings.
func StartFilesAccount(t testing.TB, more ...string) *sshd.Account {
	t.Helper()
	account, stop := startSSHAccount(t, append([]string{"ForceCommand internal-sftp"}, more...)...)
	t.Cleanup(stop)
	account.FilesAlone = true
	return account
}

// StartJailedAccount is such an account that is shut into a folder: what it calls / is that.
func StartJailedAccount(t testing.TB, more ...string) *sshd.Account {
	t.Helper()
	if os.Getuid() != 0 {
		Missing(t, "root, who alone can shut accounts into a folder")
	}
	jail, err := os.MkdirTemp("/var/lib", "wetland-jail-") // all folders on the way must be root's alone
	if err == nil {
		t.Cleanup(func() { _ = os.RemoveAll(jail) })
		err = os.Chmod(jail, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	account := StartFilesAccount(t, append([]string{"ChrootDirectory " + jail}, more...)...)
	account.Jail = jail
	return account
}

func startSSHAccount(t testing.TB, more ...string) (account *sshd.Account, stop func()) {
	t.Helper()
	needSSH(t)
	dir, err := os.MkdirTemp("", "wetland-ssh-*")
	if err != nil {
		t.Fatal(err)
	}
	account, err = sshd.StartAccount(t.Context(), dir, more...)
	if err != nil {
		_ = os.RemoveAll(dir)
		t.Fatal(err)
	}
	return account, func() {
		account.Stop()
		_ = os.RemoveAll(dir)
	}
}

// SSHKeygen runs OpenSSH's program for keys, and returns what it prints.
func SSHKeygen(t testing.TB, args ...string) string {
	t.Helper()
	program, err := exec.LookPath("ssh-keygen")
	if err != nil {
		Missing(t, "ssh-keygen")
	}
	var said bytes.Buffer
	command := exec.Command(program, args...)
	command.Stdout, command.Stderr = &said, &said
	if err := command.Run(); err != nil {
		t.Fatalf("ssh-keygen %s: %v\n%s", strings.Join(args, " "), err, said.String())
	}
	return said.String()
}
