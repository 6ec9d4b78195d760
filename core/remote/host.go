package remote

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"time"

	"wetland/core/boundary"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/wire"
)

// Host is the machine that a helper runs on.
type Host struct {
	desk  *wire.Desk
	name  string
	ahead time.Duration // its clock, of ours
	self  int           // as whom the helper runs
}

var _ host.Confiner = (*Host)(nil)

// Dial speaks to a helper over the two directions of streams, and owns them. name is how people call
// its machine. The helper lets nothing be reached but what belongs to the site.
func Dial(ctx context.Context, streams io.ReadWriteCloser, name string, s boundary.Site) (*Host, error) {
	desk, err := wire.Dial(ctx, streams, wire.Options{Errors: known, Packed: true})
	if err != nil {
		return nil, err
	}
	var there beginning
	asked := time.Now()
	if err := desk.Do(ctx, methodBegin, request{Site: &s}, &there); err != nil {
		return nil, errors.Join(err, desk.Close())
	}
	return &Host{desk, name, time.Until(there.Now) + time.Since(asked)/2, there.Self}, nil
}

// Close ends the line, and with it the helper.
func (h *Host) Close() error { return h.desk.Close() }

// Name is how people call it.
func (h *Host) Name() string { return h.name }

// Now is the time there.
func (h *Host) Now() time.Time { return time.Now().Add(h.ahead) }

// Abilities are all.
func (h *Host) Abilities() host.Abilities {
	return host.Abilities{Dial: true, Run: true, Temporary: true}
}

// Real resolves the links in a name there.
func (h *Host) Real(ctx context.Context, name string) (string, error) {
	var real []byte
	err := h.desk.Do(ctx, methodReal, request{Name: []byte(name)}, &real)
	return string(real), err
}

// Open opens a folder there.
func (h *Host) Open(ctx context.Context, folder string) (files.FS, error) {
	var is opened
	if err := h.desk.Do(ctx, methodOpen, request{Name: []byte(folder)}, &is); err != nil {
		return nil, err
	}
	return &root{h, is}, nil
}

// Dial has the helper connect, and is that connection.
func (h *Host) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	inner, hangUp := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, hangUp) // while it is dialled
	s, err := h.begun(inner, methodDial, request{Name: []byte(address), Other: []byte(network)})
	if !stop() && err == nil {
		err = ctx.Err()
	}
	if err != nil {
		hangUp()
		if ended := ctx.Err(); ended != nil {
			err = ended
		}
		return nil, err
	}
	return connection{s, hangUp, network, address}, nil
}

// begun waits until the helper says by a byte that it has what was asked for.
func (h *Host) begun(ctx context.Context, method string, args request) (*wire.Stream, error) {
	s, err := h.desk.Call(ctx, method, args)
	if err != nil {
		return nil, err
	}
	if _, err := io.ReadFull(s, make([]byte, 1)); err != nil {
		if ended := s.Wait(ctx, nil); ended != nil {
			err = ended
		}
		return nil, err
	}
	return s, nil
}

// connection is one that the helper holds.
type connection struct {
	*wire.Stream
	hangUp           context.CancelFunc
	network, address string
}

func (c connection) Close() error {
	c.hangUp()
	return nil
}

// place is where a connection leads.
type place struct{ network, address string }

func (p place) Network() string { return p.network }
func (p place) String() string  { return p.address }

func (c connection) LocalAddr() net.Addr  { return place{c.network, "helper"} }
func (c connection) RemoteAddr() net.Addr { return place{c.network, c.address} }

// No deadlines: whoever waits too long hangs up.
func (c connection) SetDeadline(time.Time) error      { return os.ErrNoDeadline }
func (c connection) SetReadDeadline(time.Time) error  { return os.ErrNoDeadline }
func (c connection) SetWriteDeadline(time.Time) error { return os.ErrNoDeadline }

// Run runs a program there.
func (h *Host) Run(ctx context.Context, program string, args ...string) (string, error) {
	r := request{Name: []byte(program)}
	for _, arg := range args {
		r.More = append(r.More, []byte(arg))
	}
	s, err := h.desk.Call(ctx, methodRun, r)
	if err != nil {
		return "", err
	}
	said, err := io.ReadAll(s)
	if ended := s.Wait(ctx, nil); ended != nil {
		return "", ended
	}
	return string(said), err
}

// PutTemporary makes a file there that stays until remove is called, or the line ends.
func (h *Host) PutTemporary(ctx context.Context, ending string, content []byte) (string, func() error, error) {
	if err := ctx.Err(); err != nil {
		return "", nil, err
	}
	inner, giveUp := context.WithCancel(context.WithoutCancel(ctx))
	s, err := h.desk.Call(inner, methodTemporary, request{Name: []byte(ending), Number: int64(len(content))})
	if err != nil {
		giveUp()
		return "", nil, err
	}
	_, err = s.Write(content)
	var name string
	if err == nil {
		name, err = readName(s)
	}
	if err != nil {
		if ended := s.Wait(ctx, nil); ended != nil {
			err = ended
		}
		giveUp()
		return "", nil, err
	}
	return name, func() error {
		defer giveUp()
		return errors.Join(s.CloseWrite(), s.Wait(context.WithoutCancel(ctx), nil))
	}, nil
}

// Machine tells what there is on the helper's machine.
func (h *Host) Machine(ctx context.Context) (m host.Machine, err error) {
	err = h.desk.Do(ctx, methodMachine, request{}, &m)
	return m, err
}

// Confine makes a world there, which is gone when its line is closed, or this one ends.
func (h *Host) Confine(ctx context.Context, w host.World) (io.ReadWriteCloser, string, error) {
	if err := ctx.Err(); err != nil {
		return nil, "", err
	}
	inner, giveUp := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, giveUp)
	s, err := h.desk.Call(inner, methodConfine, request{World: &w})
	if err != nil {
		giveUp()
		return nil, "", err
	}
	top, err := readName(s)
	if err != nil {
		if ended := s.Wait(context.WithoutCancel(ctx), nil); ended != nil {
			err = ended
		}
	}
	if !stop() {
		err = ctx.Err()
	}
	if err != nil {
		giveUp()
		return nil, "", err
	}
	return &keeping{Stream: s, giveUp: giveUp}, top, nil
}

// keeping is the line to the keeper of a world there.
type keeping struct {
	*wire.Stream
	giveUp context.CancelFunc
	once   sync.Once
	err    error
}

// Close waits until the world is gone.
func (k *keeping) Close() error {
	k.once.Do(func() {
		defer k.giveUp()
		_ = k.CloseWrite() // the line may be broken: the helper's end takes the world along
		_, _ = io.Copy(io.Discard, k)
		k.err = ignoreEnd(k.Wait(context.Background(), nil))
	})
	return k.err
}
