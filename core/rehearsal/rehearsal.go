// Package rehearsal tries an update on a private copy of the site before any visitor sees it: by the same
// motion as on the site itself, so that it comes to the same verdict. Begin reading at Rehearse.
//
// It promises that the live site is not touched: it is read for the snapshot that the copy is made of, and
// its pages are looked at once.
package rehearsal

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"wetland/core/advice"
	"wetland/core/confine"
	"wetland/core/database"
	"wetland/core/host"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/privatecopy"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site/phppool"
	"wetland/core/smoke"
	"wetland/core/smoke/browser"
	"wetland/core/smoke/judging"
	"wetland/core/snapshot"
	"wetland/core/update"
	"wetland/core/version"
	"wetland/core/workspace"
)

// Options of a rehearsal.
type Options struct {
	update.Options
	From string // the snapshot that the copy is made of; "": one of this moment
	// Here makes the copy on this machine, though the site is on another that could have it.
	Here    bool
	Servers privatecopy.Servers
	// WithoutRows are tables that are empty on the copy: those of logs and statistics can be huge.
	WithoutRows []string
	// Show leaves the copy up after it was judged, in a browser's window for a person, until that is
	// closed, or the context ends.
	Show bool
	// asUpdate has just that be tried which the update does that comes next: what it would refuse is
	// refused, and what it passes over is passed over.
	asUpdate bool
}

// ErrNoCopy says that no copy could be made of which anything could be learnt.
var ErrNoCopy = errors.New("no private copy of the site could be made")

// noCopy says why no copy could be made, unless a person stopped it.
func noCopy(ctx context.Context, why error) error {
	if ctx.Err() != nil {
		return why
	}
	return &withoutCopy{why}
}

type withoutCopy struct{ why error }

func (w *withoutCopy) Error() string   { return ErrNoCopy.Error() + ": " + w.why.Error() }
func (w *withoutCopy) Unwrap() []error { return []error{ErrNoCopy, w.why} }

// rehearsal is one under way.
type rehearsal struct {
	Options
	live     *workspace.Workspace
	snapshot *snapshot.Manifest
	copy     *privatecopy.Copy
	present  *smoke.Take // the site's own pages, without how long they took: the machine is busy meanwhile
	note     runs.CopyNote
}

// Rehearse brings packages in on a private copy of the site, judges them there, and takes the copy away.
// Errors and runs are as with update.Update; the run is a rehearsal, and its state says how the packages
// did.
func Rehearse(ctx context.Context, w *workspace.Workspace, o Options) (*runs.Run, error) {
	o.Guard.Fill()
	return (&rehearsal{Options: o, live: w}).rehearse(ctx)
}

func (r *rehearsal) rehearse(ctx context.Context) (run *runs.Run, err error) {
	if _, err := Sweep(ctx, r.live); err != nil {
		return nil, err
	}
	if r.Show && !browser.HasScreen() {
		return nil, browser.ErrNoScreen
	}
	if r.From == "" { // else the copy tells: the site may be another by now
		if err := update.Unasked(ctx, r.live, r.trial()); err != nil {
			return nil, err
		}
	}
	if err := r.begin(ctx); err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, r.copy.Close()) }()
	return r.perform(ctx)
}

// begin brings the copy up, and looks at the live pages once. The site is locked meanwhile, and free again
// for what takes longest.
func (r *rehearsal) begin(ctx context.Context) (err error) {
	var why runs.Reasons
	s, err := session.Open(ctx, r.live, r.Guard, &why)
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, s.Close()); err != nil && r.copy != nil {
			err = errors.Join(err, r.copy.Close())
		}
	}()
	if open, err := runs.Unsettled(r.live); err != nil {
		return err
	} else if open != nil {
		why.Advise(fmt.Sprintf("%s %s", open.Name, runs.UnsettledWords[open.State]), advice.Lead("Run:", advice.Recover))
	}
	if err := why.Refusal(); err != nil {
		return err
	}
	if r.From != "" {
		r.snapshot, err = snapshot.Load(ctx, s.Store, r.From)
	} else {
		r.snapshot, err = s.Take(ctx, "for a rehearsal")
	}
	if err != nil {
		return err
	}
	brought, unknown := r.snapshot.WithoutRows(r.WithoutRows)
	for _, name := range unknown {
		why.Add(fmt.Sprintf("%s has no table %s whose rows could be left out", r.snapshot.Name, name), "Write its whole name. Those with the most rows: "+phrase.List(mostRows(r.snapshot), 5))
	}
	if err := why.Refusal(); err != nil {
		return err
	}
	r.note.Snapshot, r.note.WithoutRows = r.snapshot.Name, r.WithoutRows
	up := privatecopy.Options{Guard: r.Guard, Of: r.live, Store: s.Store, Snapshot: brought, Servers: r.Servers, PHP: aboutPHP(ctx, s)}
	if login, err := s.Site.Login(); err == nil {
		up.Login = &login
	}
	if r.From == "" {
		up.Site = s.Site
	}
	if s.DB != nil {
		if up.TableSettings, err = privatecopy.TableSettings(ctx, s.DB); err != nil {
			r.Report.End(progress.Note, "tables", err.Error())
		}
	}
	var apart sync.WaitGroup
	var unseen error
	apart.Go(func() { r.present, unseen = s.Fetcher.Glance(ctx, session.Pages(r.live)) })
	r.copy, err = bringUp(ctx, up, r.grounds()...)
	apart.Wait()
	if err != nil {
		return noCopy(ctx, err)
	}
	if unseen != nil {
		return unseen
	}
	r.present.Pages = untimed(r.present.Pages)
	r.note.Differs = r.copy.Differs
	r.comparePHP(cmp.Or(s.Fetcher.PHPVersion(ctx), r.live.Config.Site.PHP))
	return nil
}

// mostRows names the tables of a snapshot, those with the most rows first.
func mostRows(m *snapshot.Manifest) (names []string) {
	tables := m.Described()
	slices.SortStableFunc(tables, func(a, b database.Table) int { return cmp.Compare(b.Rows, a.Rows) })
	for _, table := range tables {
		names = append(names, table.Name)
	}
	return names
}

// grounds are where the copy may be made: where the site is, so that its files need not travel, or else here.
func (r *rehearsal) grounds() []host.Confiner {
	if there, able := r.live.Host.(host.Confiner); able && !r.Here {
		return []host.Confiner{there, nil}
	}
	return []host.Confiner{nil}
}

// bringUp brings a copy up on the first machine that has what it needs, and tells why another was passed over.
func bringUp(ctx context.Context, o privatecopy.Options, grounds ...host.Confiner) (*privatecopy.Copy, error) {
	for i := 0; ; i++ {
		o.On = grounds[i]
		up, err := privatecopy.BringUp(ctx, o)
		var why *runs.Refusal
		if i == len(grounds)-1 || !errors.As(err, &why) {
			return up, err
		}
		o.Report.End(progress.Note, "copy", "made elsewhere: "+reasons(why))
	}
}

// aboutPHP asks the site's own pool of PHP about itself, where it can be asked without touching the site.
func aboutPHP(ctx context.Context, s *session.Session) *phppool.About {
	where := s.Site.Workspace.Config.Site.PHPPool
	if where == "" || where == workspace.PoolByRequest {
		return nil
	}
	about, err := s.Site.Pool(where).Tell(ctx)
	if err != nil {
		s.Report.End(progress.Note, "php", fmt.Sprintf("the site's own PHP was not asked for its settings: %v", err))
		return nil
	}
	return &about
}

// comparePHP tells of another PHP than the site's: the same code may do otherwise there.
func (r *rehearsal) comparePHP(onSite string) {
	switch onCopy := r.copy.PHP; {
	case onCopy == "" || version.SameRelease(onSite, onCopy):
	case onSite == "":
		r.Report.End(progress.Note, "php", fmt.Sprintf("the copy runs PHP %s; which one the site runs is not known", onCopy))
	default:
		r.note.Differs = append(r.note.Differs, fmt.Sprintf("it runs PHP %s, and the site %s", onCopy, onSite))
	}
}

// compare holds the copy's pages, before anything is changed, against the site's. What differs is told;
// where nearly nothing is alike, nothing could be learnt from the copy.
func (r *rehearsal) compare(onCopy *smoke.Take) error {
	if r.From != "" { // the site may have changed since
		r.Report.End(progress.Note, "as the site", "not compared: "+r.snapshot.Name+" is of another time")
		return nil
	}
	rules, err := session.RulesOf(r.live)
	if err != nil {
		return err
	}
	onSite := *r.present
	onSite.Moving = append(slices.Clone(onSite.Moving), onCopy.Moving...) // it was looked at once
	onSite.Pages = slices.DeleteFunc(slices.Clone(onSite.Pages), func(f smoke.Facts) bool { _, is := onCopy.Page(f.Path); return !is })
	alike := *onCopy
	alike.Pages = untimed(onCopy.Pages)
	onCopy = &alike
	// A judgement tells of what is lost: what the copy has not, and what the site has not.
	var differ []difference
	for _, one := range []*smoke.Judgement{judging.Judge(&onSite, onCopy), judging.Judge(onCopy, &onSite)} {
		rules.Apply(one)
		for _, page := range one.Failing() {
			if !slices.ContainsFunc(differ, func(d difference) bool { return d.page == page }) {
				differ = append(differ, difference{page, pagecheck.FirstFindingOn(one, page)})
			}
		}
	}
	return r.tellDifferences(differ, onCopy)
}

// untimed leaves out how long pages took: a copy has just been started, and gives way to all else on its machine.
func untimed(pages []smoke.Facts) []smoke.Facts {
	pages = slices.Clone(pages)
	for i := range pages {
		pages[i].Took = 0
	}
	return pages
}

// difference is a page that is not on the copy as on the site, and how.
type difference struct{ page, what string }

// tellDifferences says which pages of the copy are not as on the site.
func (r *rehearsal) tellDifferences(differ []difference, onCopy *smoke.Take) error {
	pages := phrase.Plural(len(onCopy.Pages), "page")
	if len(differ) == 0 {
		r.Report.End(progress.Good, "as the site", pages+" of the copy say the same as the site's")
		return nil
	}
	var named []string
	for _, one := range differ {
		named = append(named, one.page)
	}
	words := fmt.Sprintf("%d of %s of the copy differ from the site's (%s): %s", len(differ), pages, phrase.List(named, 3), differ[0].what)
	if 2*len(differ) > len(onCopy.Pages) {
		r.Report.End(progress.Bad, "as the site", words)
		var why runs.Reasons
		why.Add("the copy does not answer as the site does, so that nothing could be learnt from it: "+words+statusWords(onCopy, differ[0].page), "See what the site has that the machine of the copy does not: modules of PHP, another version of it, rules of its web server.")
		return noCopy(context.Background(), why.Refusal())
	}
	r.note.Differs = append(r.note.Differs, words)
	r.Report.End(progress.Doubt, "as the site", words)
	return nil
}

// statusWords says how a page of the copy answers.
func statusWords(take *smoke.Take, path string) string {
	facts, ok := take.Page(path)
	if !ok {
		return ""
	}
	return fmt.Sprintf(" (%s answers %d on the copy)", path, facts.Status)
}

// trial are the options of the update on the copy.
func (r *rehearsal) trial() update.Options {
	o := r.Options.Options
	search := true // it exposes nobody
	o.Search, o.AskSearch = &search, nil
	o.Decide, o.InDoubt = nil, update.GoBack
	if r.Show { // a person is to see what is doubtful
		o.InDoubt = update.Keep
	}
	if !r.asUpdate { // on a copy it harms nobody
		o.Major, o.LoseEdits = true, true
	}
	o.Trial, o.AllowGap, o.Notice = true, true, false
	o.Looked = r.compare
	return o
}

// perform updates the copy.
func (r *rehearsal) perform(ctx context.Context) (*runs.Run, error) {
	r.Report.End(progress.Note, "on the copy", "what follows happens there alone")
	o := r.trial()
	if r.From == "" {
		o.Planned = nil // it was told
		o.Earlier = r.present
	}
	run, err := update.Update(ctx, r.copy.Workspace, o)
	if run == nil {
		return nil, err
	}
	if err = errors.Join(err, r.conclude(context.WithoutCancel(ctx), run)); err == nil && r.Show {
		err = r.show(ctx, run)
	}
	return run, err
}

// show has a person look at the copy.
func (r *rehearsal) show(ctx context.Context, run *runs.Run) error {
	fetcher, err := session.FetcherOf(r.copy.Workspace)
	if err != nil {
		return err
	}
	defer fetcher.Close()
	what := titles(run.Components)
	if run.State == runs.BrokenOnCopy {
		what = "what was before " + what // it was put back there
	}
	r.Report.End(progress.Note, "in a browser", fmt.Sprintf("%s (%s): the copy, with %s, stays up until its window is closed", run.Name, run.State, what))
	return fetcher.Show(ctx, fmt.Sprintf("This is the private copy, with %s. Nobody else sees it, and it is gone when you close this window.", what))
}

// Sweep takes away what rehearsals left that were interrupted. It returns how many copies that was.
func Sweep(ctx context.Context, w *workspace.Workspace) (int, error) {
	swept, left, err := confine.Sweep(ctx, w.Copies())
	if err != nil || swept == 0 || left > 0 { // whose rehearsal it is that is left cannot be told
		return swept, err
	}
	return swept, runs.Each(w.Rehearsals(), func(_ string, run *runs.Run, err error) error {
		if err != nil || run.State != runs.UnderWay {
			return nil
		}
		run.State, run.Reason, run.Ended = runs.Stopped, "It was interrupted."+untouched, time.Now().UTC()
		return run.Save()
	})
}
