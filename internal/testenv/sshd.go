package testenv

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// SSHServer is OpenSSH's server, on a loopback port. The account that it lets in is the one that runs
// the tests.
type SSHServer struct {
	Port       int
	User       string
	HostKey    string // its file; the public half ends in .pub
	Authorized string // the file of keys that it lets in
	log        string
	process    *exec.Cmd
}

const sshdProgram = "/usr/sbin/sshd" // it starts itself again by its whole name

// StartSSH starts a server until the test ends, with more lines of its settings.
func StartSSH(t testing.TB, more ...string) *SSHServer {
	t.Helper()
	if _, err := os.Stat(sshdProgram); err != nil {
		Missing(t, "OpenSSH's server")
	}
	s, err := startSSH(t.TempDir(), more)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s
}

func startSSH(dir string, more []string) (*SSHServer, error) {
	own, err := user.Current()
	if err != nil {
		return nil, err
	}
	if own.Uid == "0" { // where it drops its rights
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			return nil, err
		}
	}
	port, err := FreePort()
	if err != nil {
		return nil, err
	}
	s := &SSHServer{Port: port, User: own.Username, HostKey: filepath.Join(dir, "host"), Authorized: filepath.Join(dir, "authorized"), log: filepath.Join(dir, "log")}
	settings := append([]string{
		fmt.Sprintf("Port %d", port), "ListenAddress 127.0.0.1", "HostKey " + s.HostKey, "AuthorizedKeysFile " + s.Authorized, "PidFile none",
		"UsePAM no", "StrictModes no", "PasswordAuthentication no", "PermitRootLogin prohibit-password", "AllowStreamLocalForwarding yes", "Subsystem sftp internal-sftp",
	}, more...)
	file := filepath.Join(dir, "settings")
	err = errors.Join(makeKey(s.HostKey, ""), os.WriteFile(file, []byte(strings.Join(settings, "\n")+"\n"), 0o600), os.WriteFile(s.Authorized, nil, 0o600))
	if err != nil {
		return nil, err
	}
	s.process = exec.Command(sshdProgram, "-D", "-f", file, "-E", s.log)
	if err := s.process.Start(); err != nil {
		return nil, err
	}
	err = Until(func() error {
		connection, err := net.Dial("tcp", s.Address())
		if err == nil {
			err = connection.Close()
		}
		return err
	})
	if err != nil {
		log, _ := os.ReadFile(s.log)
		s.Stop()
		return nil, fmt.Errorf("OpenSSH's server does not answer: %w\n%s", err, log)
	}
	return s, nil
}

// SSHAccount is an account that may be entered with the settings of ssh in a home of its own.
type SSHAccount struct {
	*SSHServer
	Home  string
	Cache string // its folder for caches, on the server's side
}

var sshAccount struct {
	sync.Mutex
	*SSHAccount
}

// OwnSSHAccount is the account that runs the tests, by way of one server for all tests of a package.
func OwnSSHAccount(t testing.TB) *SSHAccount {
	t.Helper()
	sshAccount.Lock()
	defer sshAccount.Unlock()
	if sshAccount.SSHAccount == nil {
		account, stop := startSSHAccount(t)
		running.Lock()
		running.stops = append(running.stops, stop)
		running.Unlock()
		sshAccount.SSHAccount = account
	}
	return sshAccount.SSHAccount
}

// StartSSHAccount is that account by way of a server of the test's own.
func StartSSHAccount(t testing.TB) *SSHAccount {
	t.Helper()
	account, stop := startSSHAccount(t)
	t.Cleanup(stop)
	return account
}

func startSSHAccount(t testing.TB) (account *SSHAccount, stop func()) {
	t.Helper()
	if _, err := os.Stat(sshdProgram); err != nil {
		Missing(t, "OpenSSH's server")
	}
	dir, err := os.MkdirTemp("", "wetland-ssh-*")
	if err != nil {
		t.Fatal(err)
	}
	account = &SSHAccount{Home: filepath.Join(dir, "home"), Cache: filepath.Join(dir, "cache")}
	account.SSHServer, err = startSSH(dir, []string{"MaxStartups 100", "MaxSessions 100", "SetEnv XDG_CACHE_HOME=" + account.Cache})
	if err != nil {
		_ = os.RemoveAll(dir)
		t.Fatal(err)
	}
	stop = func() {
		account.Stop()
		_ = os.RemoveAll(dir)
	}
	settings := filepath.Join(account.Home, ".ssh")
	_, key, _ := strings.Cut(account.KnownLine(t), " ") // known by whatever way it is reached
	err = errors.Join(os.MkdirAll(settings, 0o700), os.WriteFile(filepath.Join(settings, "known_hosts"), []byte("the-account "+key), 0o600),
		os.WriteFile(filepath.Join(settings, "config"), []byte("Host *\n  HostKeyAlias the-account\n"), 0o600))
	if err != nil {
		stop()
		t.Fatal(err)
	}
	account.Allow(t, MakeSSHKey(t, settings, "id_ed25519", ""))
	return account, stop
}

// At is a folder of this machine, as the account reaches it.
func (a *SSHAccount) At(folder string) string { return a.By(a.Address(), folder) }

// By is that folder by way of another address, such as a Line's.
func (a *SSHAccount) By(address, folder string) string {
	return (&url.URL{Scheme: "ssh", User: url.User(a.User), Host: address, Path: folder}).String()
}

// Address is HOST:PORT.
func (s *SSHServer) Address() string { return fmt.Sprintf("127.0.0.1:%d", s.Port) }

// Stop stops it; sessions that are open go on.
func (s *SSHServer) Stop() {
	_ = s.process.Process.Kill()
	_ = s.process.Wait()
}

// Allow lets a key in, by the file of its secret half.
func (s *SSHServer) Allow(t testing.TB, key string) {
	t.Helper()
	public, err := os.ReadFile(key + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	file, err := os.OpenFile(s.Authorized, os.O_WRONLY|os.O_APPEND, 0)
	if err == nil {
		_, err = file.Write(public)
		err = errors.Join(err, file.Close())
	}
	if err != nil {
		t.Fatal(err)
	}
}

// KnownLine is the server's line in a file of known hosts.
func (s *SSHServer) KnownLine(t testing.TB) string {
	t.Helper()
	public, err := os.ReadFile(s.HostKey + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf("[127.0.0.1]:%d %s", s.Port, public)
}

// MakeSSHKey makes a key in a folder and returns its file.
func MakeSSHKey(t testing.TB, dir, name, passphrase string) string {
	t.Helper()
	file := filepath.Join(dir, name)
	if err := makeKey(file, passphrase); err != nil {
		t.Fatal(err)
	}
	return file
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

func makeKey(file, passphrase string) error {
	out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", passphrase, "-C", filepath.Base(file), "-f", file).CombinedOutput()
	if err != nil {
		return fmt.Errorf("make a key: %w\n%s", err, out)
	}
	return nil
}
