//go:build !linux

package confine

import (
	"context"
	"errors"
	"io"
	"net"
)

// line is that to a keeper.
type line struct{ io.ReadWriteCloser }

func (line) complaint() string { return "" }

func start(context.Context, string, World) (*line, error) { return nil, ErrNotOffered }

// DialSocket connects to a socket of the world from outside of it.
func (World) DialSocket(context.Context, string) (net.Conn, error) { return nil, ErrNotOffered }

func enter(World) error { return ErrNotOffered }

func run(context.Context, World, string, ...string) (string, error) {
	return "", errors.ErrUnsupported
}
