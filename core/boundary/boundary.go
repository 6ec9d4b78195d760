// Package boundary keeps whoever works on a host to one site: to the folders of the site, to what waits
// beside them for its swap, and to the site's own database. Begin reading at Keep.
//
// It promises that nothing else there is read, written, dialled or run, whoever asks.
package boundary

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"slices"
	"strings"
	"sync"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/host"
)

// grants is what may be reached on a host. All names are whole.
type grants struct {
	Folders   []string // with all that is below them
	Files     []string // may be read and changed
	Read      []string // files that may be read
	List      []string // folders that may be listed
	Resolve   []string // names whose links may be resolved
	Servers   []string // that may be dialled: the network, a space, the address; unix ones are patterns
	Databases []string // files of SQLite
	Programs  [][]string
}

// OwnPrefix begins the names of what is ours, beside the folders of a site.
const OwnPrefix = ".wetland-"

// use is what is done with a name.
type use int

const (
	look use = iota
	read
	change
)

// outside is the error for what is not allowed.
func outside(op, name string) error {
	return &fs.PathError{Op: op, Path: name, Err: files.ErrOutside}
}

// may tells whether something may be done with a name.
func (a *grants) may(how use, name string) bool {
	within := func(folder string) bool { return files.Within(name, folder) }
	switch {
	case slices.ContainsFunc(a.Folders, within) || slices.Contains(a.Files, name) || a.ours(name):
		return true
	case how != change && slices.Contains(a.Read, name):
		return true
	}
	return how == look && (slices.Contains(a.List, name) || slices.Contains(a.List, path.Dir(name)) || a.leadsOn(name))
}

// ours tells of what is ours beside the folders and files of the site.
func (a *grants) ours(name string) bool {
	return slices.ContainsFunc(slices.Concat(a.Folders, a.Files), func(allowed string) bool {
		rest, below := strings.CutPrefix(name, strings.TrimSuffix(path.Dir(allowed), "/")+"/")
		return below && strings.HasPrefix(rest, OwnPrefix)
	})
}

// leadsOn tells of folders above what is allowed.
func (a *grants) leadsOn(name string) bool {
	return slices.ContainsFunc(slices.Concat(a.Folders, a.Files, a.Read, a.List), func(allowed string) bool { return files.Within(allowed, name) })
}

// dials tells whether something may be dialled.
func (a *grants) dials(network, address string) bool {
	return slices.ContainsFunc(a.Servers, func(allowed string) bool {
		kind, where, _ := strings.Cut(allowed, " ")
		if kind != network {
			return false
		}
		fits, _ := path.Match(where, address)
		return where == address || network == "unix" && fits
	})
}

// opens tells whether a database may be opened. The name of an SQLite file has no links in it.
func (a *grants) opens(login database.Login) bool {
	switch {
	case login.Engine == "sqlite":
		return slices.Contains(a.Databases, login.File) || a.may(change, login.File)
	case login.Socket != "":
		return a.dials("unix", login.Socket)
	}
	return a.dials("tcp", net.JoinHostPort(login.Host, fmt.Sprint(login.Port)))
}

// around is a host on which nothing but what is allowed can be reached.
type around struct {
	host.Host
	lock    sync.Mutex
	allowed *grants
	worlds  []string                                  // folders of those that were made
	renew   func(ctx context.Context) (grants, error) // nil: what is allowed stays as it is
}

// now is what is allowed now. Where something is not, it is looked up anew first.
func (a *around) now(ctx context.Context, fits func(*grants) bool) (*grants, bool) {
	a.lock.Lock()
	defer a.lock.Unlock()
	if fits(a.allowed) {
		return a.allowed, true
	}
	if a.renew == nil {
		return a.allowed, false
	}
	if renewed, err := a.renew(ctx); err == nil {
		renewed.Folders = append(renewed.Folders, a.worlds...)
		a.allowed = &renewed
	}
	return a.allowed, fits(a.allowed)
}

// Real resolves what may be looked at.
func (a *around) Real(ctx context.Context, name string) (string, error) {
	_, ok := a.now(ctx, func(now *grants) bool { return now.may(look, path.Clean(name)) || slices.Contains(now.Resolve, name) })
	if !ok {
		return "", outside("resolve", name)
	}
	return a.Host.Real(ctx, name)
}

// Open opens folders that are allowed, and those that lead on to them.
func (a *around) Open(ctx context.Context, folder string) (files.FS, error) {
	folder = path.Clean(folder)
	allowed, ok := a.now(ctx, func(now *grants) bool { return now.may(look, folder) })
	if !ok {
		return nil, outside("open", folder)
	}
	opened, err := a.Host.Open(ctx, folder)
	if err != nil {
		return nil, err
	}
	return &folderOf{opened, folder, allowed}, nil
}

// Dial dials what is allowed.
func (a *around) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	if _, ok := a.now(ctx, func(now *grants) bool { return now.dials(network, address) }); !ok {
		return nil, outside("dial", address)
	}
	return a.Host.Dial(ctx, network, address)
}

// Run runs what is allowed, with just the arguments that are.
func (a *around) Run(ctx context.Context, program string, args ...string) (string, error) {
	if !slices.ContainsFunc(a.allowed.Programs, func(one []string) bool { return slices.Equal(one, append([]string{program}, args...)) }) {
		return "", outside("run", program)
	}
	return a.Host.Run(ctx, program, args...)
}

// PutTemporary makes what PHP's processes are asked to run; nothing else needs one.
func (a *around) PutTemporary(ctx context.Context, ending string, content []byte) (string, func() error, error) {
	if ending != ".php" {
		return "", nil, outside("make a temporary file", ending)
	}
	return a.Host.PutTemporary(ctx, ending, content)
}

// Machine tells of the machine's programs.
func (a *around) Machine(ctx context.Context) (host.Machine, error) {
	ground, ok := a.Host.(host.Confiner)
	if !ok {
		return host.Machine{}, errNoWorlds
	}
	return ground.Machine(ctx)
}

var errNoWorlds = fmt.Errorf("make worlds: %w", errors.ErrUnsupported)

// Confine makes a world, in which nothing of the machine is shown but programs. What it holds may be changed.
func (a *around) Confine(ctx context.Context, w host.World) (io.ReadWriteCloser, string, error) {
	ground, ok := a.Host.(host.Confiner)
	if !ok {
		return nil, "", errNoWorlds
	}
	machine, err := ground.Machine(ctx)
	if err != nil {
		return nil, "", err
	}
	for _, name := range w.Shown {
		if !slices.ContainsFunc(machine.Shown, func(folder string) bool { return files.Within(path.Clean(name), folder) }) {
			return nil, "", outside("show in a world", name)
		}
	}
	line, top, err := ground.Confine(ctx, w)
	if err != nil {
		return nil, "", err
	}
	a.lock.Lock()
	defer a.lock.Unlock()
	a.worlds = append(a.worlds, top)
	wider := *a.allowed
	wider.Folders = append(slices.Clone(wider.Folders), top)
	a.allowed = &wider
	return line, top, nil
}

// Databases are the site's own.
func (a *around) Databases() host.Databases { return databases{a.Host.Databases(), a} }

type databases struct {
	host.Databases
	around *around
}

// check refuses other databases. SQLite's engine opens files by their names: where that leads is what
// counts.
func (d databases) check(ctx context.Context, op string, login database.Login) error {
	if login.Engine == "sqlite" {
		real, err := files.RealOfExisting(ctx, d.around.Host, login.File)
		if err != nil {
			return err
		}
		login.File = real
	}
	if _, ok := d.around.now(ctx, func(now *grants) bool { return now.opens(login) }); !ok {
		return outside(op, login.String())
	}
	return nil
}

func (d databases) Open(ctx context.Context, login database.Login, owner database.Owner) (database.Database, error) {
	if err := d.check(ctx, "open the database", login); err != nil {
		return nil, err
	}
	return d.Databases.Open(ctx, login, owner)
}

func (d databases) Create(ctx context.Context, login database.Login) error {
	if err := d.check(ctx, "make the database", login); err != nil {
		return err
	}
	return d.Databases.Create(ctx, login)
}

func (d databases) Scratch(ctx context.Context, login database.Login) (database.Database, func() error, error) {
	if login.Engine != "sqlite" {
		if err := d.check(ctx, "make a database beside", login); err != nil {
			return nil, nil, err
		}
	}
	return d.Databases.Scratch(ctx, login)
}

func (d databases) SweepScratch(ctx context.Context, login database.Login) error {
	if login.Engine != "sqlite" {
		if err := d.check(ctx, "clear databases beside", login); err != nil {
			return err
		}
	}
	return d.Databases.SweepScratch(ctx, login)
}
