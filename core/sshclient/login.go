package sshclient

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// Person is who may be asked, at a terminal.
type Person interface {
	// Secret asks for a text that is not shown.
	Secret(ctx context.Context, what string) (string, error)
	// Confirm asks a question that is answered by yes or no.
	Confirm(ctx context.Context, question string) (bool, error)
}

// login is how one account is entered.
type login struct {
	settings *Settings
	options  *Options
	ctx      context.Context
	tried    []string // what was offered, in words
	agent    agent.ExtendedAgent
	close    func() error
}

// methods are the ways in, in the order in which ssh tries them.
func (l *login) methods() []ssh.AuthMethod {
	methods := []ssh.AuthMethod{ssh.PublicKeysCallback(l.signers)}
	if l.options.Password != nil || l.options.Person != nil {
		methods = append(methods, ssh.RetryableAuthMethod(ssh.PasswordCallback(l.password), l.asks()), ssh.RetryableAuthMethod(ssh.KeyboardInteractive(l.answer), l.asks()))
	}
	return methods
}

// asks is how often a secret may be given: a person mistypes, a file does not.
func (l *login) asks() int {
	if l.options.Password != nil {
		return 1
	}
	return 3
}

// signers are the keys: those of the settings that the agent has, those of files, and then the
// agent's others.
func (l *login) signers() ([]ssh.Signer, error) {
	held := l.agentSigners()
	var own, all []ssh.Signer
	for _, name := range l.settings.IdentityFiles {
		signer := l.fromFile(name, held)
		if signer == nil {
			continue
		}
		own = append(own, signer)
	}
	for _, signer := range own {
		all = append(append(all, l.certified(signer)...), signer)
	}
	if !l.settings.IdentitiesOnly {
		for _, signer := range held {
			if !slices.ContainsFunc(all, func(s ssh.Signer) bool { return sameKey(s.PublicKey(), signer.PublicKey()) }) {
				all = append(all, signer)
			}
		}
	}
	for _, signer := range all {
		l.tried = append(l.tried, "the key "+ssh.FingerprintSHA256(signer.PublicKey()))
	}
	return all, nil
}

func sameKey(a, b ssh.PublicKey) bool { return bytes.Equal(a.Marshal(), b.Marshal()) }

// agentSigners are the agent's keys; none if there is none that answers.
func (l *login) agentSigners() []ssh.Signer {
	if l.settings.Agent == "" {
		return nil
	}
	connection, err := dialAgent(l.settings.Agent)
	if err != nil {
		return nil
	}
	l.close = connection.Close
	l.agent = agent.NewClient(connection)
	signers, err := l.agent.Signers()
	if err != nil {
		return nil
	}
	return signers
}

// fromFile is the key of a file, by the agent if that has it; nil if there is none that can be used.
func (l *login) fromFile(name string, held []ssh.Signer) ssh.Signer {
	if public, err := readPublic(name + ".pub"); err == nil {
		if i := slices.IndexFunc(held, func(s ssh.Signer) bool { return sameKey(s.PublicKey(), public) }); i >= 0 {
			return held[i]
		}
	}
	text, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		l.tried = append(l.tried, fmt.Sprintf("not %s, which cannot be read", name))
		return nil
	}
	signer, err := ssh.ParsePrivateKey(text)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		signer, err = l.unlock(name, text)
	}
	if err != nil {
		l.tried = append(l.tried, fmt.Sprintf("not %s: %v", name, err))
		return nil
	}
	return signer
}

var errNobodyToAsk = errors.New("it has a passphrase, and nobody is at a terminal. Add it to your agent: ssh-add")

func (l *login) unlock(name string, text []byte) (ssh.Signer, error) {
	if l.options.Person == nil {
		return nil, errNobodyToAsk
	}
	passphrase, err := l.options.Person.Secret(l.ctx, "Passphrase of "+name)
	if err != nil {
		return nil, err
	}
	return ssh.ParsePrivateKeyWithPassphrase(text, []byte(passphrase))
}

// certified are the certificates for a key.
func (l *login) certified(signer ssh.Signer) (all []ssh.Signer) {
	files := slices.Clone(l.settings.Certificates)
	for _, name := range l.settings.IdentityFiles {
		files = append(files, name+"-cert.pub")
	}
	for _, name := range files {
		public, err := readPublic(name)
		if err != nil {
			continue
		}
		certificate, ok := public.(*ssh.Certificate)
		if !ok || !sameKey(certificate.Key, signer.PublicKey()) {
			continue
		}
		if certified, err := ssh.NewCertSigner(certificate, signer); err == nil {
			all = append(all, certified)
		}
	}
	return all
}

func readPublic(name string) (ssh.PublicKey, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey(text)
	return public, err
}

func (l *login) password() (string, error) {
	l.tried = append(l.tried, "a password")
	if l.options.Password != nil {
		return l.options.Password()
	}
	return l.options.Person.Secret(l.ctx, fmt.Sprintf("Password of %s at %s", l.settings.User, l.settings.HostName))
}

// answer answers what a server asks in its own words: a password, or a number from a phone.
func (l *login) answer(_, instruction string, questions []string, shown []bool) ([]string, error) {
	answers := make([]string, len(questions))
	for i, question := range questions {
		if l.options.Password != nil && !shown[i] {
			l.tried = append(l.tried, "a password")
			password, err := l.options.Password()
			if err != nil {
				return nil, err
			}
			answers[i] = password
			continue
		}
		if l.options.Person == nil {
			return nil, fmt.Errorf("the host asks %q, and nobody is at a terminal", question)
		}
		answer, err := l.options.Person.Secret(l.ctx, fmt.Sprintf("%s asks: %s %s", l.settings.HostName, instruction, question))
		if err != nil {
			return nil, err
		}
		answers[i] = answer
	}
	return answers, nil
}
