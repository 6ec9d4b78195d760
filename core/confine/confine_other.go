//go:build !linux

package confine

import (
	"context"
	"errors"
	"io"
	"net"

	"wetland/core/host"
)

// line is that to a keeper.
type line struct{ io.ReadWriteCloser }

func (line) complaint() string { return "" }

func start(context.Context, string) (*line, error) { return nil, host.ErrNotConfined }

// DialSocket connects to a socket of a world from outside of it.
func DialSocket(context.Context, string, string) (net.Conn, error) { return nil, host.ErrNotConfined }

func enter(order) error { return host.ErrNotConfined }

func run(context.Context, host.World, string, ...string) (string, error) {
	return "", errors.ErrUnsupported
}
