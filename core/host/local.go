package host

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
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
	var said bytes.Buffer
	command.Stderr = &said
	out, err := command.Output()
	if errors.Is(err, exec.ErrNotFound) {
		return "", fmt.Errorf("run %s: %w", program, errors.Join(err, fs.ErrNotExist))
	}
	if ended := ctx.Err(); ended != nil {
		return "", ended
	}
	if err != nil {
		return "", fmt.Errorf("run %s: %w: %s", program, err, strings.TrimSpace(said.String()))
	}
	return string(out), nil
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
