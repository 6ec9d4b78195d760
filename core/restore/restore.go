// Package restore brings a site, or a part of it, back to a snapshot, and proves it. Begin reading at
// Restore; Recover goes on with one that was interrupted, MakeCopy makes a copy elsewhere.
package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"wetland/core/advice"
	"wetland/core/caches"
	"wetland/core/database"
	"wetland/core/deploy"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/preflight"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/snapshot"
	"wetland/core/tables"
	"wetland/core/workspace"
)

// Options says which snapshot to go back to, and how far.
type Options struct {
	session.Guard
	Snapshot string
	// Only restores a part: "files", "database", the folder of a theme or plugin, or
	// the name of a table; empty: all of it.
	Only string
	// KeepNew keeps what visitors wrote since: their rows, and uploads.
	KeepNew  bool
	AllowGap bool
	// AllowElsewhere writes to folders that are not the site's own now, where the snapshot says
	// that they were.
	AllowElsewhere bool
	// Confirm is shown what will change and decides; nil: yes.
	Confirm func(*Plan) bool
}

// Plan is what a restore will change.
type Plan struct {
	Snapshot   string   `json:"snapshot"`
	Write      []string `json:"write"`      // files, folders and links to be written or given back their attributes
	Remove     []string `json:"remove"`     // what the snapshot does not know
	Components []string `json:"components"` // folders that are swapped whole
	Tables     []string `json:"tables"`     // put back
	Aside      []string `json:"aside"`      // tables to be set aside
	// Newer says what visitors wrote since, and what becomes of it.
	Newer []runs.TableNote `json:"newer,omitempty"`
	// Unread lists what is there now and cannot be read: it cannot be brought back.
	Unread []string `json:"unread,omitempty"`
}

// Empty tells whether the site is as in the snapshot already.
func (p *Plan) Empty() bool {
	return len(p.Write)+len(p.Remove)+len(p.Components)+len(p.Tables)+len(p.Aside) == 0
}

// restoration is one restore under way.
type restoration struct {
	*session.Session
	options      Options
	manifest     *snapshot.Manifest
	scope        scope
	plan         Plan
	swaps        []string // component folders, absolute
	loose        []deploy.LooseChange
	tables       database.Change
	kept         map[string][]tables.KeptRows // rows of visitors that stay, by table
	loaded       bool                         // the tables were put back, and read back before they were switched
	again        bool                         // it goes on with one that was interrupted
	beforeUpdate *snapshot.Manifest           // right before that update
	before       *snapshot.Manifest           // of the state that is being replaced
	// undoFiles names the snapshot of the dead site's files, if the tables are in another.
	undoFiles string
	// remembered says that the site's files could not tell what it is: it is opened
	// anew once they are back.
	remembered bool
}

// Restore makes the site's files and tables equal to a snapshot, and proves it.
// The present state is snapshot first, as far as it can be read. Errors and runs are
// as with Update.
func Restore(ctx context.Context, w *workspace.Workspace, o Options) (run *runs.Run, err error) {
	var why runs.Reasons
	r, err := openRestoration(ctx, w, o, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, r.Close()) }()
	if open, err := runs.Unsettled(w); err != nil {
		return nil, err
	} else if open != nil && open.Kind == "restore" && open.State == runs.UnderWay {
		why.Advise(fmt.Sprintf("%s was interrupted and is not settled", open.Name), advice.Lead("Run:", advice.Recover))
	}
	if err := why.Refusal(); err != nil {
		return nil, err
	}
	if err := r.Begin("restore", runs.Began{Wanted: o.Snapshot, Only: o.Only, KeepNew: o.KeepNew}); err != nil {
		return nil, err
	}
	return r.carryOut(ctx)
}

// openRestoration opens a site in whatever state it is: where its files cannot tell
// what it is, by what the snapshot noted; where its database is gone, with a new one.
func openRestoration(
	ctx context.Context, w *workspace.Workspace, o Options, why *runs.Reasons,
) (_ *restoration, err error) {
	o.Guard.Fill()
	s := &session.Session{Guard: o.Guard}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.Close())
		}
	}()
	if s.Store, err = session.OpenStore(ctx, w, o.Guard); err != nil {
		return nil, err
	}
	r := &restoration{Session: s, options: o}
	r.manifest, err = snapshot.Load(ctx, s.Store, o.Snapshot)
	if errors.Is(err, snapshot.ErrNoSnapshot) {
		return nil, err
	}
	if err != nil {
		why.Advise(fmt.Sprintf("%s is damaged: %v", o.Snapshot, err), chooseAnother)
		return nil, why.Refusal()
	}
	session.TellOrigin(s.Store, r.manifest, s.Guard)
	if err := r.openSite(ctx, w, why); err != nil {
		return nil, err
	}
	if err := r.acceptRoot(ctx, why); err != nil {
		return nil, err
	}
	r.acceptFolders(why)
	if r.scope, err = r.readScope(ctx, o.Only); err != nil {
		why.AddError(err, "")
	}
	r.leaveUnread(why)
	switch {
	case r.remembered:
	case r.scope.database:
		r.openTables(ctx, why)
	default: // for the snapshot of the present state alone
		if s.DB, err = s.Site.OpenDatabase(ctx); err != nil {
			s.DB = nil
		}
	}
	s.Recall()
	s.Components, err = s.Site.CMS.Components(ctx, s.DB)
	if err != nil { // whatever is wrong with it, the snapshot will put it right
		s.Components = r.manifest.Components
	}
	return r, nil
}

// openSite opens and locks the site, if need be by what the snapshot noted of it.
func (r *restoration) openSite(ctx context.Context, w *workspace.Workspace, why *runs.Reasons) (err error) {
	r.Site, err = site.Open(ctx, w)
	if errors.Is(err, site.ErrInsideWebRoot) {
		why.AddError(err, "Move the workspace, then try again.")
		return why.Refusal()
	}
	if errors.Is(err, host.ErrUnreachable) {
		return err
	}
	if err != nil {
		if r.Site, err = r.remember(ctx, w, err); err != nil {
			return err
		}
		r.remembered = true
	}
	return r.Prepare(ctx, why)
}

// leaveUnread keeps a snapshot that could not read the database from being taken for one
// of a site without tables.
func (r *restoration) leaveUnread(why *runs.Reasons) {
	if r.manifest.Engine != "" || !r.scope.database {
		return
	}
	if !r.scope.files {
		why.Advise(r.manifest.Name+" holds no tables: the database could not be read when it was taken", chooseAnother)
	}
	r.scope.database = false
	r.Report.End(progress.Note, "tables", "they stay as they are: the database could not be read when "+r.manifest.Name+
		" was taken")
}

// remember opens a dead site by what the snapshot noted.
func (r *restoration) remember(ctx context.Context, w *workspace.Workspace, dead error) (*site.Site, error) {
	if len(r.manifest.Layout.Areas) == 0 || r.manifest.Root != host.Whole(w.Host, path.Clean(w.Folder)) {
		return nil, dead
	}
	r.options.Report.End(progress.Doubt, "dead site", fmt.Sprintf("%v. Its files come back first, by what %s noted of"+
		" the site", dead, r.manifest.Name))
	known := cms.Remembered{Name: r.manifest.System, Kept: r.manifest.Layout}
	for _, table := range r.manifest.Tables {
		known.Tables = append(known.Tables, table.Name)
	}
	opened, err := site.Remember(ctx, w, host.FolderOf(r.manifest.Root), known)
	if err != nil {
		return nil, err
	}
	return opened, files.MakeAll(ctx, opened.Files, opened.Root, 0o700)
}

// openTables logs in to the database, and makes it anew if it is gone.
func (r *restoration) openTables(ctx context.Context, why *runs.Reasons) {
	var err error
	if r.DB, err = r.Site.OpenDatabase(ctx); err == nil {
		return
	}
	if errors.Is(err, database.ErrMissing) {
		err = r.Step("database", 0, "", func() (progress.Mark, string, error) {
			return progress.Doubt, "it is gone, and is made again", r.makeDatabase(ctx)
		})
		if err == nil {
			r.DB, err = r.Site.OpenDatabase(ctx)
		}
	}
	if err != nil {
		why.AddError(err, strings.TrimSpace(session.DatabaseAdvice(err)+" Or restore the files alone: --only files"))
	}
}

func (r *restoration) makeDatabase(ctx context.Context) error {
	login, err := r.Site.Login()
	if err != nil {
		return err
	}
	if login.File == "" {
		return r.Site.Host.Databases().Create(ctx, login)
	}
	above, err := r.Site.Files.Lstat(ctx, path.Dir(login.File))
	if err != nil {
		return err
	}
	file, err := r.Site.Files.Create(ctx, login.File, files.Attributes{Mode: 0o644, Owner: above.Owner,
		Group: above.Group})
	if err != nil {
		return fmt.Errorf("make the database: %w", err)
	}
	return file.Close() // the engine fills it
}

func (r *restoration) carryOut(ctx context.Context) (*runs.Run, error) {
	stop := func(err error) (*runs.Run, error) {
		run, endErr := r.End(runs.Stopped, session.StoppedWords(ctx))
		var refusal *runs.Refusal
		if errors.As(err, &refusal) || errors.Is(err, session.ErrDeclined) {
			run = nil // what is to be said is the refusal
		}
		return run, errors.Join(err, endErr)
	}
	var err error
	if r.before, err = r.salvage(ctx, "before restoring "+r.manifest.Name); err != nil {
		return stop(err)
	}
	if err := r.makePlan(ctx, r.before.Described()); err != nil {
		return stop(err)
	}
	if err := r.checkBefore(ctx); err != nil {
		return stop(err)
	}
	if !r.plan.Empty() {
		if err := r.verifyWanted(ctx); err != nil {
			return stop(err)
		}
	}
	if r.options.Confirm != nil && !r.options.Confirm(&r.plan) {
		return stop(session.ErrDeclined)
	}
	return r.finish()
}

// checkBefore refuses what would end half-way: as an update does, before anything is touched.
func (r *restoration) checkBefore(ctx context.Context) error {
	var why runs.Reasons
	deploy.CheckGap(ctx, r.Session, r.swaps, r.options.AllowGap, &why)
	size := int64(0)
	for _, item := range r.wantedItems() {
		size += item.Size
	}
	preflight.CheckRoom(ctx, r.Session, r.Site.Root, size, &why)
	if len(r.plan.Tables)+len(r.plan.Aside) > 0 {
		preflight.CheckDatabase(ctx, r.Session, &why)
	}
	return why.Refusal()
}

var chooseAnother = advice.Lead("Choose another snapshot:", advice.ListSnapshots)

// verifyWanted proves what is going to be written, before anything is touched.
func (r *restoration) verifyWanted(ctx context.Context) error {
	return r.Step("verifying", 0, "bytes", func() (progress.Mark, string, error) {
		items := r.wantedItems()
		tables := r.wantedTables()
		if err := snapshot.VerifyParts(ctx, r.Store, items, tables, r.Report); err != nil {
			if ctx.Err() != nil {
				return progress.Bad, "", err
			}
			var why runs.Reasons
			why.Advise(fmt.Sprintf("%s is damaged: %v", r.manifest.Name, err), chooseAnother)
			return progress.Bad, "", why.Refusal()
		}
		return progress.Good, fmt.Sprintf("%s: every byte of %s", r.manifest.Name, filesAndTables(len(items), len(tables))),
			nil
	})
}

// finish changes the site; it can be done again after an interruption.
func (r *restoration) finish() (*runs.Run, error) {
	if err := r.Journal.Write(runs.Restoring{Plan: r.plan}); err != nil {
		return r.fail(err)
	}
	// From here on finishing is safer than stopping half-way; a second Ctrl-C still
	// leaves it to recover.
	ctx := r.Abandon
	gate, err := r.closeGate(ctx)
	if err != nil {
		return r.fail(err)
	}
	if err := r.putFiles(ctx); err != nil {
		return r.fail(err)
	}
	if r.remembered {
		if err := r.reopen(ctx); err != nil {
			return r.fail(err)
		}
	}
	if len(r.swaps)+len(r.loose) > 0 {
		deploy.DropCompiled(ctx, r.Session)
	}
	if err := r.putTables(ctx); err != nil {
		return r.fail(err)
	}
	if err := r.openGate(ctx, gate); err != nil {
		return r.fail(fmt.Errorf("take down the gate: %w", err))
	}
	if err := r.prove(ctx); err != nil {
		return r.fail(err)
	}
	if err := errors.Join(deploy.CloseStaging(ctx, r.Session), r.sweep(ctx), r.settle(ctx)); err != nil {
		return r.fail(err)
	}
	_, judgement, err := pagecheck.Look(ctx, r.Session, "pages", runs.AfterFile, nil, nil, pagecheck.Against(r.Session,
		nil))
	if err != nil {
		return r.fail(err)
	}
	r.Run.Judgement = judgement
	r.Run.Database = append(r.Run.Database, r.plan.Newer...)
	undo := advice.Run("undoes this restore", advice.Restore, r.before.Name)
	if r.undoFiles != "" {
		undo = advice.Run("undoes the restore of the tables; the dead site's files are in "+r.undoFiles, advice.RestoreTables,
			r.before.Name)
	} else if len(r.before.Unread) > 0 {
		undo = advice.Run("undoes this restore, as far as the state before could be read", advice.Restore, r.before.Name)
	}
	if judgement.Verdict != smoke.Sound {
		return r.End(runs.KeptDoubt, fmt.Sprintf("%s as in %s, proved; but %d of %s not sound: %s.", r.scope, r.manifest.Name,
			len(judgement.Failing()), phrase.Plural(len(judgement.Pages), "page"), pagecheck.FirstFinding(judgement)), undo)
	}
	return r.End(runs.Restored, fmt.Sprintf("%s as in %s, proved, and the pages are sound.", r.scope, r.manifest.Name),
		undo)
}

// settle waits only where files changed: rows have no compiled code.
func (r *restoration) settle(ctx context.Context) error {
	if len(r.swaps)+len(r.loose) > 0 || r.remembered || r.again {
		return deploy.SettleQuietly(ctx, r.Session)
	}
	return deploy.SettleAfter(ctx, r.Session, func(context.Context) error { return nil })
}

// reopen opens the site as what it is, now that its files are back, and plans what is
// to become of the tables.
func (r *restoration) reopen(ctx context.Context) error {
	opened, err := site.Open(ctx, r.Site.Workspace)
	if err != nil {
		return fmt.Errorf("the files are back, but the site cannot be opened: %w", err)
	}
	opened.Waiting = r.Site.Waiting
	if err := r.Site.Close(); err != nil {
		return err
	}
	r.Site, r.remembered = opened, false
	if r.Fetcher, err = session.NewFetcher(opened); err != nil {
		return err
	}
	if !r.scope.database {
		return nil
	}
	var why runs.Reasons
	r.openTables(ctx, &why)
	if err := why.Refusal(); err != nil {
		return fmt.Errorf("the files are back, but not the tables: %w", err)
	}
	// Only now the tables can be read: they are kept before they are replaced.
	files := r.before
	if r.before, err = r.salvage(ctx, "before restoring the tables of "+r.manifest.Name); err != nil {
		return err
	}
	r.undoFiles = files.Name
	present, err := database.Present(ctx, r.DB)
	if err != nil {
		return err
	}
	return r.Step("comparing", rowsOf(r.differing(present)), "rows", func() (progress.Mark, string, error) {
		if err := r.planTables(ctx, r.differing(present)); err != nil {
			return progress.Bad, "", err
		}
		return progress.Good, r.planWords(), nil
	})
}

// fail ends a restore that could not be finished.
func (r *restoration) fail(cause error) (*runs.Run, error) {
	if r.Abandon.Err() != nil {
		r.Run.Reason = "You stopped it while files and tables were being restored: the restore is not complete yet."
		r.Run.Next = []advice.Step{advice.Run("goes on with the restore, and proves it", advice.Recover),
			advice.Run("goes back to the state before", advice.Restore, r.before.Name)}
		return r.Run, errors.Join(session.ErrAbandoned, r.Run.Save())
	}
	run, err := r.End(runs.NeedsPerson, "The restore was not finished: "+cause.Error(),
		advice.Run("goes on with it, once the cause is fixed", advice.Recover),
		advice.Run("goes back to the state before", advice.Restore, r.before.Name))
	return run, errors.Join(cause, err)
}

func (r *restoration) putFiles(ctx context.Context) error {
	bytes := int64(0)
	for _, item := range r.wantedItems() {
		bytes += item.Size
	}
	return r.Step("files", bytes, "bytes", func() (progress.Mark, string, error) {
		for _, folder := range r.swaps {
			if err := r.putComponent(ctx, folder); err != nil {
				return progress.Bad, "", fmt.Errorf("put back %s: %w", folder, err)
			}
		}
		if err := deploy.PutLoose(ctx, r.Session, r.loose); err != nil {
			return progress.Bad, "", err
		}
		return progress.Good, filesText(r.plan), nil
	})
}

func filesText(plan Plan) string {
	var parts []string
	for _, part := range []struct {
		n          int
		what, done string
	}{{len(plan.Components), "component", "swapped whole"}, {len(plan.Write), "path", "written"},
		{len(plan.Remove), "path", "removed"}} {
		if part.n > 0 {
			parts = append(parts, phrase.Plural(part.n, part.what)+" "+part.done)
		}
	}
	if len(parts) == 0 {
		return "as in the snapshot already"
	}
	return strings.Join(parts, ", ")
}

// putComponent swaps a whole theme or plugin, or moves one away that the snapshot
// does not know.
func (r *restoration) putComponent(ctx context.Context, live string) error {
	folder, err := deploy.OpenStaging(ctx, r.Session, live, r.options.AllowGap)
	if err != nil {
		return err
	}
	staged := path.Join(folder.Folder, r.Run.Name+"-"+path.Base(path.Dir(live))+"-"+path.Base(live))
	tree, err := r.manifest.TreeAt(live)
	if err != nil {
		return r.Site.Files.Rename(ctx, live, staged)
	}
	area, below, err := r.manifest.AreaOf(live)
	if err != nil {
		return err
	}
	if err := r.Site.Files.RemoveAll(ctx, staged); err != nil {
		return err
	}
	if err := files.WriteTree(ctx, r.Site.Files, staged, tree, snapshot.Source(ctx, r.Store, area.ItemsBelow(below)),
		r.Report.Advance); err != nil {
		return err
	}
	if err := deploy.MarkLike(ctx, r.Session, staged, tree, live); err != nil {
		return err
	}
	_, err = deploy.Swap(ctx, r.Session, live, staged, r.options.AllowGap)
	return err
}

func (r *restoration) putTables(ctx context.Context) error {
	if !r.scope.database {
		return nil
	}
	rows := int64(0)
	for _, replacement := range r.tables.Replace {
		rows += replacement.Table.Rows
	}
	return r.Step("database", rows, "rows", func() (progress.Mark, string, error) {
		if r.tables.Empty() {
			return progress.Good, phrase.Plural(len(r.manifest.Tables), "table") + " as in the snapshot already", nil
		}
		applied, err := r.DB.Apply(ctx, r.tables)
		if err != nil {
			return progress.Bad, "", err
		}
		r.loaded = true
		err = applied.Finish(ctx)
		r.plan.Newer = append(r.plan.Newer, tables.NoteDefiners(r.Session, applied)...)
		if err != nil {
			return progress.Bad, "", err
		}
		if err := r.putNewRows(ctx); err != nil {
			return progress.Bad, "", err
		}
		detail := phrase.Plural(len(r.plan.Tables), "table") + " put back"
		if aside := applied.Aside(); len(aside) > 0 {
			detail += "; set aside, not dropped: " + phrase.List(aside, 3)
		}
		return progress.Good, detail, nil
	})
}

// sweep clears what an interrupted change of tables may have left.
func (r *restoration) sweep(ctx context.Context) error {
	if r.DB == nil {
		return nil
	}
	return tables.SweepTables(ctx, r.Session, r.manifest.Tables)
}

// prove compares files and tables with the snapshot.
func (r *restoration) prove(ctx context.Context) error {
	return r.Step("proof", 0, "", func() (progress.Mark, string, error) {
		count := 0
		for _, area := range r.manifest.Areas {
			differ, files, err := r.compareArea(ctx, area)
			if err != nil {
				return progress.Bad, "", err
			}
			if len(differ) > 0 {
				return progress.Bad, "", fmt.Errorf("%s from the snapshot, the first is %s (%s)", pathsDiffer(len(differ)),
					differ[0].Path, differ[0].What)
			}
			count += files
		}
		differing, err := r.proveTables(ctx)
		if err != nil {
			return progress.Bad, "", err
		}
		// It may have come back with the snapshot's files.
		mark, objects := progress.Good, ""
		if layout := r.Site.CMS.Layout(); !r.tables.Empty() {
			layout.ObjectCache = cmp.Or(layout.ObjectCache, r.manifest.Layout.ObjectCache)
			mark, objects = caches.EmptyObjects(ctx, r.Session, layout)
		}
		return mark, fmt.Sprintf("%s equal to %s%s%s", filesAndTables(count, differing), r.manifest.Name,
			tables.LeftText(r.plan.Newer), objects), nil
	})
}

func filesAndTables(count, tables int) string {
	switch {
	case tables == 0:
		return phrase.Plural(count, "file")
	case count == 0:
		return phrase.Plural(tables, "table")
	}
	return phrase.Plural(count, "file") + " and " + phrase.Plural(tables, "table")
}

func pathsDiffer(n int) string {
	if n == 1 {
		return "1 path differs"
	}
	return fmt.Sprintf("%d paths differ", n)
}
