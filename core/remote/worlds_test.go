package remote

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"sync/atomic"
	"testing"

	"wetland/core/host"
)

// ground is a machine whose worlds only say back what they are told.
type ground struct {
	host.Host
	last host.World
	open atomic.Int32
	fail error
}

func (g *ground) Machine(context.Context) (host.Machine, error) {
	return host.Machine{PHP: "/usr/bin/php8.2", User: 33, Shown: []string{"/usr"}}, nil
}

func (g *ground) Confine(_ context.Context, w host.World) (io.ReadWriteCloser, string, error) {
	if g.fail != nil {
		return nil, "", g.fail
	}
	here, there := net.Pipe()
	g.last = w
	g.open.Add(1)
	go func() {
		_, _ = io.Copy(there, there)
		g.open.Add(-1)
		_ = there.Close()
	}()
	return here, "/rooms/é\xff/world", nil
}

// Worlds of a machine are made by way of its helper, and are gone once their line is closed, also with much
// still on its way.
func TestWorldsThere(t *testing.T) {
	on := &ground{Host: host.Here}
	h := dialledTo(t, on)
	if m, err := h.Machine(t.Context()); err != nil || m.PHP != "/usr/bin/php8.2" || m.User != 33 || len(m.Shown) != 1 {
		t.Errorf("the machine is %+v, %v", m, err)
	}
	line, top, err := h.Confine(t.Context(), host.World{Names: []string{"ferry.example"}, User: 33})
	if err != nil || top != "/rooms/é\xff/world" || on.last.User != 33 || len(on.last.Names) != 1 {
		t.Fatalf("%q %v, of %+v", top, err, on.last)
	}
	if _, err := line.Write([]byte("hello")); err != nil {
		t.Fatal(err)
	}
	said := make([]byte, 5)
	if _, err := io.ReadFull(line, said); err != nil || string(said) != "hello" {
		t.Fatalf("%q %v", said, err)
	}
	wrote := make(chan struct{})
	go func() {
		defer close(wrote)
		_, _ = line.Write(bytes.Repeat([]byte("much"), 1<<18)) // which nobody reads
	}()
	if err := errors.Join(line.Close(), line.Close()); err != nil {
		t.Error(err)
	}
	<-wrote
	if n := on.open.Load(); n != 0 {
		t.Errorf("%d worlds are left", n)
	}
}

// Why there is no world is told as what it is.
func TestNoWorldsThere(t *testing.T) {
	h := dialledTo(t, &ground{Host: host.Here, fail: host.ErrNotConfined})
	if _, _, err := h.Confine(t.Context(), host.World{}); !errors.Is(err, host.ErrNotConfined) {
		t.Error(err)
	}
	h = dialledTo(t, host.Here)
	if _, err := h.Machine(t.Context()); !errors.Is(err, errors.ErrUnsupported) {
		t.Error(err)
	}
	if _, _, err := h.Confine(t.Context(), host.World{}); !errors.Is(err, errors.ErrUnsupported) {
		t.Error(err)
	}
}
