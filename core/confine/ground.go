package confine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"wetland/core/host"
)

// Ground is this machine, for worlds that are made on it.
type Ground struct {
	host.Host
	rooms string
	front []string
}

var _ host.Confiner = Ground{}

// On is this machine, with a folder for what its worlds hold. front is host.Machine.Front.
func On(rooms string, front []string) Ground { return Ground{host.Here, rooms, front} }

// Confine makes a world, as host.Confiner does. It is kept by this program itself, started once more.
func (g Ground) Confine(ctx context.Context, w host.World) (_ io.ReadWriteCloser, top string, err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, "", err
	}
	room, leave, err := NewRoom(ctx, g.rooms)
	if err != nil {
		return nil, "", err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, leave())
		}
	}()
	top = filepath.Join(room, "world")
	if err := errors.Join(os.Mkdir(top, 0o755), os.Chmod(top, 0o755)); err != nil { // others cannot get as far as here
		return nil, "", err
	}
	top = filepath.ToSlash(top)
	started, err := start(ctx, self)
	if err != nil {
		return nil, "", err
	}
	if err := begin(ctx, started, order{top, w}); err != nil {
		return nil, "", err
	}
	return &roomed{line: started, leave: leave}, top, nil
}

// begin has a keeper make its world.
func begin(ctx context.Context, to *line, o order) error {
	stop := context.AfterFunc(ctx, func() { _ = to.Close() })
	err := json.NewEncoder(to).Encode(o)
	var said answer
	if err == nil {
		err = readLine(to, &said)
	}
	switch {
	case !stop():
		return errors.Join(ctx.Err(), to.Close())
	case err != nil:
		return errors.Join(fmt.Errorf("%w: what keeps it ended before it began%s", host.ErrNotConfined, to.complaint()), to.Close())
	case said.Problem != "":
		return errors.Join(fmt.Errorf("%w: %s", host.ErrNotConfined, said.Problem), to.Close())
	}
	return nil
}

// roomed is the line to the keeper of a world in a room.
type roomed struct {
	*line
	leave func() error
	once  sync.Once
	err   error
}

// Close ends the world, and takes its room away.
func (r *roomed) Close() error {
	r.once.Do(func() { r.err = errors.Join(r.line.Close(), r.leave()) })
	return r.err
}
