package sshclient

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"

	"github.com/skeema/knownhosts"
	"golang.org/x/crypto/ssh"
	xknownhosts "golang.org/x/crypto/ssh/knownhosts"
)

// Reasons why a host is not spoken to.
var (
	// ErrUnknownHost says that nobody knows the host's key.
	ErrUnknownHost = errors.New("its key is not known")
	// ErrChangedHost says that the host has another key than the known one.
	ErrChangedHost = errors.New("its key is not the one that is known")
)

// HostKeyError says which key a host has, and what is wrong with that.
type HostKeyError struct {
	Host        string // as known hosts call it
	Fingerprint string // SHA256:...
	Reason      error  // ErrUnknownHost, ErrChangedHost, or that the key was revoked
	Named       string // the fingerprint that it should have; "": none was named
	File        string // where a known key is, of one that changed
	Line        int
}

// Error says what a person should compare.
func (e *HostKeyError) Error() string {
	switch {
	case errors.Is(e.Reason, ErrUnknownHost) && e.Named != "":
		return fmt.Sprintf("the host %s is not known yet, and its key is %s: you named the key %s", e.Host, e.Fingerprint, e.Named)
	case errors.Is(e.Reason, ErrUnknownHost):
		return fmt.Sprintf("the host %s is not known yet: its key is %s", e.Host, e.Fingerprint)
	case errors.Is(e.Reason, ErrChangedHost):
		return fmt.Sprintf("the host %s has another key than the one that is known (%s, line %d): now it is %s. Either it was set up anew, or somebody else answers in its place, who would see all that is sent. Ask your host; only if they confirm the new key, delete that line", e.Host, e.File, e.Line, e.Fingerprint)
	}
	return fmt.Sprintf("the key of the host %s is not to be trusted (%s): %v", e.Host, e.Fingerprint, e.Reason)
}

func (e *HostKeyError) Unwrap() error { return e.Reason }

// keyring knows the keys of hosts.
type keyring struct {
	known *knownhosts.HostKeyDB
	files []string // the first is the user's own, to which new keys are added
}

func openKeyring(files []string) (*keyring, error) {
	var there []string
	for _, name := range files {
		if _, err := os.Stat(name); err == nil {
			there = append(there, name)
		}
	}
	known, err := knownhosts.NewDB(there...)
	if err != nil {
		return nil, fmt.Errorf("read the known hosts of ssh: %w", err)
	}
	return &keyring{known, files}, nil
}

// address is what known hosts are asked by.
func (s *Settings) address() string {
	if s.HostKeyAlias != "" {
		return net.JoinHostPort(s.HostKeyAlias, "22")
	}
	return net.JoinHostPort(s.HostName, strconv.Itoa(s.Port))
}

// algorithms are those of the keys that are known of a host: asked for another one, the host would
// show a key that nobody knows. None: all.
func (k *keyring) algorithms(s *Settings) []string { return k.known.HostKeyAlgorithms(s.address()) }

// check accepts a known key. accept decides about one that is not known.
func (k *keyring) check(ctx context.Context, s *Settings, accept func(context.Context, *HostKeyError) (bool, error)) ssh.HostKeyCallback {
	return func(_ string, remote net.Addr, key ssh.PublicKey) error {
		err := k.known.HostKeyCallback()(s.address(), remote, key)
		if err == nil {
			return nil
		}
		found := &HostKeyError{Host: s.name(), Fingerprint: ssh.FingerprintSHA256(key), Reason: err}
		switch {
		case knownhosts.IsHostKeyChanged(err):
			found.Reason = ErrChangedHost
			var keyError *xknownhosts.KeyError
			if errors.As(err, &keyError) && len(keyError.Want) > 0 {
				found.File, found.Line = keyError.Want[0].Filename, keyError.Want[0].Line
			}
		case knownhosts.IsHostUnknown(err):
			found.Reason = ErrUnknownHost
			accepted, err := accept(ctx, found)
			if err != nil {
				return errors.Join(found, err)
			}
			if accepted {
				return k.add(s, key)
			}
		}
		return found
	}
}

// add notes a key that a person accepted, where his own ssh finds it, too.
func (k *keyring) add(s *Settings, key ssh.PublicKey) error {
	if len(k.files) == 0 {
		return nil // his settings say that none are kept
	}
	if err := os.MkdirAll(filepath.Dir(k.files[0]), 0o700); err != nil {
		return fmt.Errorf("note the host's key: %w", err)
	}
	file, err := os.OpenFile(k.files[0], os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("note the host's key: %w", err)
	}
	_, err = file.WriteString(knownhosts.Line([]string{s.address()}, key) + "\n")
	return errors.Join(err, file.Close())
}
