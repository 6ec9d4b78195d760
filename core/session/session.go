// Package session is one workspace and its site, opened and locked for one operation: files, database,
// store of snapshots, fetcher of pages. Begin reading at Open. Everything that is done within an
// operation is reported and recorded as a Step.
//
// It promises that no two operations work on one site, from whatever workspace.
package session

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"wetland/core/advice"
	"wetland/core/database"
	"wetland/core/durable"
	"wetland/core/errorlog"
	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/packs"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/smoke/fetching"
	"wetland/core/smoke/judging"
	"wetland/core/snapshot"
	"wetland/core/workspace"
)

// Clock lets tests turn the time that settling waits for.
type Clock interface {
	// Wait returns after d, or earlier with the context's error.
	Wait(ctx context.Context, d time.Duration) error
}

// WallClock is the real time.
type WallClock struct{}

// Wait waits.
func (WallClock) Wait(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}

// Guard is what every guarded operation needs besides its own options.
type Guard struct {
	Report progress.Reporter
	Clock  Clock
	// AskSecret asks a person for the passphrase of the store; nil: nobody is there.
	AskSecret func(what string) (string, error)
	// Patient waits out a lock that nobody renews any more, where a lock is such.
	Patient bool
	// WithoutDatabase goes on where the host lets nobody reach the site's database: what becomes of its tables is
	// not known then, and no run ends without doubts.
	WithoutDatabase bool
	// Abandon ends when even going back is to be left to recover: a second Ctrl-C.
	Abandon context.Context
}

// Fill puts what does nothing in the place of what is not given.
func (g *Guard) Fill() {
	if g.Report == nil {
		g.Report = progress.Silent{}
	}
	if g.Clock == nil {
		g.Clock = WallClock{}
	}
	if g.Abandon == nil {
		g.Abandon = context.Background()
	}
}

// Session is a site opened and locked for one operation.
type Session struct {
	Guard
	Site       *site.Site
	DB         database.Database
	NoDatabase error // why the site's tables are not in our hands, which was accepted; nil: they are, or there are none
	Components []cms.Component
	Store      *packs.Store
	Fetcher    *fetching.Fetcher
	Rules      judging.Rules
	Pages      []smoke.Page
	Stopped    func() bool // by a person; nil: nobody can
	ErrorLogs  []*errorlog.Log
	Notice     bool               // visitors see a notice while files are swapped
	Unpurged   error              // why caches could not be cleared when it was last tried
	Unemptied  error              // why it is not proved that the object cache holds no earlier settings
	Settled    *snapshot.Manifest // from after the swap, once the CMS had settled; nil: none
	Run        *runs.Run
	Journal    *runs.Journal
	Staging    bool     // there may be something beside the site
	Made       []string // staging folders, by this session
	Disabled   []string // events that came back in another name
	Compared   []*database.RowChanges
	Borrowed   bool // new files may wear the times of the old ones
	Dropped    bool // PHP dropped its compiled code at the last swap
	// GateSince is since when a gate of this session stands before the site; zero: none does.
	GateSince time.Time
	// GateForgets says that PHP keeps nothing compiled of the scripts that lead to the gate.
	GateForgets bool
	unlock      func() error
}

// holder is what the lock's owner leaves for others to read.
type holder struct {
	Who       string    `json:"who"`
	Process   int       `json:"process"`
	Workspace string    `json:"workspace"`
	Since     time.Time `json:"since"`
}

func holderFile(w *workspace.Workspace) string { return filepath.Join(w.Dir, "holder.json") }

// ErrBusy says that another guarded operation works on the site.
var ErrBusy = errors.New("another run works on this site")

// Lock takes the site, not the workspace: two workspaces of one site exclude each
// other. Whoever could not change the site cannot keep it locked.
func (s *Session) Lock(ctx context.Context) error {
	layout := s.Site.CMS.Layout()
	unlock, err := s.lockPatiently(ctx, func(user int) bool {
		return slices.ContainsFunc([]string{s.Site.Root, layout.Themes, layout.Plugins}, func(folder string) bool {
			entry, err := s.Site.Files.Lstat(ctx, folder)
			return err == nil && s.Site.Host.Accounts().MayWrite(ctx, user, entry)
		})
	})
	var lease *files.LeaseError
	if errors.As(err, &lease) {
		return fmt.Errorf("%w, or did: its lock was renewed %s ago, and is nobody's %s after that. Wait until it ends,"+
			" then try again; a recovery waits by itself", ErrBusy, lease.Age.Round(time.Second), lease.Lasts)
	}
	if errors.Is(err, files.ErrLocked) {
		err = fmt.Errorf("%w. Wait until it ends, then try again", ErrBusy)
		if other, readErr := durable.ReadJSON[holder](holderFile(s.Site.Workspace)); readErr == nil {
			err = fmt.Errorf("%w: %s, process %d, since %s. Wait until it ends, then try again", ErrBusy, other.Who,
				other.Process, other.Since.Local().Format("15:04:05"))
		}
		return err
	}
	if err != nil {
		return fmt.Errorf("lock the site: %w", err)
	}
	s.unlock = unlock
	return durable.SaveJSON(holderFile(s.Site.Workspace), holder{Who: runs.WhoAmI(), Process: os.Getpid(),
		Workspace: s.Site.Workspace.Dir, Since: time.Now()})
}

// between is how long is waited between two looks at a lock that may be nobody's soon.
const between = 2 * time.Second

// lockPatiently locks the site. Where patience is wanted, a lock that nobody renews is waited out.
func (s *Session) lockPatiently(ctx context.Context, counts func(user int) bool) (unlock func() error, err error) {
	for last := time.Duration(-1); ; {
		unlock, err = s.Site.Files.Lock(ctx, s.Site.Root, counts)
		var lease *files.LeaseError
		if !s.Patient || !errors.As(err, &lease) || lease.Age < last { // somebody renewed it
			return unlock, err
		}
		last = lease.Age
		s.Report.Begin(fmt.Sprintf("waiting until nobody can be at work any more (%s of %s)", last.Round(time.Second),
			lease.Lasts), 0, "")
		if ended := s.Clock.Wait(ctx, between); ended != nil {
			return nil, ended
		}
	}
}

// Open opens and locks the site of the workspace. What only concerns the database
// goes to the reasons, so that it is told together with the rest.
func Open(ctx context.Context, w *workspace.Workspace, guard Guard, why *runs.Reasons) (_ *Session, err error) {
	guard.Fill()
	s := &Session{Guard: guard}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.Close())
		}
	}()
	s.Site, err = site.Open(ctx, w)
	if errors.Is(err, site.ErrInsideWebRoot) {
		why.AddError(err, "Move the workspace, then try again.")
		return nil, why.Refusal()
	}
	if err != nil {
		return nil, err
	}
	var unreached error
	var apart sync.WaitGroup
	apart.Go(func() { s.DB, unreached = s.Site.OpenDatabase(ctx) })
	err = s.Prepare(ctx, why)
	apart.Wait()
	if err != nil {
		return nil, err
	}
	switch {
	case unreached == nil:
	case s.WithoutDatabase && errors.Is(unreached, errors.ErrUnsupported):
		s.NoDatabase = unreached
		s.Report.End(progress.Doubt, "database", fmt.Sprintf("not in Wetland's hands (%v): what changes in it is neither"+
			" seen nor put back", unreached))
	default:
		why.AddError(unreached, DatabaseAdvice(unreached))
	}
	if s.Components, err = s.Site.CMS.Components(ctx, s.DB); err != nil {
		return nil, err
	}
	if s.Store, err = OpenStore(ctx, w, guard); err != nil {
		why.AddError(err, "")
	}
	s.Recall()
	return s, nil
}

// Prepare locks the opened site and makes ready what looks at its pages.
func (s *Session) Prepare(ctx context.Context, why *runs.Reasons) error {
	err := s.Lock(ctx)
	if errors.Is(err, ErrBusy) {
		why.AddError(err, "")
		return why.Refusal()
	}
	if err != nil {
		return err
	}
	if s.Fetcher, err = NewFetcher(s.Site); err != nil {
		why.AddError(err, "Fix [reach] in "+workspace.ConfigName+".")
		return why.Refusal()
	}
	s.Site.Waiting = waitingOf(s.Site)
	s.Pages = Pages(s.Site.Workspace)
	s.Rules, err = RulesOf(s.Site.Workspace)
	return err
}

// FetcherOf returns the fetcher for the pages of a workspace's site, without opening the site.
func FetcherOf(w *workspace.Workspace) (*fetching.Fetcher, error) {
	address, err := workspace.ParseAddress(w.Config.Site.Address)
	if err != nil {
		return nil, err
	}
	return NewFetcher(&site.Site{Workspace: w, Host: w.Host, Address: address})
}

// NewFetcher returns the fetcher for a site's pages, as its wetland.toml wants it. Its
// error says which secrets or certificates cannot be had.
func NewFetcher(s *site.Site) (*fetching.Fetcher, error) {
	config := s.Workspace.Config.Smoke
	reach, err := ReachOf(s.Workspace.Config.Reach)
	if err != nil {
		return nil, err
	}
	if s.Workspace.Config.Reach.FromHost {
		reach.Dial = s.Host.Dial
	}
	program := config.Browser
	switch program {
	case "":
		program = smoke.AnyBrowser
	case "none":
		program = ""
	}
	return &fetching.Fetcher{Address: s.Address, Concurrency: config.Concurrency, Timeout: config.Timeout.Duration,
		BrowserProgram: program, MostSeen: config.BrowserPages, Reach: reach}, nil
}

// ReachOf reads the secrets and certificates with which a site is reached.
func ReachOf(config workspace.ReachConfig) (reach fetching.Reach, err error) {
	var problems []error
	secret := func(setting, from string) string {
		if from == "" {
			return ""
		}
		value, err := workspace.ReadSecret(setting, from)
		problems = append(problems, err)
		return value
	}
	reach = fetching.Reach{Server: config.Server, Alone: config.Alone, User: config.User,
		Password: secret("[reach] password_from", config.PasswordFrom)}
	reach.Trusted, err = config.TrustedCertificates()
	problems = append(problems, err)
	if in := config.SignIn; in.Path != "" {
		fields := maps.Clone(in.Fields)
		if fields == nil {
			fields = map[string]string{}
		}
		fields[in.PasswordField] = secret("[reach.sign_in] password_from", in.PasswordFrom)
		reach.SignIn = &fetching.SignIn{Path: in.Path, Fields: fields}
	}
	return reach, errors.Join(problems...)
}

// Pages returns the pages that a workspace names.
func Pages(w *workspace.Workspace) []smoke.Page {
	var pages []smoke.Page
	for _, page := range w.Config.Pages {
		pages = append(pages, smoke.Page{
			Path: page.Path, Expect: page.Expect, Has: page.Has, HasNot: page.HasNot, Ignore: page.Ignore,
			Status: page.Status, LeadsTo: page.LeadsTo, Within: page.TimeLimit.Duration, SignedIn: page.SignedIn,
			InBrowser: page.InBrowser,
		})
	}
	return pages
}

// DatabaseAdvice tells what to do about a database that cannot be opened.
func DatabaseAdvice(err error) string {
	switch {
	case errors.Is(err, errors.ErrUnsupported):
		return "Ask your host for a full shell; where the tables are in a server, connections by way of the account" +
			" (forwarding) are enough. Updates and snapshots can go on with the files alone: add --without-database."
	case errors.Is(err, database.ErrDenied):
		return "Check user and password in the CMS's own settings, or give them under [database] in wetland.toml."
	case errors.Is(err, database.ErrUnreachable):
		return "Is the database server running? Check host, port or socket in the CMS's own settings, or give them under" +
			" [database] in wetland.toml."
	case errors.Is(err, database.ErrMissing):
		return "Check the database's name in the CMS's own settings, or give it under [database] in wetland.toml."
	}
	return ""
}

// Close gives up the lock and closes all that was opened. It may be called whatever is open.
func (s *Session) Close() error {
	var err error
	if s.Fetcher != nil {
		s.Fetcher.Close()
	}
	if s.Journal != nil {
		err = errors.Join(err, s.Journal.Close())
	}
	if s.Store != nil {
		err = errors.Join(err, s.Store.Close())
	}
	for _, changes := range s.Compared {
		err = errors.Join(err, changes.Close())
	}
	if s.DB != nil {
		err = errors.Join(err, s.DB.Close())
	}
	if s.unlock != nil {
		err = errors.Join(err, os.Remove(holderFile(s.Site.Workspace)), s.unlock())
	}
	if s.Site != nil {
		err = errors.Join(err, s.Site.Close())
	}
	return err
}

// Step reports and records one step of the run. do returns what came of it.
func (s *Session) Step(name string, total int64, unit string, do func() (progress.Mark, string, error)) error {
	start := time.Now()
	s.Report.Begin(name, total, unit)
	mark, detail, err := do()
	if err != nil {
		mark, detail = progress.Bad, err.Error()
		if s.Stopped != nil && s.Stopped() { // what a driver says of it tells nobody anything
			detail = "stopped"
		}
	}
	s.Report.End(mark, name, detail)
	if s.Run != nil {
		s.Run.Steps = append(s.Run.Steps, runs.Step{Name: name, Mark: mark, Detail: detail, Took: time.Since(start)})
	}
	return err
}

// Begin makes the run: from here on everything is in the journal.
func (s *Session) Begin(kind string, began runs.Began) error {
	began.WithoutDatabase = s.NoDatabase != nil
	var err error
	if s.Run, s.Journal, err = runs.New(s.Site.Workspace, kind, began); err != nil {
		return err
	}
	s.Site.Waiting = append(s.Site.Waiting, s.StagingFolders()...)
	return nil
}

// Resume goes on with a run that was interrupted, once the database's server carries out nothing more
// for it.
func (s *Session) Resume(ctx context.Context, run *runs.Run) error {
	s.Run, s.Borrowed = run, true
	if s.DB != nil {
		if err := s.DB.Sweep(ctx, nil); err != nil {
			return fmt.Errorf("wait for what the database's server carries out for the interrupted run: %w", err)
		}
	}
	if run.NamesStaging() {
		return nil // what waits there is known since the site was opened
	}
	run.Staging = runs.NewStagingName() // an older version began it
	s.Site.Waiting = append(s.Site.Waiting, s.StagingFolders()...)
	return run.Save()
}

// End records how the run ended.
func (s *Session) End(state runs.State, reason string, next ...advice.Step) (*runs.Run, error) {
	if s.NoDatabase != nil && state != runs.Stopped {
		state = state.InDoubt()
		reason += " The database was not in Wetland's hands: whether anything changed there is not known, and nothing was" +
			" put back there."
	}
	if s.Unemptied != nil && state != runs.NeedsPerson {
		state = state.InDoubt()
		reason += fmt.Sprintf(" What is not proved: that the object cache has none of the newer settings (%v).", s.Unemptied)
		next = append([]advice.Step{advice.Lead("Empty the object cache, in the CMS's dashboard or where it runs. Then"+
			" look at the site:", advice.LookAgain)}, next...)
	}
	if s.Unpurged != nil && state != runs.NeedsPerson {
		state = state.InDoubt()
		reason += fmt.Sprintf(" But the caches could not be cleared, and visitors may still get old pages: %v.", s.Unpurged)
		next = append([]advice.Step{advice.Do("Clear the caches by hand, or fix [caches] in " + workspace.ConfigName + ".")},
			next...)
	}
	s.Run.State, s.Run.Reason, s.Run.Next, s.Run.Ended = state, reason, next, time.Now().UTC()
	return s.Run, errors.Join(s.Journal.Write(runs.Ended{State: state}), s.Run.Save())
}

// Take takes a snapshot and reports it.
func (s *Session) Take(ctx context.Context, reason string) (*snapshot.Manifest, error) {
	return s.TakeOf(ctx, snapshot.Subject{Reason: reason})
}

// TakeOf takes a snapshot of the session's site.
func (s *Session) TakeOf(ctx context.Context, of snapshot.Subject) (*snapshot.Manifest, error) {
	return s.TakeAs(ctx, "snapshot", of)
}

// TakeAs takes a snapshot, and reports it as a step of the given name. Components that the subject
// does not name are those that were there when the site was opened.
func (s *Session) TakeAs(ctx context.Context, step string, of snapshot.Subject) (*snapshot.Manifest, error) {
	of.Site = s.Site
	if of.Components == nil {
		of.Components = s.Components
	}
	if s.DB != nil {
		of.Database = s.DB
	} else if s.NoDatabase != nil {
		of.NoDatabase = s.NoDatabase
	}
	if s.Run != nil {
		of.Run = s.Run.Name
	}
	if err := s.proveByTurns(ctx); err != nil {
		return nil, err
	}
	var manifest *snapshot.Manifest
	err := s.Step(step, 0, "bytes", func() (progress.Mark, string, error) {
		var err error
		if manifest, err = snapshot.Take(ctx, s.Store, of, s.Report); err != nil {
			return progress.Bad, "", fmt.Errorf("take the snapshot: %w", err)
		}
		if len(manifest.Unread) > 0 {
			return progress.Doubt, SnapshotTotals(manifest) + "; not in it: " + phrase.List(manifest.Unread, 3), nil
		}
		return progress.Good, SnapshotTotals(manifest), nil
	})
	return manifest, err
}

// TakeSnapshot takes the verified snapshot that the run stands on. The places given are about to be replaced.
func (s *Session) TakeSnapshot(ctx context.Context, reason string, replaced []string) (*snapshot.Manifest, error) {
	manifest, err := s.TakeToReturn(ctx, snapshot.Subject{Reason: reason, Replaced: replaced})
	if err != nil {
		return nil, err
	}
	if s.Run.Snapshot == "" {
		s.Run.Snapshot = manifest.Name
	}
	s.Run.Snapshots = append(s.Run.Snapshots, manifest.Name)
	// Saved now: an interrupted run must tell which snapshots it needs.
	return manifest, errors.Join(s.Journal.Write(runs.SnapshotTaken{Snapshot: manifest.Name}), s.Run.Save())
}

// SnapshotTotals says in a line what a snapshot holds.
func SnapshotTotals(m *snapshot.Manifest) string {
	count, size, tables, rows := m.Totals()
	return fmt.Sprintf("%s: %s (%s), %s (%s), verified", m.Name, phrase.Plural(count, "file"), phrase.Bytes(size),
		phrase.Plural(tables, "table"), phrase.Plural(int(rows), "row"))
}

// Shelf is the workspace's shelf of packages.
func (s *Session) Shelf() packages.Shelf { return packages.Shelf{Dir: s.Site.Workspace.Shelf()} }
