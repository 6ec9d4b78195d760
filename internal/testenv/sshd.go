package testenv

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
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
	own, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	if own.Uid == "0" { // where it drops its rights
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			t.Fatal(err)
		}
	}
	port, err := FreePort()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	s := &SSHServer{Port: port, User: own.Username, HostKey: MakeSSHKey(t, dir, "host", ""), Authorized: filepath.Join(dir, "authorized"), log: filepath.Join(dir, "log")}
	settings := append([]string{
		fmt.Sprintf("Port %d", port), "ListenAddress 127.0.0.1", "HostKey " + s.HostKey, "AuthorizedKeysFile " + s.Authorized, "PidFile none",
		"UsePAM no", "StrictModes no", "PasswordAuthentication no", "PermitRootLogin prohibit-password", "AllowStreamLocalForwarding yes", "Subsystem sftp internal-sftp",
	}, more...)
	file := filepath.Join(dir, "settings")
	if err := errors.Join(os.WriteFile(file, []byte(strings.Join(settings, "\n")+"\n"), 0o600), os.WriteFile(s.Authorized, nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	s.process = exec.Command(sshdProgram, "-D", "-f", file, "-E", s.log)
	if err := s.process.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	err = Until(func() error {
		connection, err := net.Dial("tcp", s.Address())
		if err == nil {
			err = connection.Close()
		}
		return err
	})
	if err != nil {
		log, _ := os.ReadFile(s.log)
		t.Fatalf("OpenSSH's server does not answer: %v\n%s", err, log)
	}
	return s
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
	SSHKeygen(t, "-q", "-t", "ed25519", "-N", passphrase, "-C", name, "-f", file)
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
