package sshclient

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
)

// connecting is how long a host may take to answer, and to let in.
const connecting = 30 * time.Second

// Options say how a host is reached, and who decides.
type Options struct {
	Files  Files
	Person Person // nil: nobody can be asked
	// HostKey is the fingerprint ("SHA256:...") of the key that a host that is not known yet must
	// have.
	HostKey string
	// Password returns the account's password, where wetland.toml says where that is; nil: it is
	// asked for.
	Password func() (string, error)
	// Silence is how long nothing may come back before the line is given up; 0: 15 seconds. Three
	// questions are asked in that time.
	Silence time.Duration
	// Dial connects to the first host on the way; nil: as package net does.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// Reasons why an account cannot be entered.
var (
	ErrUnreachable = errors.New("the host cannot be reached")
	ErrDenied      = errors.New("the host does not let this account in")
	ErrStalled     = errors.New("the line to the host is dead: nothing came back")
)

// Client is an account on another machine, entered.
type Client struct {
	Settings *Settings
	ssh      *ssh.Client
	before   []*ssh.Client // the hosts on the way
	stop     context.CancelCauseFunc
	ended    context.Context
	close    sync.Once
}

// Connect enters an account, by the hosts on the way that the settings name. Errors wrap a
// *HostKeyError, ErrUnreachable or ErrDenied where that is the reason. The context ends the
// attempt, not the client.
func Connect(ctx context.Context, to Destination, o Options) (*Client, error) {
	all, err := readConfigs(o.Files)
	if err != nil {
		return nil, err
	}
	settings, err := all.settingsFor(to)
	if err != nil {
		return nil, err
	}
	c := &Client{Settings: settings}
	dial := o.Dial
	if dial == nil {
		dial = (&net.Dialer{}).DialContext
	}
	for _, jump := range settings.Jumps {
		way, err := all.settingsFor(jump)
		if err != nil {
			return nil, errors.Join(err, c.Close())
		}
		way.Jumps = nil // those of a host on the way would lead in circles
		client, err := enter(ctx, way, o, dial)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("by way of %s: %w", jump.Host, err), c.Close())
		}
		c.before = append(c.before, client)
		dial = client.DialContext
	}
	if c.ssh, err = enter(ctx, settings, o, dial); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	c.ended, c.stop = context.WithCancelCause(context.Background())
	go c.watch(cmp.Or(o.Silence, 15*time.Second))
	return c, nil
}

// enter enters one host.
func enter(ctx context.Context, s *Settings, o Options, dial func(ctx context.Context, network, address string) (net.Conn, error)) (*ssh.Client, error) {
	keys, err := openKeyring(s.KnownHosts)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, connecting)
	defer cancel()
	address := net.JoinHostPort(s.HostName, strconv.Itoa(s.Port))
	connection, err := dial(ctx, "tcp", address)
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w: %w", address, ErrUnreachable, err)
	}
	l := &login{settings: s, options: &o, ctx: ctx}
	defer func() {
		if l.close != nil {
			_ = l.close()
		}
	}()
	stop := context.AfterFunc(ctx, func() { _ = connection.Close() })
	defer stop()
	config := &ssh.ClientConfig{User: s.User, Auth: l.methods(), HostKeyCallback: keys.check(ctx, s, o.accept), HostKeyAlgorithms: keys.algorithms(s), ClientVersion: "SSH-2.0-Wetland"}
	client, channels, requests, err := ssh.NewClientConn(connection, address, config)
	if err != nil {
		_ = connection.Close() // it failed already
		return nil, explain(ctx, s, l, err)
	}
	if !stop() {
		return nil, errors.Join(ctx.Err(), client.Close())
	}
	return ssh.NewClient(client, channels, requests), nil
}

// accept decides about a host that is not known yet.
func (o *Options) accept(ctx context.Context, found *HostKeyError) (bool, error) {
	switch {
	case o.HostKey != "":
		if o.HostKey == found.Fingerprint {
			return true, nil
		}
		found.Named = o.HostKey
		return false, nil
	case o.Person != nil:
		return o.Person.Confirm(ctx, fmt.Sprintf("The host %s is not known yet. Its key is %s. Compare that with what your host names. Is it the right one?", found.Host, found.Fingerprint))
	}
	return false, nil
}

// explain says in words why an account was not entered.
func explain(ctx context.Context, s *Settings, l *login, err error) error {
	var key *HostKeyError
	switch {
	case errors.As(err, &key):
		return fmt.Errorf("connect to %s: %w", s.HostName, key)
	case ctx.Err() != nil:
		return fmt.Errorf("connect to %s: %w: %w", s.HostName, ErrUnreachable, context.Cause(ctx))
	case strings.Contains(err.Error(), "unable to authenticate"), strings.Contains(err.Error(), "unexpected message type 51 (expected 60)"): // a server that takes no answers
		tried := "nothing: you have no key that could be used, and nobody to ask for a password"
		if len(l.tried) > 0 {
			tried = strings.Join(slices.Compact(l.tried), ", ")
		}
		return fmt.Errorf("%s at %s: %w. Tried: %s", s.User, s.HostName, ErrDenied, tried)
	case strings.Contains(err.Error(), "Too many authentication failures") || strings.Contains(err.Error(), "too many authentication"):
		return fmt.Errorf("%s at %s: %w: it gave up after too many keys (%d were offered). Name the right one in your settings of ssh: IdentityFile, with IdentitiesOnly yes", s.User, s.HostName, ErrDenied, len(l.tried))
	}
	return fmt.Errorf("connect to %s: %w: %w", s.HostName, ErrUnreachable, err)
}

// watch notices a line that is dead without saying so.
func (c *Client) watch(silence time.Duration) {
	alive := make(chan struct{}, 1)
	asking := time.NewTicker(silence / 3)
	defer asking.Stop()
	last := time.Now()
	for {
		select {
		case <-c.ended.Done():
			return
		case <-alive:
			last = time.Now()
		case <-asking.C:
			if time.Since(last) > silence {
				c.end(ErrStalled)
				return
			}
			go func() {
				if _, _, err := c.ssh.SendRequest("keepalive@openssh.com", true, nil); err == nil {
					select {
					case alive <- struct{}{}:
					default:
					}
				}
			}()
		}
	}
}

// end closes everything, for a reason.
func (c *Client) end(reason error) {
	c.close.Do(func() {
		if c.stop != nil {
			c.stop(reason)
		}
		if c.ssh != nil {
			_ = c.ssh.Close()
		}
		for _, client := range slices.Backward(c.before) {
			_ = client.Close()
		}
	})
}

// Close leaves the account. It may be called more than once.
func (c *Client) Close() error {
	c.end(net.ErrClosed)
	return nil
}

// because says that the line is dead, where that is the reason.
func (c *Client) because(err error) error {
	if err != nil && c.ended.Err() != nil {
		return fmt.Errorf("%w: %w", context.Cause(c.ended), err)
	}
	return err
}

// ErrForbidden says that the host does not let this account connect to others by way of it.
var ErrForbidden = errors.New("the host forbids connections by way of it")

// Dial connects, from the host, to what listens: by "tcp" to HOST:PORT, by "unix" to a socket. Where nothing
// listens the error wraps syscall.ECONNREFUSED, for a socket fs.ErrNotExist, and ErrForbidden where the host does not
// let it be tried.
func (c *Client) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	connection, err := c.ssh.DialContext(ctx, network, address)
	var refused *ssh.OpenChannelError
	switch {
	case err == nil:
		return connection, nil
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case !errors.As(err, &refused):
		return nil, c.because(fmt.Errorf("connect to %s from %s: %w", address, c.Settings.HostName, err))
	}
	cause := syscall.ECONNREFUSED
	if network == "unix" {
		cause = syscall.ENOENT
	}
	if refused.Reason == ssh.Prohibited || refused.Reason == ssh.UnknownChannelType {
		return nil, fmt.Errorf("connect to %s from %s: %w (%s)", address, c.Settings.HostName, ErrForbidden, refused.Message)
	}
	return nil, fmt.Errorf("connect to %s from %s: %w (%s)", address, c.Settings.HostName, cause, refused.Message)
}

// mostSaid bounds what is kept of what a command prints, in bytes.
const mostSaid = 1 << 20

// bounded keeps the beginning of what is written to it.
type bounded struct {
	lock sync.Mutex
	bytes.Buffer
}

func (b *bounded) String() string {
	b.lock.Lock()
	defer b.lock.Unlock()
	return b.Buffer.String()
}

func (b *bounded) Write(data []byte) (int, error) {
	b.lock.Lock()
	defer b.lock.Unlock()
	if room := mostSaid - b.Len(); room > 0 {
		b.Buffer.Write(data[:min(room, len(data))])
	}
	return len(data), nil
}

// Program is one that runs in the account: what is written to it it reads, and what it prints is read
// from it.
type Program struct {
	io.Reader
	io.Writer
	session   *ssh.Session
	complaint *bounded
}

// session opens a session. Some servers allow one at a time, and take a moment to notice that the one
// before has ended.
func (c *Client) session() (session *ssh.Session, err error) {
	var refused *ssh.OpenChannelError
	for range 40 {
		if session, err = c.ssh.NewSession(); !errors.As(err, &refused) {
			return session, err
		}
		select {
		case <-c.ended.Done():
			return nil, err
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil, err
}

// Start starts a line in the account's shell.
func (c *Client) Start(line string) (*Program, error) {
	return c.start("a program", func(session *ssh.Session) error { return session.Start(line) })
}

// Subsystem starts one that the server offers by a name, such as "sftp".
func (c *Client) Subsystem(name string) (*Program, error) {
	return c.start(name, func(session *ssh.Session) error { return session.RequestSubsystem(name) })
}

func (c *Client) start(what string, begin func(*ssh.Session) error) (*Program, error) {
	session, err := c.session()
	if err != nil {
		return nil, c.because(fmt.Errorf("start %s on %s: %w", what, c.Settings.HostName, err))
	}
	p := &Program{session: session, complaint: &bounded{}}
	session.Stderr = p.complaint
	in, err1 := session.StdinPipe()
	out, err2 := session.StdoutPipe()
	if err := errors.Join(err1, err2, begin(session)); err != nil {
		return nil, errors.Join(c.because(fmt.Errorf("start %s on %s: %w", what, c.Settings.HostName, err)), session.Close())
	}
	p.Reader, p.Writer = out, in
	return p, nil
}

// CloseWrite tells it that no more is written.
func (p *Program) CloseWrite() error { return p.Writer.(io.Closer).Close() }

// Complaint is what it said on standard error so far.
func (p *Program) Complaint() string { return strings.TrimSpace(p.complaint.String()) }

// Close ends it, whatever it does.
func (p *Program) Close() error {
	if err := p.session.Close(); !errors.Is(err, io.EOF) {
		return err
	}
	return nil
}
