package sftphost

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/sshclient"
)

// Host is an account that lets files be moved, and perhaps connections be made by way of it. No program runs
// there, and of its users nothing is known but their numbers.
type Host struct {
	*Disk
	client *sshclient.Client
	name   string
	dials  bool
}

var _ host.Host = (*Host)(nil)

// nobody is where nothing listens: whether that may be asked tells whether connections may be made.
const nobody = "127.0.0.1:1"

// On is the host of an account that was entered, which it owns. name is how people call it.
func On(ctx context.Context, client *sshclient.Client, name string) (*Host, error) {
	streams, err := client.Subsystem("sftp")
	if err != nil {
		return nil, errors.Join(err, client.Close())
	}
	disk, err := NewDisk(streams)
	if err != nil {
		return nil, errors.Join(err, client.Close())
	}
	h := &Host{disk, client, name, true}
	connection, err := client.Dial(ctx, "tcp", nobody)
	switch {
	case err == nil:
		_ = connection.Close()
	case errors.Is(err, sshclient.ErrForbidden):
		h.dials = false
	case ctx.Err() != nil:
		return nil, errors.Join(ctx.Err(), h.Close())
	}
	return h, nil
}

// Name is how people call it.
func (h *Host) Name() string { return h.name }

// Abilities tells whether connections may be made.
func (h *Host) Abilities() host.Abilities { return host.Abilities{Dial: h.dials} }

// Close leaves the account.
func (h *Host) Close() error { return errors.Join(h.Disk.Close(), h.client.Close()) }

// Now is the time there, as far as it became known by what was written.
func (h *Host) Now() time.Time { return time.Now().Add(time.Duration(h.known.ahead.Load())) }

// Dial connects from there.
func (h *Host) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	connection, err := h.client.Dial(ctx, network, address)
	if errors.Is(err, sshclient.ErrForbidden) {
		return nil, fmt.Errorf("%w: %w", errors.ErrUnsupported, err)
	}
	return connection, err
}

// Run runs nothing.
func (h *Host) Run(_ context.Context, program string, _ ...string) (string, error) {
	return "", fmt.Errorf("run %s on %s: %w", program, h.name, errors.ErrUnsupported)
}

// PutTemporary makes nothing: there is no folder that all accounts may read.
func (h *Host) PutTemporary(context.Context, string, []byte) (string, func() error, error) {
	return "", nil, fmt.Errorf("make a temporary file on %s: %w", h.name, errors.ErrUnsupported)
}

// Databases are reached by connections from there.
func (h *Host) Databases() host.Databases { return servers{database.Engines{Dial: h.Dial}} }

// fileOfThere is a database that is a file: a database.ErrUnreachable and an errors.ErrUnsupported.
type fileOfThere string

func (f fileOfThere) Error() string {
	return fmt.Sprintf("the database is a file, which only a program on its machine can open: %s", string(f))
}

func (f fileOfThere) Unwrap() []error { return []error{database.ErrUnreachable, errors.ErrUnsupported} }

// servers are those of databases. One that is a file would be looked for on our own disk.
type servers struct{ database.Engines }

func (servers) check(login database.Login) error {
	if login.Engine == "sqlite" {
		return fileOfThere(login.File)
	}
	return nil
}

func (s servers) Open(ctx context.Context, login database.Login, owner database.Owner) (database.Database, error) {
	if err := s.check(login); err != nil {
		return nil, err
	}
	return s.Engines.Open(ctx, login, owner)
}

func (s servers) Create(ctx context.Context, login database.Login) error {
	if err := s.check(login); err != nil {
		return err
	}
	return s.Engines.Create(ctx, login)
}

func (s servers) Scratch(ctx context.Context, login database.Login) (database.Database, func() error, error) {
	if err := s.check(login); err != nil {
		return nil, nil, err
	}
	return s.Engines.Scratch(ctx, login)
}

func (s servers) SweepScratch(ctx context.Context, login database.Login) error {
	if err := s.check(login); err != nil {
		return err
	}
	return s.Engines.SweepScratch(ctx, login)
}

// Accounts are numbers.
func (h *Host) Accounts() host.Accounts { return numbers{&h.known} }

// numbers are users and groups of which nothing else is known.
type numbers struct{ known *known }

func (n numbers) Self(context.Context) int { return int(n.known.self.Load()) }

func (numbers) UserName(_ context.Context, user int) string { return "#" + strconv.Itoa(user) }

func (numbers) GroupName(_ context.Context, group int) string { return "#" + strconv.Itoa(group) }

// MayWrite believes what cannot be known: who is in which group.
func (numbers) MayWrite(_ context.Context, user int, entry files.Entry) bool {
	switch {
	case user == 0 || entry.Mode&0o002 != 0:
		return true
	case user == entry.Owner:
		return entry.Mode&0o200 != 0
	}
	return entry.Mode&0o020 != 0
}
