package host_test

import (
	"context"
	"errors"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"

	"wetland/core/database/databasetest"
	"wetland/core/host"
	"wetland/core/host/hosttest"
)

// here is this machine, with a database.
func here(t *testing.T) hosttest.Place {
	place := hosttest.Here(t, host.Here)
	place.Engine = &databasetest.Engine{Empty: databasetest.EmptySQLite}
	return place
}

func TestHere(t *testing.T) { hosttest.TestHost(t, here(t)) }

// unable is a host that lets files be moved, and nothing else.
type unable struct{ host.Host }

func (unable) Abilities() host.Abilities { return host.Abilities{} }

func (unable) Dial(context.Context, string, string) (net.Conn, error) {
	return nil, errors.ErrUnsupported
}

func (unable) Run(context.Context, string, ...string) (string, error) {
	return "", errors.ErrUnsupported
}

func (unable) PutTemporary(context.Context, string, []byte) (string, func() error, error) {
	return "", nil, errors.ErrUnsupported
}

// What a host cannot do is not held against it as long as it says so.
func TestHostWithoutPrograms(t *testing.T) {
	place := here(t)
	place.Host = unable{host.Here}
	place.Echo, place.Nobody, place.Print, place.Fail, place.Environment = nil, nil, "", nil, ""
	for law, broken := range hosttest.Broken(t.Context(), place) {
		t.Errorf("%s: %v", law, broken)
	}
}

// Each of these hosts has one fault, which a law has to find.
type faulty struct {
	host.Host
	run  func(ctx context.Context, program string, args ...string) (string, error)
	put  func(ctx context.Context, ending string, content []byte) (string, func() error, error)
	dial func(ctx context.Context, network, address string) (net.Conn, error)
	can  *host.Abilities
}

func (f faulty) Run(ctx context.Context, program string, args ...string) (string, error) {
	if f.run == nil {
		return f.Host.Run(ctx, program, args...)
	}
	return f.run(ctx, program, args...)
}

func (f faulty) PutTemporary(ctx context.Context, ending string, content []byte) (string, func() error, error) {
	if f.put == nil {
		return f.Host.PutTemporary(ctx, ending, content)
	}
	return f.put(ctx, ending, content)
}

func (f faulty) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	if f.dial == nil {
		return f.Host.Dial(ctx, network, address)
	}
	return f.dial(ctx, network, address)
}

func (f faulty) Abilities() host.Abilities {
	if f.can != nil {
		return *f.can
	}
	return f.Host.Abilities()
}

// loud is a connection by which everything is said in capitals.
type loud struct{ net.Conn }

func (l loud) Write(p []byte) (int, error) { return l.Conn.Write([]byte(strings.ToUpper(string(p)))) }

func TestFaultyHostsAreFound(t *testing.T) {
	for law, fault := range map[string]faulty{
		"a program gets its arguments as they are": {run: func(ctx context.Context, program string, args ...string) (string, error) {
			out, err := exec.CommandContext(ctx, "sh", "-c", program+" "+strings.Join(args, " ")).Output()
			return string(out), err
		}},
		"no secret reaches a program": {run: func(ctx context.Context, program string, args ...string) (string, error) {
			out, err := exec.CommandContext(ctx, program, args...).Output()
			return string(out), err
		}},
		"a program that is not there": {run: func(context.Context, string, ...string) (string, error) { return "", nil }},
		"a program that fails":        {run: func(context.Context, string, ...string) (string, error) { return "", errors.New("exit status 3") }},
		"a temporary file": {put: func(ctx context.Context, ending string, content []byte) (string, func() error, error) {
			name, _, err := host.Here.PutTemporary(ctx, ending, content)
			t.Cleanup(func() { _ = os.Remove(name) })
			return name, func() error { return nil }, err
		}},
		"what is said comes back": {dial: func(ctx context.Context, network, address string) (net.Conn, error) {
			connection, err := host.Here.Dial(ctx, network, address)
			return loud{connection}, err
		}},
		"nobody listens": {dial: func(ctx context.Context, network, address string) (net.Conn, error) {
			connection, err := host.Here.Dial(ctx, network, address)
			if err != nil {
				err = errors.New("it does not work")
			}
			return connection, err
		}},
		"a context that has ended": {dial: func(ctx context.Context, network, address string) (net.Conn, error) {
			return host.Here.Dial(context.WithoutCancel(ctx), network, address)
		}},
		"abilities": {can: &host.Abilities{Dial: true, Temporary: true}},
	} {
		place := here(t)
		fault.Host = host.Here
		place.Host = fault
		if hosttest.Broken(t.Context(), place)[law] == nil {
			t.Errorf("%s: nothing is found", law)
		}
	}
}
