// Package confine runs programs in a world of their own: they see the folders that they are given, and
// nothing else of the machine; they reach each other, and no network; and what they start ends with them.
// Begin reading at Enter.
//
// It promises that nothing outside of the world is written by what runs in it, whoever wrote it, and
// that a world without these bounds is never made: where the system does not offer them, that is
// host.ErrNotConfined.
package confine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"

	"wetland/core/boundary"
	"wetland/core/host"
	"wetland/core/remote"
	"wetland/core/scratch"
)

// System are the folders of a machine that programs need to run.
func System() []string {
	return []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/etc", "/opt"}
}

// keeperVariable tells this program, in the environment, that it is to keep a world.
const keeperVariable = "WETLAND_KEEPS_A_COPY"

// IsKeeper tells whether this process was started to keep a world.
func IsKeeper() bool { return os.Getenv(keeperVariable) != "" }

// order is what a keeper is told first: the world to make, in the folder Top of the machine.
type order struct {
	Top   string     `json:"top"`
	World host.World `json:"world"`
}

// Keep makes the world that it is told of, from within, and does what a desk asks for in it, until the
// streams end. It is for a process for which IsKeeper is true, and that does nothing else.
func Keep(ctx context.Context, in io.ReadCloser, out io.WriteCloser) error {
	_ = os.Unsetenv(keeperVariable)
	var o order
	err := readLine(in, &o)
	if err == nil {
		err = enter(o)
	}
	said := answer{}
	if err != nil {
		said.Problem = err.Error()
	}
	if writeErr := json.NewEncoder(out).Encode(said); err != nil || writeErr != nil {
		return errors.Join(err, writeErr)
	}
	w := o.World
	if w.TLS != "" {
		if err := serveTLS(ctx, w); err != nil {
			return err
		}
	}
	return remote.Serve(ctx, remote.Both(in, out), func(context.Context, boundary.Site) (host.Host, error) {
		return inside{host.Here, w}, nil
	})
}

// answer is what a keeper says first.
type answer struct {
	Problem string `json:"problem,omitempty"`
}

// readLine reads one line of JSON, and not a byte more.
func readLine(from io.Reader, into any) error {
	var line []byte
	for one := make([]byte, 1); ; {
		if _, err := io.ReadFull(from, one); err != nil {
			return err
		}
		if one[0] == '\n' {
			return json.Unmarshal(line, into)
		}
		line = append(line, one[0])
	}
}

// Enter makes a world on a machine, and returns it as a host: its files, what listens in it, and programs
// that run there as whom it names; and the machine's folder that is its root. All of it is gone when the host
// is closed, or this process ends.
func Enter(ctx context.Context, on host.Confiner, w host.World) (_ host.Host, top string, err error) {
	line, top, err := on.Confine(ctx, w)
	if err != nil {
		return nil, "", err
	}
	kept, err := remote.Dial(ctx, line, "", boundary.Site{})
	if err != nil {
		return nil, "", errors.Join(err, line.Close())
	}
	return inWorld{kept, line}, top, nil
}

// inWorld is a world as a host.
type inWorld struct {
	*remote.Host
	line io.Closer
}

// Close ends the world, and waits until it is gone.
func (i inWorld) Close() error { return errors.Join(i.Host.Close(), i.line.Close()) }

// Offered tells whether a world can be made here, by making one; else why not.
func Offered(ctx context.Context) (err error) {
	rooms, err := scratch.Folder()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(rooms)) }()
	on, _, err := Enter(ctx, On(rooms, nil), host.World{Shown: System(), User: os.Geteuid(), Group: os.Getegid()})
	if err != nil {
		return err
	}
	return on.Close()
}

// inside is the host within a world.
type inside struct {
	host.Host
	world host.World
}

// Run runs a program as whom the world names.
func (i inside) Run(ctx context.Context, program string, args ...string) (string, error) {
	return run(ctx, i.world, program, args...)
}

// hostsOf is the text of a world's own file of hosts.
func hostsOf(w host.World) string {
	var b strings.Builder
	b.WriteString("127.0.0.1 localhost\n::1 localhost\n")
	for _, name := range w.Names {
		if !strings.ContainsAny(name, " \t\n#") {
			fmt.Fprintf(&b, "127.0.0.1 %s\n", name)
		}
	}
	return b.String()
}

// own is a name of the world as the machine has it.
func (o order) own(name string) string { return path.Join(o.Top, path.Clean("/"+name)) }
