// Package update is the guarded motion: it examines, snapshots, overwrites,
// tests, and keeps what is sound or puts back what was before.
package update

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/journal"
	"wetland/core/packages"
	"wetland/core/progress"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/snapshot"
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
	// Abandon ends when even going back is to be left to recover: a second Ctrl-C.
	Abandon context.Context
}

func (g *Guard) fill() {
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

// session is a site opened and locked for one operation.
type session struct {
	Guard
	site       *site.Site
	db         database.Database
	components []cms.Component
	store      *snapshot.Store
	fetcher    *smoke.Fetcher
	rules      smoke.Rules
	pages      []smoke.Page
	stopped    func() bool // by a person; nil: nobody can
	logs       []*smoke.ErrorLog
	notice     bool               // visitors see a notice while files are swapped
	unpurged   error              // why caches could not be cleared when it was last tried
	unemptied  error              // why it is not proved that the object cache holds no earlier settings
	settled    *snapshot.Manifest // from after the swap, once the CMS had settled; nil: none
	run        *Run
	log        *journal.Journal
	made       []string // staging folders, by this session
	disabled   []string // events that came back in another name
	compared   []*database.RowChanges
	dropped    bool // PHP let go of its compiled code at the last swap
	unlock     func() error
}

// holder is what the lock's owner leaves for others to read.
type holder struct {
	Who       string    `json:"who"`
	Process   int       `json:"process"`
	Workspace string    `json:"workspace"`
	Since     time.Time `json:"since"`
}

func holderFile(w *site.Workspace) string { return filepath.Join(w.Dir, "holder.json") }

// ErrBusy says that another guarded operation works on the site.
var ErrBusy = errors.New("another run works on this site")

// lock takes the site, not the workspace: two workspaces of one site exclude each
// other. Whoever could not change the site cannot keep it locked.
func (s *session) lock(ctx context.Context) error {
	layout := s.site.CMS.Layout()
	unlock, err := s.site.Files.Lock(ctx, s.site.Root, func(user int) bool {
		return slices.ContainsFunc([]string{s.site.Root, layout.Themes, layout.Plugins}, func(folder string) bool {
			entry, err := s.site.Files.Lstat(ctx, folder)
			return err == nil && site.MayWrite(user, entry)
		})
	})
	if errors.Is(err, files.ErrLocked) {
		err = fmt.Errorf("%w. Wait until it has ended, then try again", ErrBusy)
		var other holder
		if text, readErr := os.ReadFile(holderFile(s.site.Workspace)); readErr == nil && json.Unmarshal(text, &other) == nil {
			err = fmt.Errorf("%w: %s, process %d, since %s. Wait until it has ended, then try again", ErrBusy, other.Who, other.Process, other.Since.Local().Format("15:04:05"))
		}
		return err
	}
	if err != nil {
		return fmt.Errorf("lock the site: %w", err)
	}
	s.unlock = unlock
	return saveJSON(holderFile(s.site.Workspace), holder{Who: whoAmI(), Process: os.Getpid(), Workspace: s.site.Workspace.Dir, Since: time.Now()})
}

// open opens and locks the site of the workspace. What only concerns the database
// goes to the reasons, so that it is told together with the rest.
func open(ctx context.Context, w *site.Workspace, guard Guard, why *reasons) (_ *session, err error) {
	guard.fill()
	s := &session{Guard: guard}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.close())
		}
	}()
	s.site, err = site.Open(ctx, w)
	if errors.Is(err, site.ErrInsideWebRoot) {
		why.add(err.Error(), "Move the workspace, then try again.")
		return nil, why.refusal()
	}
	if err != nil {
		return nil, err
	}
	if err := s.prepare(ctx, why); err != nil {
		return nil, err
	}
	if s.db, err = s.site.OpenDatabase(ctx); err != nil {
		why.add(err.Error(), DatabaseAdvice(err))
	}
	if s.components, err = s.site.CMS.Components(ctx, s.db); err != nil {
		return nil, err
	}
	if s.store, err = openStore(w, guard); err != nil {
		why.add(err.Error(), "")
	}
	return s, nil
}

// prepare locks the opened site and makes ready what looks at its pages.
func (s *session) prepare(ctx context.Context, why *reasons) error {
	err := s.lock(ctx)
	if errors.Is(err, ErrBusy) {
		why.add(err.Error(), "")
		return why.refusal()
	}
	if err != nil {
		return err
	}
	if s.fetcher, err = NewFetcher(s.site); err != nil {
		why.add(err.Error(), "Fix [reach] in "+site.ConfigName+".")
		return why.refusal()
	}
	s.site.Waiting = waitingOf(s.site)
	s.pages = Pages(s.site.Workspace)
	s.rules, err = RulesOf(s.site.Workspace)
	return err
}

// FetcherOf returns the fetcher for the pages of a workspace's site, without opening the site.
func FetcherOf(w *site.Workspace) (*smoke.Fetcher, error) {
	address, err := site.ParseAddress(w.Config.Site.Address)
	if err != nil {
		return nil, err
	}
	return NewFetcher(&site.Site{Workspace: w, Address: address})
}

// NewFetcher returns the fetcher for a site's pages, as its wetland.toml wants it. Its
// error says which secrets or certificates cannot be had.
func NewFetcher(s *site.Site) (*smoke.Fetcher, error) {
	config := s.Workspace.Config.Smoke
	reach, err := ReachOf(s.Workspace.Config.Reach)
	if err != nil {
		return nil, err
	}
	program := config.Browser
	switch program {
	case "":
		program = smoke.AnyBrowser
	case "none":
		program = ""
	}
	return &smoke.Fetcher{Address: s.Address, AtOnce: config.AtOnce, Patience: config.Patience.Duration, BrowserProgram: program, MostSeen: config.BrowserPages, Reach: reach}, nil
}

// ReachOf reads the secrets and certificates with which a site is reached.
func ReachOf(config site.ReachConfig) (reach smoke.Reach, err error) {
	var problems []error
	secret := func(setting, from string) string {
		if from == "" {
			return ""
		}
		value, err := site.ReadSecret(setting, from)
		problems = append(problems, err)
		return value
	}
	reach = smoke.Reach{Server: config.Server, User: config.User, Password: secret("[reach] password_from", config.PasswordFrom)}
	reach.Trusted, err = config.TrustedCertificates()
	problems = append(problems, err)
	if in := config.SignIn; in.Path != "" {
		fields := maps.Clone(in.Fields)
		if fields == nil {
			fields = map[string]string{}
		}
		fields[in.PasswordField] = secret("[reach.sign_in] password_from", in.PasswordFrom)
		reach.SignIn = &smoke.SignIn{Path: in.Path, Fields: fields}
	}
	return reach, errors.Join(problems...)
}

// Pages returns the pages that a workspace names.
func Pages(w *site.Workspace) []smoke.Page {
	var pages []smoke.Page
	for _, page := range w.Config.Pages {
		pages = append(pages, smoke.Page{
			Path: page.Path, Expect: page.Expect, Has: page.Has, HasNot: page.HasNot, Ignore: page.Ignore,
			Status: page.Status, LeadsTo: page.LeadsTo, Within: page.Within.Duration, SignedIn: page.SignedIn, InBrowser: page.InBrowser,
		})
	}
	return pages
}

// DatabaseAdvice tells what to do about a database that cannot be opened.
func DatabaseAdvice(err error) string {
	switch {
	case errors.Is(err, database.ErrDenied):
		return "Check user and password in the CMS's own settings, or give them under [database] in wetland.toml."
	case errors.Is(err, database.ErrUnreachable):
		return "Is the database server running? Check host, port or socket in the CMS's own settings, or give them under [database] in wetland.toml."
	case errors.Is(err, database.ErrMissing):
		return "Check the database's name in the CMS's own settings, or give it under [database] in wetland.toml."
	}
	return ""
}

func (s *session) close() error {
	var err error
	if s.fetcher != nil {
		s.fetcher.Close()
	}
	if s.log != nil {
		err = errors.Join(err, s.log.Close())
	}
	if s.store != nil {
		err = errors.Join(err, s.store.Close())
	}
	for _, changes := range s.compared {
		err = errors.Join(err, changes.Close())
	}
	if s.db != nil {
		err = errors.Join(err, s.db.Close())
	}
	if s.unlock != nil {
		err = errors.Join(err, os.Remove(holderFile(s.site.Workspace)), s.unlock())
	}
	if s.site != nil {
		err = errors.Join(err, s.site.Close())
	}
	return err
}

// step reports and records one step of the run. do returns what came of it.
func (s *session) step(name string, total int64, unit string, do func() (progress.Mark, string, error)) error {
	start := time.Now()
	s.Report.Begin(name, total, unit)
	mark, detail, err := do()
	if err != nil {
		mark, detail = progress.Bad, err.Error()
		if s.stopped != nil && s.stopped() { // what a driver says of it tells nobody anything
			detail = "stopped"
		}
	}
	s.Report.End(mark, name, detail)
	if s.run != nil {
		s.run.Steps = append(s.run.Steps, Step{Name: name, Mark: mark, Detail: detail, Took: time.Since(start)})
	}
	return err
}

// begin makes the run: from here on everything is in the journal.
func (s *session) begin(kind string, facts any) error {
	var err error
	if s.run, s.log, err = newRun(s.site.Workspace, kind, facts); err != nil {
		return err
	}
	s.site.Waiting = append(s.site.Waiting, s.stagingFolders()...)
	return s.log.Write(stepBegin, facts)
}

// resume goes on with a run that was interrupted.
func (s *session) resume(run *Run) error {
	s.run = run
	if run.namesStaging() {
		return nil // what waits there is known since the site was opened
	}
	run.Staging = newStagingName() // an older version began it
	s.site.Waiting = append(s.site.Waiting, s.stagingFolders()...)
	return run.save()
}

// end records how the run ended.
func (s *session) end(state State, reason string, next ...string) (*Run, error) {
	if s.unemptied != nil && state != NeedsPerson {
		state = state.inDoubt()
		reason += fmt.Sprintf(" What is not proved: that the object cache has none of the newer settings (%v).", s.unemptied)
		next = append([]string{"Empty the object cache, in the CMS's dashboard or where it runs. Then look at the site: wetland smoke"}, next...)
	}
	if s.unpurged != nil && state != NeedsPerson {
		state = state.inDoubt()
		reason += fmt.Sprintf(" But the caches could not be cleared, and visitors may still get old pages: %v.", s.unpurged)
		next = append([]string{"Clear the caches by hand, or fix [caches] in " + site.ConfigName + "."}, next...)
	}
	s.run.State, s.run.Reason, s.run.Next, s.run.Ended = state, reason, next, time.Now().UTC()
	return s.run, errors.Join(s.log.Write(stepEnd, map[string]any{"state": state}), s.run.save())
}

// take takes a snapshot and reports it.
func (s *session) take(ctx context.Context, reason string) (*snapshot.Manifest, error) {
	return s.takeOf(ctx, snapshot.Subject{Reason: reason})
}

// takeOf takes a snapshot of the session's site.
func (s *session) takeOf(ctx context.Context, of snapshot.Subject) (*snapshot.Manifest, error) {
	return s.takeAs(ctx, "snapshot", of)
}

func (s *session) takeAs(ctx context.Context, step string, of snapshot.Subject) (*snapshot.Manifest, error) {
	of.Site, of.Components = s.site, s.components
	if s.db != nil {
		of.Database = s.db
	}
	if s.run != nil {
		of.Run = s.run.Name
	}
	var manifest *snapshot.Manifest
	err := s.step(step, 0, "bytes", func() (progress.Mark, string, error) {
		var err error
		if manifest, err = s.store.Take(ctx, of, s.Report); err != nil {
			return progress.Bad, "", fmt.Errorf("take the snapshot: %w", err)
		}
		if len(manifest.Unread) > 0 {
			return progress.Doubt, SnapshotTotals(manifest) + "; not in it: " + list(manifest.Unread, 3), nil
		}
		return progress.Good, SnapshotTotals(manifest), nil
	})
	return manifest, err
}

// takeSnapshot takes the verified snapshot that the run stands on.
func (s *session) takeSnapshot(ctx context.Context, reason string) (*snapshot.Manifest, error) {
	manifest, err := s.take(ctx, reason)
	if err != nil {
		return nil, err
	}
	if s.run.Snapshot == "" {
		s.run.Snapshot = manifest.Name
	}
	s.run.Snapshots = append(s.run.Snapshots, manifest.Name)
	// Saved now: an interrupted run must tell which snapshots it needs.
	return manifest, errors.Join(s.log.Write(stepSnapshot, map[string]string{"snapshot": manifest.Name}), s.run.save())
}

// SnapshotTotals says in a line what a snapshot holds.
func SnapshotTotals(m *snapshot.Manifest) string {
	count, size, tables, rows := m.Totals()
	return fmt.Sprintf("%s: %s (%s), %s (%s), verified", m.Name, plural(count, "file"), bytesText(size), plural(tables, "table"), plural(int(rows), "row"))
}

func (s *session) shelf() packages.Shelf { return packages.Shelf{Dir: s.site.Workspace.Shelf()} }
