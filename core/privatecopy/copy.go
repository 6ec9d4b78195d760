// Package privatecopy brings a snapshot of a site up on a machine, for Wetland alone: its files at their
// own places, its tables in a database server of its own, its pages answered by a server of its own, in a
// world (package confine) that nothing leaves and nobody else reaches. Begin reading at BringUp.
//
// The copy is a host like others (Copy.Workspace): what is done to a site can be done to it, and no byte of
// it, nor any setting, needs to be another than on the site.
package privatecopy

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"wetland/core/archive"
	"wetland/core/confine"
	"wetland/core/database"
	"wetland/core/durable"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/packs"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/phppool"
	"wetland/core/snapshot"
	"wetland/core/workspace"
)

// Options say what is brought up.
type Options struct {
	session.Guard
	Of       *workspace.Workspace // the site's
	Store    *packs.Store
	Snapshot *snapshot.Manifest
	// On is the machine that the copy is made on; nil: this one.
	On      host.Confiner
	Servers Servers
	// Site is the site itself, where the snapshot is of this moment: what is still as in it is taken from
	// there if it is on the same machine. nil: all is taken from the store.
	Site *site.Site
	// Login is how the site logs in to its database now: the copy's server is found where that says. nil:
	// nobody knows, and the snapshot's files tell.
	Login *database.Login
	// TableSettings are those of the site's database server; nil: they are not known. See TableSettings.
	TableSettings map[string]string
	// PHP is what the site's own pool of PHP said of itself; nil: it could not be asked.
	PHP *phppool.About
}

// Servers are programs of this machine that serve the pages of copies on it.
type Servers struct {
	// Of serve those of sites, by the name of their CMS; where there is none, PHP does.
	Of map[string]Server
	// Front is that of host.Machine.
	Front []string
}

// Server is a program that serves a site's pages.
type Server struct {
	// Program serves the site at root to whoever asks at the address, HOST:PORT.
	Program func(root, address string) []string
	Shown   []string // files of this machine that it needs
}

// Copy is a snapshot that was brought up.
type Copy struct {
	// Workspace is that of the copy: for whatever is done to it.
	Workspace *workspace.Workspace
	// Differs says in what the copy is not as the site.
	Differs []string
	PHP     string // the version that answers for its pages; "": PHP does not
	folder  string // of this machine, for what is the copy's and not in its world
	leave   func() error
	host    host.Host
	servers []*server
}

// Close ends all that runs in the copy, and takes it away.
func (c *Copy) Close() error {
	var err error
	if c.host != nil {
		err = c.host.Close()
	}
	for _, one := range c.servers {
		<-one.ended
	}
	if c.leave != nil {
		err = errors.Join(err, c.leave())
	}
	return err
}

// bringing is a copy that is being brought up.
type bringing struct {
	Options
	*Copy
	machine host.Machine
	opened  *site.Site // the copy
	world   host.World
	top     string       // the machine's folder that is the root of the world
	disk    *files.Roots // of the world
	lock    sync.Mutex   // for what differs
	// phpSocket is where PHP finds the database's server if the settings just say "localhost"; "": anywhere
	phpSocket string
	tls       *certificate // nil: the site is asked without TLS
}

// BringUp brings a snapshot up, and returns once its pages can be asked for. What the machine lacks for
// it is told all at once, as a *runs.Refusal. Nothing of the site is touched.
func BringUp(ctx context.Context, o Options) (_ *Copy, err error) {
	o.Guard.Fill()
	b := &bringing{Options: o, Copy: &Copy{}, disk: &files.Roots{}}
	if b.folder, b.leave, err = confine.NewRoom(ctx, o.Of.Copies()); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, b.Close())
		}
	}()
	if b.On == nil {
		b.On = confine.On(b.folder, b.Servers.Front)
	}
	var why runs.Reasons
	b.machine, err = b.On.Machine(ctx)
	if errors.Is(err, host.ErrNotConfined) {
		b.addNotConfined(&why, err)
		return nil, why.Refusal()
	}
	if err != nil {
		return nil, err
	}
	b.checkMachine(&why)
	b.checkSpace(&why)
	if err := why.Refusal(); err != nil {
		return nil, err
	}
	count, size, tables, rows := o.Snapshot.Totals()
	o.Report.Begin("copy", size, "bytes")
	began := time.Now()
	if err := errors.Join(b.fill(ctx), b.disk.Close()); err != nil {
		return nil, err
	}
	o.Report.End(progress.Good, "copy", fmt.Sprintf("%s (%s), %s (%s) as in %s; up on %s after %s, for Wetland alone",
		phrase.Plural(count, "file"), phrase.Bytes(size), phrase.Plural(tables, "table"), phrase.Plural(int(rows), "row"), o.Snapshot.Name, b.where(), phrase.Live(time.Since(began))))
	return b.Copy, nil
}

// differs notes in what the copy is not as the site.
func (b *bringing) differs(how string) {
	b.lock.Lock()
	defer b.lock.Unlock()
	b.Copy.Differs = append(b.Copy.Differs, how)
}

// fill makes the copy. Its world comes first: from then on, nothing that a snapshot holds leads out of it.
func (b *bringing) fill(ctx context.Context) error {
	if err := b.enter(ctx); err != nil {
		return err
	}
	apart, inner := errgroup.WithContext(ctx)
	apart.Go(func() error { return b.putFiles(inner) })
	apart.Go(func() error {
		err := b.makeDatabase(inner)
		if err == nil && b.isEarly() {
			err = b.putTables(inner, ctx, *b.Login)
		}
		return err
	})
	if err := apart.Wait(); err != nil {
		return err
	}
	b.Copy.Workspace = b.Of.Copy(filepath.Join(b.folder, "care"), b.host)
	if err := durable.MkdirAll(b.Copy.Workspace.Dir); err != nil {
		return err
	}
	recorded, err := os.ReadFile(b.Of.Baseline())
	if err == nil { // how pages were recorded spares a look
		err = durable.WriteFile(b.Copy.Workspace.Baseline(), recorded)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if b.opened, err = site.Open(ctx, b.Copy.Workspace); err != nil {
		return fmt.Errorf("open the copy: %w", err)
	}
	defer func() { _ = b.opened.Close() }()
	login := b.Login
	if !b.isEarly() && len(b.Snapshot.Tables) > 0 {
		found, err := b.opened.Login()
		if err != nil {
			return err
		}
		login = &found
	}
	apart, inner = errgroup.WithContext(ctx)
	if !b.isEarly() && login != nil && len(b.Snapshot.Tables) > 0 {
		apart.Go(func() error { return b.putTables(inner, ctx, *login) })
	}
	apart.Go(func() error { return b.servePages(inner, ctx, login) })
	return apart.Wait()
}

// isEarly tells of tables that are loaded while the files are written: that needs to know how the site logs
// in, and is so where the snapshot is of this moment.
func (b *bringing) isEarly() bool { return b.needsServer() && b.Login != nil && b.Site != nil }

// enter starts the copy's world.
func (b *bringing) enter(ctx context.Context) (err error) {
	if b.world, err = b.makeWorld(); err != nil {
		return err
	}
	entered, top, err := confine.Enter(ctx, b.On, b.world)
	if errors.Is(err, host.ErrNotConfined) {
		var why runs.Reasons
		b.addNotConfined(&why, err)
		return why.Refusal()
	}
	if err != nil {
		return err
	}
	b.host, b.top = entered, top
	b.disk, err = files.NewRoots(ctx, b.host, "/")
	return err
}

func (b *bringing) addNotConfined(why *runs.Reasons, err error) {
	why.Add(b.where()+" offers "+err.Error(), "A copy whose plugins could send mails or change the site is not made. Linux from 5.12 on offers what is needed; a host may have switched it off (user namespaces). Rehearse on a machine that has it.")
}

// forAll is the mode of folders that all programs of a world may enter: nobody else gets as far as there.
const forAll = 0o755

// put writes a file of ours into the world, which only its programs' user can read.
func (b *bringing) put(ctx context.Context, name, text string) error {
	if err := files.MakeAll(ctx, b.disk, path.Dir(name), forAll); err != nil {
		return err
	}
	with := files.Attributes{Mode: 0o600, Owner: files.Unowned, Group: files.Unowned}
	if b.disk.CanOwn(b.world.User, b.world.Group) {
		with.Owner, with.Group = b.world.User, b.world.Group
	}
	file, err := b.disk.Create(ctx, name, with)
	if err != nil {
		return err
	}
	_, err = io.WriteString(file, text)
	return errors.Join(err, file.Close())
}

// putTables starts a server for the tables, if they need one, and loads them.
func (b *bringing) putTables(ctx, alive context.Context, login database.Login) error {
	if login.Engine != "sqlite" {
		if err := b.startDatabase(ctx, alive, login); err != nil {
			return err
		}
	}
	return b.load(ctx, login)
}

func (b *bringing) load(ctx context.Context, login database.Login) error {
	db, err := b.openDatabase(ctx, login)
	if err != nil {
		return fmt.Errorf("open the copy's database: %w", err)
	}
	err = archive.LoadAll(ctx, b.Store, b.Snapshot, db)
	if err == nil && login.Engine != "sqlite" {
		err = errors.Join(b.compareEngine(ctx, db), b.settleTables(ctx, db))
	}
	if err != nil {
		return errors.Join(fmt.Errorf("load the tables into the copy: %w", err), db.Close())
	}
	return db.Close()
}
