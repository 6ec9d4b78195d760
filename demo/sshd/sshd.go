// Package sshd is OpenSSH's own server on a loopback port, as the stand-in for the machine of a site
// elsewhere: it lets in the account that runs this program, with keys made for it alone.
package sshd

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"wetland/internal/ports"
)

// Program is where Debian puts the server; it starts itself again by its whole name.
const Program = "/usr/sbin/sshd"

// Server is a running server.
type Server struct {
	Port       int
	User       string
	HostKey    string // its file; the public half ends in .pub
	Authorized string // the file of keys that it lets in
	log        string
	process    *exec.Cmd
}

// Process is the number of the process that listens.
func (s *Server) Process() int { return s.process.Process.Pid }

// patience bounds how long the server may take to come up on a busy machine.
const patience = 2 * time.Minute

// Start starts a server whose files are in a folder, with more lines of its settings. An fs.ErrNotExist
// says that it is not installed.
func Start(ctx context.Context, dir string, more ...string) (*Server, error) {
	if _, err := os.Stat(Program); err != nil {
		return nil, fmt.Errorf("OpenSSH's server is not installed (Debian: apt-get install openssh-server): %w", err)
	}
	own, err := user.Current()
	if err != nil {
		return nil, err
	}
	if own.Uid == "0" { // where it drops its rights
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			return nil, err
		}
	}
	port, err := ports.Free()
	if err != nil {
		return nil, err
	}
	s := &Server{Port: port, User: own.Username, HostKey: filepath.Join(dir, "host"), Authorized: filepath.Join(dir, "authorized"), log: filepath.Join(dir, "log")}
	settings := append([]string{
		fmt.Sprintf("Port %d", port), "ListenAddress 127.0.0.1", "HostKey " + s.HostKey, "AuthorizedKeysFile " + s.Authorized, "PidFile none",
		"UsePAM no", "StrictModes no", "PasswordAuthentication no", "PermitRootLogin prohibit-password", "AllowStreamLocalForwarding yes", "Subsystem sftp internal-sftp",
	}, more...)
	file := filepath.Join(dir, "settings")
	err = errors.Join(MakeKey(s.HostKey, ""), os.WriteFile(file, []byte(strings.Join(settings, "\n")+"\n"), 0o600), os.WriteFile(s.Authorized, nil, 0o600))
	if err != nil {
		return nil, err
	}
	s.process = exec.Command(Program, "-D", "-f", file, "-E", s.log)
	if err := s.process.Start(); err != nil {
		return nil, err
	}
	if err := s.wait(ctx); err != nil {
		said, _ := os.ReadFile(s.log)
		s.Stop()
		return nil, fmt.Errorf("OpenSSH's server does not answer: %w\n%s", err, said)
	}
	return s, nil
}

// wait waits until the server answers.
func (s *Server) wait(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		connection, err := net.Dial("tcp", s.Address())
		if err == nil {
			return connection.Close()
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Address is HOST:PORT.
func (s *Server) Address() string { return fmt.Sprintf("127.0.0.1:%d", s.Port) }

// Stop stops it; sessions that are open go on.
func (s *Server) Stop() {
	_ = s.process.Process.Kill()
	_ = s.process.Wait()
}

// Allow lets a key in, by the file of its secret half.
func (s *Server) Allow(key string) error {
	public, err := os.ReadFile(key + ".pub")
	if err != nil {
		return err
	}
	file, err := os.OpenFile(s.Authorized, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return err
	}
	_, err = file.Write(public)
	return errors.Join(err, file.Close())
}

// PublicKey is the server's own, as a file of known hosts has it after the name.
func (s *Server) PublicKey() (string, error) {
	public, err := os.ReadFile(s.HostKey + ".pub")
	return string(public), err
}

// MakeKey makes a key; its public half ends in .pub.
func MakeKey(file, passphrase string) error {
	out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", passphrase, "-C", filepath.Base(file), "-f", file).CombinedOutput()
	if err != nil {
		return fmt.Errorf("make a key: %w\n%s", err, out)
	}
	return nil
}

// Account is an account that may be entered with the settings of ssh in a home of its own, whatever way
// leads to the server.
type Account struct {
	*Server
	Home  string
	Cache string // its folder for caches, on the server's side
	// FilesAlone says that it lets files be moved, and no program be run.
	FilesAlone bool
	// Jail is the folder that the account takes for /; "": there is none.
	Jail string
}

// StartAccount starts a server for it, with more lines of its settings; all files are in a folder.
func StartAccount(ctx context.Context, dir string, more ...string) (*Account, error) {
	a := &Account{Home: filepath.Join(dir, "home"), Cache: filepath.Join(dir, "cache")}
	var err error
	if a.Server, err = Start(ctx, dir, append([]string{"MaxStartups 100", "MaxSessions 100", "SetEnv XDG_CACHE_HOME=" + a.Cache}, more...)...); err != nil {
		return nil, err
	}
	settings := filepath.Join(a.Home, ".ssh")
	key := filepath.Join(settings, "id_ed25519")
	public, err := a.PublicKey()
	err = errors.Join(err, os.MkdirAll(settings, 0o700), os.WriteFile(filepath.Join(settings, "known_hosts"), []byte("the-account "+public), 0o600),
		os.WriteFile(filepath.Join(settings, "config"), []byte("Host *\n  HostKeyAlias the-account\n"), 0o600))
	if err == nil {
		err = MakeKey(key, "")
	}
	if err = errors.Join(err); err == nil {
		err = a.Allow(key)
	}
	if err != nil {
		a.Stop()
		return nil, err
	}
	return a, nil
}

// At is a folder of this machine, as the account reaches it.
func (a *Account) At(folder string) string { return a.By(a.Address(), folder) }

// By is that folder by way of another address.
func (a *Account) By(address, folder string) string {
	scheme := "ssh"
	if a.FilesAlone {
		scheme = "sftp"
	}
	return (&url.URL{Scheme: scheme, User: url.User(a.User), Host: address, Path: strings.TrimPrefix(folder, a.Jail)}).String()
}
