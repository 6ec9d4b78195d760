// Package confine runs programs in a world of their own: they see the folders that they are given, and
// nothing else of the machine; they reach each other, and no network; and what they start ends with them.
// Begin reading at World.
//
// It promises that nothing outside of the world is written by what runs in it, whoever wrote it, and
// that a world without these bounds is never made: where the system does not offer them, that is
// ErrNotOffered.
package confine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"wetland/core/boundary"
	"wetland/core/host"
	"wetland/core/remote"
)

// World is what the programs in it find. All names are slash-separated and absolute.
type World struct {
	// Top is the folder of this machine that is the root of the world. What is written in the world
	// lies there.
	Top string `json:"top"`
	// Shown are files and folders of this machine that are there, too, at the same place, and can
	// only be read. What does not exist is passed over.
	Shown []string `json:"shown,omitempty"`
	// Folders are made in it.
	Folders []Folder `json:"folders,omitempty"`
	// Names are hosts, and Addresses IP addresses, that lead to the world itself.
	Names     []string `json:"names,omitempty"`
	Addresses []string `json:"addresses,omitempty"`
	// User and Group are whom programs run as. Only root can choose another than itself.
	User  int `json:"user"`
	Group int `json:"group"`
	// TLS is where connections are taken off TLS, with Certificate and Key (PEM), and passed on to
	// the port Plain: "HOST:PORT"; "": nowhere.
	TLS         string `json:"tls,omitempty"`
	Plain       string `json:"plain,omitempty"`
	Certificate []byte `json:"certificate,omitempty"`
	Key         []byte `json:"key,omitempty"`
}

// Folder is one that the world has of its own.
type Folder struct {
	Name string      `json:"name"`
	Mode fs.FileMode `json:"mode"`
	// Own tells that it belongs to whom programs run as.
	Own bool `json:"own,omitempty"`
}

// ErrNotOffered says that this system does not let a program be confined, or not whoever runs this.
var ErrNotOffered = errors.New("this machine offers no confinement")

// System are the folders of a machine that programs need to run.
func System() []string {
	return []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/etc", "/opt"}
}

// keeperVariable tells this program, in the environment, that it is to keep a world.
const keeperVariable = "WETLAND_KEEPS_A_COPY"

// IsKeeper tells whether this process was started to keep a world.
func IsKeeper() bool { return os.Getenv(keeperVariable) != "" }

// Keep makes the world that a desk names, from within, and does what the desk asks for in it, until the
// streams end. It is for a process for which IsKeeper is true, and that does nothing else.
func Keep(ctx context.Context, in io.ReadCloser, out io.WriteCloser) error {
	_ = os.Unsetenv(keeperVariable)
	var w World
	err := readLine(in, &w)
	if err == nil {
		err = enter(w)
	}
	said := answer{}
	if err != nil {
		said.Problem = err.Error()
	}
	if writeErr := json.NewEncoder(out).Encode(said); err != nil || writeErr != nil {
		return errors.Join(err, writeErr)
	}
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

// Enter starts a world, and returns it as a host: its files, what listens in it, and programs that run
// there as whom it names. All of it ends when the host is closed, or this process ends.
func Enter(ctx context.Context, w World) (host.Host, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	line, err := start(ctx, self, w)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { _ = line.Close() })
	err = json.NewEncoder(line).Encode(w)
	var said answer
	if err == nil {
		err = readLine(line, &said)
	}
	switch {
	case !stop():
		return nil, ctx.Err()
	case err != nil:
		return nil, errors.Join(fmt.Errorf("%w: what keeps it ended before it began%s", ErrNotOffered, line.complaint()), line.Close())
	case said.Problem != "":
		return nil, errors.Join(fmt.Errorf("%w: %s", ErrNotOffered, said.Problem), line.Close())
	}
	kept, err := remote.Dial(ctx, line, "", boundary.Site{})
	if err != nil {
		return nil, errors.Join(err, line.Close())
	}
	return kept, nil
}

// Offered tells whether a world can be made here, by making one; else why not.
func Offered(ctx context.Context) (err error) {
	top, err := os.MkdirTemp("", "wetland-*")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(top)) }()
	on, err := Enter(ctx, World{Top: filepath.ToSlash(top), Shown: System(), User: os.Geteuid(), Group: os.Getegid()})
	if err != nil {
		return err
	}
	return on.Close()
}

// inside is the host within a world.
type inside struct {
	host.Host
	world World
}

// Run runs a program as whom the world names.
func (i inside) Run(ctx context.Context, program string, args ...string) (string, error) {
	return run(ctx, i.world, program, args...)
}

// hosts is the text of the world's own file of hosts.
func (w World) hosts() string {
	var b strings.Builder
	b.WriteString("127.0.0.1 localhost\n::1 localhost\n")
	for _, name := range w.Names {
		if !strings.ContainsAny(name, " \t\n#") {
			fmt.Fprintf(&b, "127.0.0.1 %s\n", name)
		}
	}
	return b.String()
}

// own is a name of the world as this machine has it.
func (w World) own(name string) string { return path.Join(w.Top, path.Clean("/"+name)) }
