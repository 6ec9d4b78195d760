package host

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"wetland/core/accounts"
	"wetland/core/database"
	"wetland/core/environment"
	"wetland/core/files"
)

// Here is the machine that Wetland runs on.
var Here Host = local{}

type local struct{ files.Local }

func (local) Name() string { return "" }

func (local) Abilities() Abilities { return Abilities{Dial: true, Run: true, Temporary: true} }

func (l local) Databases() Databases { return database.Engines{Dial: l.Dial} }

func (local) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, network, address)
}

func (local) Run(ctx context.Context, program string, args ...string) (string, error) {
	command := exec.CommandContext(ctx, program, args...)
	command.Env = environment.Clean()
	return Carry(ctx, command, &bytes.Buffer{}, &bytes.Buffer{}, command.Start)
}

// Said takes what a program prints.
type Said interface {
	io.Writer
	String() string
}

// Carry carries out a prepared command that start starts, and returns what it prints, and errors, as Host.Run
// does.
func Carry(ctx context.Context, command *exec.Cmd, out, complaint Said, start func() error) (string, error) {
	command.Stdout, command.Stderr = out, complaint
	err := start()
	if err == nil {
		err = command.Wait()
	}
	if errors.Is(err, exec.ErrNotFound) {
		return "", fmt.Errorf("run %s: %w", command.Args[0], errors.Join(err, fs.ErrNotExist))
	}
	if ended := ctx.Err(); ended != nil {
		return "", ended
	}
	if err != nil {
		return "", fmt.Errorf("run %s: %w: %s", command.Args[0], err, strings.TrimSpace(complaint.String()))
	}
	return out.String(), nil
}

func (local) PutTemporary(ctx context.Context, ending string, content []byte) (string, func() error, error) {
	if err := ctx.Err(); err != nil {
		return "", nil, err
	}
	name := filepath.Join(os.TempDir(), "wetland-"+strings.ToLower(rand.Text())+ending)
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return "", nil, err
	}
	remove := func() error { return os.Remove(name) }
	_, err = file.Write(content)
	if err = errors.Join(err, file.Chmod(0o644), file.Close()); err != nil { // whatever the umask is
		return "", nil, errors.Join(err, remove())
	}
	return filepath.ToSlash(name), remove, nil
}

func (local) Now() time.Time { return time.Now() }

func (local) Accounts() Accounts { return accounts.Here{} }

func (local) Close() error { return nil }

// FreeSpace returns how many bytes can be written in a folder of the machine that Wetland runs on,
// reached through links if need be.
func FreeSpace(ctx context.Context, folder string) (uint64, error) {
	real, err := Here.Real(ctx, filepath.ToSlash(folder))
	if err != nil {
		return 0, err
	}
	opened, err := Here.Open(ctx, real)
	if err != nil {
		return 0, err
	}
	defer opened.Close()
	return files.FreeSpace(ctx, opened, ".")
}
