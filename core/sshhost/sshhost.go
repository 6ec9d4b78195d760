// Package sshhost is an account on another machine as a host of sites: it is entered by SSH, and our
// helper does there what must be near. Begin reading at Host.
//
// It promises to put nothing there without consent; to start no program whose bytes are not those of
// the helper that was built in; and to pass no secret in arguments or the environment.
package sshhost

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"wetland/core/advice"
	"wetland/core/boundary"
	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/sshclient"
)

// Options say how an account is entered, and what may be done in it.
type Options struct {
	sshclient.Options
	// Put tells whether the helper may be put there.
	Put Consent
	// Folder is where it lies; "": in the account's own folder for caches.
	Folder string
	// MayPut asks a person, where Put does not say; nil: nobody can be asked.
	MayPut func(ctx context.Context, question string) (bool, error)
	// Site is what the helper keeps itself to.
	Site boundary.Site
}

// Consent says what a person decided about the helper.
type Consent int

// The decisions.
const (
	Undecided Consent = iota
	MayPut
	NeverPut
)

// Host is an account on another machine. It is entered when something is asked of it for the first
// time. Once its line broke, nothing more is done.
type Host struct {
	to   sshclient.Destination
	o    Options
	lock sync.Mutex // held while it is entered
	is   *entered
	err  error // why it could not be entered; it is not tried again
}

var _ host.Confiner = (*Host)(nil)

// entered is an account that was entered: with a helper that answers, or for files alone.
type entered struct {
	host.Host
	client *sshclient.Client
	put    string // where the helper was put, now; "": it was there
}

// New returns the host of a destination. Nothing is connected yet.
func New(to sshclient.Destination, o Options) *Host {
	to.Path = ""
	return &Host{to: to, o: o}
}

// Name is its address.
func (h *Host) Name() string { return h.to.String() }

// Now is the time there, once the account was entered.
func (h *Host) Now() time.Time {
	h.lock.Lock()
	defer h.lock.Unlock()
	if h.is == nil {
		return time.Now()
	}
	return h.is.Now()
}

// Abilities are those of the helper, or of an account for files alone.
func (h *Host) Abilities() host.Abilities {
	h.lock.Lock()
	defer h.lock.Unlock()
	switch {
	case h.is != nil:
		return h.is.Abilities()
	case h.to.FilesAlone:
		return host.Abilities{Dial: true}
	}
	return host.Abilities{Dial: true, Run: true, Temporary: true}
}

// inside returns the account, entered. An attempt that was given up may be made again.
func (h *Host) inside(ctx context.Context) (*entered, error) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if h.is != nil || h.err != nil {
		return h.is, h.err
	}
	is, err := h.enter(ctx)
	if err != nil {
		err = h.explain(err)
		if ctx.Err() == nil {
			h.err = err
		}
		return nil, err
	}
	h.is = is
	return is, nil
}

// unreachable says why an account could not be entered.
type unreachable struct{ cause error }

func (u unreachable) Error() string   { return u.cause.Error() }
func (u unreachable) Unwrap() []error { return []error{host.ErrUnreachable, u.cause} }

// explain adds what to do about an account that could not be entered.
func (h *Host) explain(err error) error {
	if do := h.advise(err); do != "" {
		return advice.With(unreachable{err}, advice.Do(do))
	}
	return unreachable{err}
}

func (h *Host) advise(err error) string {
	var key *sshclient.HostKeyError
	switch {
	case errors.As(err, &key) && errors.Is(err, sshclient.ErrUnknownHost):
		return "Compare the fingerprint with what your host names, on its pages or on the phone. If it is the same: adopt with --host-key " + key.Fingerprint + ", or write key = \"" + key.Fingerprint + "\" under [host] in wetland.toml. At a terminal you are asked."
	case errors.As(err, &key):
		return "Ask your host before you do anything else. Nothing was sent there."
	case errors.Is(err, ErrConsent):
		return "Answer yes at a terminal, adopt with --put-helper, or write helper = \"put\" under [host] in wetland.toml."
	case errors.Is(err, ErrNever):
		return "Run Wetland on that machine itself, name the site by sftp:// in place of ssh:// where its files can be moved, or allow the helper: helper = \"put\" under [host] in wetland.toml."
	case errors.Is(err, sshclient.ErrDenied):
		return "Check that ssh lets you in: ssh " + h.sshWords() + ". What lets ssh in lets Wetland in, too."
	case errors.Is(err, sshclient.ErrUnreachable):
		return "Check the name, the port and the network: ssh " + h.sshWords()
	}
	return ""
}

func (h *Host) sshWords() string {
	words := h.to.Host
	if h.to.User != "" {
		words = h.to.User + "@" + words
	}
	if h.to.Port != 0 {
		words = fmt.Sprintf("-p %d %s", h.to.Port, words)
	}
	return words
}

// About is what became known of the machine when it was entered.
type About struct {
	NotUsed []string // of the user's settings of ssh, and why
	Put     string   // where the helper was put just now; "": it was there
}

// Enter enters the account now, and tells about it.
func (h *Host) Enter(ctx context.Context) (About, error) {
	is, err := h.inside(ctx)
	if err != nil {
		return About{}, err
	}
	return About{NotUsed: is.client.Settings.NotUsed, Put: is.put}, nil
}

// Close leaves the account.
func (h *Host) Close() error {
	h.lock.Lock()
	defer h.lock.Unlock()
	is := h.is
	h.is, h.err = nil, net.ErrClosed
	if is == nil {
		return nil
	}
	return errors.Join(is.Host.Close(), is.client.Close())
}

// The calls below are those of the helper's host.

// Real resolves the links in a name there.
func (h *Host) Real(ctx context.Context, name string) (string, error) {
	is, err := h.inside(ctx)
	if err != nil {
		return "", err
	}
	return is.Real(ctx, name)
}

// Open opens a folder there.
func (h *Host) Open(ctx context.Context, folder string) (files.FS, error) {
	is, err := h.inside(ctx)
	if err != nil {
		return nil, err
	}
	return is.Open(ctx, folder)
}

// Dial connects from there.
func (h *Host) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	is, err := h.inside(ctx)
	if err != nil {
		return nil, err
	}
	return is.Dial(ctx, network, address)
}

// Run runs a program there.
func (h *Host) Run(ctx context.Context, program string, args ...string) (string, error) {
	is, err := h.inside(ctx)
	if err != nil {
		return "", err
	}
	return is.Run(ctx, program, args...)
}

// PutTemporary makes a file there.
func (h *Host) PutTemporary(ctx context.Context, ending string, content []byte) (string, func() error, error) {
	is, err := h.inside(ctx)
	if err != nil {
		return "", nil, err
	}
	return is.PutTemporary(ctx, ending, content)
}

// Machine tells what there is on that machine.
func (h *Host) Machine(ctx context.Context) (host.Machine, error) {
	ground, err := h.ground(ctx)
	if err != nil {
		return host.Machine{}, err
	}
	return ground.Machine(ctx)
}

// ground is the account, if worlds can be made there.
func (h *Host) ground(ctx context.Context) (host.Confiner, error) {
	is, err := h.inside(ctx)
	if err != nil {
		return nil, err
	}
	ground, ok := is.Host.(host.Confiner)
	if !ok {
		return nil, fmt.Errorf("%w: no programs run in this account", host.ErrNotConfined)
	}
	return ground, nil
}

// Confine makes a world there.
func (h *Host) Confine(ctx context.Context, w host.World) (io.ReadWriteCloser, string, error) {
	ground, err := h.ground(ctx)
	if err != nil {
		return nil, "", err
	}
	return ground.Confine(ctx, w)
}

// Databases are those there.
func (h *Host) Databases() host.Databases { return databases{h} }

// Accounts are those there.
func (h *Host) Accounts() host.Accounts { return accounts{h} }

type databases struct{ host *Host }

func (d databases) Open(ctx context.Context, login database.Login, owner database.Owner) (database.Database, error) {
	is, err := d.host.inside(ctx)
	if err != nil {
		return nil, err
	}
	return is.Databases().Open(ctx, login, owner)
}

func (d databases) Create(ctx context.Context, login database.Login) error {
	is, err := d.host.inside(ctx)
	if err != nil {
		return err
	}
	return is.Databases().Create(ctx, login)
}

func (d databases) Scratch(ctx context.Context, login database.Login) (database.Database, func() error, error) {
	is, err := d.host.inside(ctx)
	if err != nil {
		return nil, nil, err
	}
	return is.Databases().Scratch(ctx, login)
}

func (d databases) SweepScratch(ctx context.Context, login database.Login) error {
	is, err := d.host.inside(ctx)
	if err != nil {
		return err
	}
	return is.Databases().SweepScratch(ctx, login)
}

type accounts struct{ host *Host }

// or asks the helper's machine, and gives what is safe where it does not answer.
func or[T any](ctx context.Context, h *Host, safe T, ask func(host.Accounts) T) T {
	is, err := h.inside(ctx)
	if err != nil {
		return safe
	}
	return ask(is.Accounts())
}

func (a accounts) Self(ctx context.Context) int {
	return or(ctx, a.host, files.Unowned, func(known host.Accounts) int { return known.Self(ctx) })
}

func (a accounts) UserName(ctx context.Context, user int) string {
	return or(ctx, a.host, fmt.Sprint("#", user), func(known host.Accounts) string { return known.UserName(ctx, user) })
}

func (a accounts) GroupName(ctx context.Context, group int) string {
	return or(ctx, a.host, fmt.Sprint("#", group), func(known host.Accounts) string { return known.GroupName(ctx, group) })
}

func (a accounts) MayWrite(ctx context.Context, user int, entry files.Entry) bool {
	return or(ctx, a.host, true, func(known host.Accounts) bool { return known.MayWrite(ctx, user, entry) })
}
