package update

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/progress"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/snapshot"
)

// RestoreOptions says which snapshot to go back to, and how far.
type RestoreOptions struct {
	Guard
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
	Confirm func(*RestorePlan) bool
}

// RestorePlan is what a restore will change.
type RestorePlan struct {
	Snapshot   string   `json:"snapshot"`
	Write      []string `json:"write"`      // files, folders and links to be written or given back their attributes
	Remove     []string `json:"remove"`     // what the snapshot does not know
	Components []string `json:"components"` // folders that are swapped whole
	Tables     []string `json:"tables"`     // put back
	Aside      []string `json:"aside"`      // tables to be set aside
	// Newer says what visitors wrote since, and what becomes of it.
	Newer []TableNote `json:"newer,omitempty"`
	// Unread lists what is there now and cannot be read: it cannot be brought back.
	Unread []string `json:"unread,omitempty"`
}

// Empty tells whether the site is as in the snapshot already.
func (p *RestorePlan) Empty() bool {
	return len(p.Write)+len(p.Remove)+len(p.Components)+len(p.Tables)+len(p.Aside) == 0
}

// ErrDeclined says that a person answered no.
var ErrDeclined = errors.New("not done, as you answered; nothing was changed")

// restoreFacts is what recover needs to know of a restore.
type restoreFacts struct {
	Wanted  string `json:"wanted"`
	Only    string `json:"only,omitempty"`
	KeepNew bool   `json:"keep_new,omitempty"`
}

// restoration is one restore under way.
type restoration struct {
	*session
	options      RestoreOptions
	manifest     *snapshot.Manifest
	scope        scope
	plan         RestorePlan
	swaps        []string // component folders, absolute
	loose        []looseChange
	tables       database.Change
	kept         map[string][]keptRows // rows of visitors that stay, by table
	loaded       bool                  // the tables were put back, and read back before they were switched
	again        bool                  // it goes on with one that was interrupted
	beforeUpdate *snapshot.Manifest    // right before that update
	before       *snapshot.Manifest    // of the state that is being replaced
	// undoFiles names the snapshot of the dead site's files, if the tables are in another.
	undoFiles string
	// remembered says that the site's files could not tell what it is: it is opened
	// anew once they are back.
	remembered bool
}

// looseChange is a path outside of the components that differs.
type looseChange struct {
	area snapshot.Area
	path string
	item *snapshot.Item // nil: to be removed
}

// Restore makes the site's files and tables equal to a snapshot, and proves it.
// The present state is snapshot first, as far as it can be read. Errors and runs are
// as with Update.
func Restore(ctx context.Context, w *site.Workspace, o RestoreOptions) (run *Run, err error) {
	var why reasons
	r, err := openRestoration(ctx, w, o, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, r.close()) }()
	if open, err := Unsettled(w); err != nil {
		return nil, err
	} else if open != nil && open.Kind == "restore" && open.State == UnderWay {
		why.add(fmt.Sprintf("%s was interrupted and is not settled", open.Name), "Run: wetland recover")
	}
	if err := why.refusal(); err != nil {
		return nil, err
	}
	if err := r.begin("restore", restoreFacts{Wanted: o.Snapshot, Only: o.Only, KeepNew: o.KeepNew}); err != nil {
		return nil, err
	}
	return r.carryOut(ctx)
}

// openRestoration opens a site in whatever state it is: where its files cannot tell
// what it is, by what the snapshot noted; where its database is gone, with a new one.
func openRestoration(ctx context.Context, w *site.Workspace, o RestoreOptions, why *reasons) (_ *restoration, err error) {
	o.Guard.fill()
	s := &session{Guard: o.Guard}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.close())
		}
	}()
	if s.store, err = openStore(w, o.Guard); err != nil {
		return nil, err
	}
	r := &restoration{session: s, options: o}
	r.manifest, err = s.store.Load(o.Snapshot)
	if errors.Is(err, snapshot.ErrNoSnapshot) {
		return nil, err
	}
	if err != nil {
		why.add(fmt.Sprintf("%s is damaged: %v", o.Snapshot, err), chooseAnother)
		return nil, why.refusal()
	}
	tellOrigin(s.store, r.manifest, s.Guard)
	if err := r.openSite(ctx, w, why); err != nil {
		return nil, err
	}
	if err := r.acceptRoot(ctx, why); err != nil {
		return nil, err
	}
	r.acceptFolders(why)
	if r.scope, err = r.readScope(o.Only); err != nil {
		why.add(err.Error(), "")
	}
	r.leaveUnread(why)
	switch {
	case r.remembered:
	case r.scope.database:
		r.openTables(ctx, why)
	default: // for the snapshot of the present state alone
		if s.db, err = s.site.OpenDatabase(ctx); err != nil {
			s.db = nil
		}
	}
	s.components, err = s.site.CMS.Components(ctx, s.db)
	if err != nil { // whatever is wrong with it, the snapshot will put it right
		s.components = r.manifest.Components
	}
	return r, nil
}

// openSite opens and locks the site, if need be by what the snapshot noted of it.
func (r *restoration) openSite(ctx context.Context, w *site.Workspace, why *reasons) (err error) {
	r.site, err = site.Open(ctx, w)
	if errors.Is(err, site.ErrInsideWebRoot) {
		why.add(err.Error(), "Move the workspace, then try again.")
		return why.refusal()
	}
	if err != nil {
		if r.site, err = r.remember(ctx, w, err); err != nil {
			return err
		}
		r.remembered = true
	}
	return r.prepare(ctx, why)
}

// leaveUnread keeps a snapshot that could not read the database from being taken for one
// of a site without tables.
func (r *restoration) leaveUnread(why *reasons) {
	if r.manifest.Engine != "" || !r.scope.database {
		return
	}
	if !r.scope.files {
		why.add(r.manifest.Name+" holds no tables: the database could not be read when it was taken", chooseAnother)
	}
	r.scope.database = false
	r.Report.End(progress.Note, "tables", "they stay as they are: the database could not be read when "+r.manifest.Name+" was taken")
}

// remember opens a dead site by what the snapshot noted.
func (r *restoration) remember(ctx context.Context, w *site.Workspace, dead error) (*site.Site, error) {
	if len(r.manifest.Layout.Areas) == 0 || r.manifest.Root != path.Clean(strings.ReplaceAll(w.Config.Site.Root, "\\", "/")) {
		return nil, dead
	}
	r.options.Report.End(progress.Doubt, "dead site", fmt.Sprintf("%v. Its files come back first, by what %s noted of the site", dead, r.manifest.Name))
	known := cms.Remembered{Name: r.manifest.System, Kept: r.manifest.Layout}
	for _, table := range r.manifest.Tables {
		known.Tables = append(known.Tables, table.Name)
	}
	opened, err := site.Remember(ctx, w, r.manifest.Root, known)
	if err != nil {
		return nil, err
	}
	return opened, files.MakeAll(ctx, opened.Files, r.manifest.Root)
}

// openTables logs in to the database, and makes it anew if it is gone.
func (r *restoration) openTables(ctx context.Context, why *reasons) {
	var err error
	if r.db, err = r.site.OpenDatabase(ctx); err == nil {
		return
	}
	if errors.Is(err, database.ErrMissing) {
		err = r.step("database", 0, "", func() (progress.Mark, string, error) {
			return progress.Doubt, "it is gone, and is made anew", r.makeDatabase(ctx)
		})
		if err == nil {
			r.db, err = r.site.OpenDatabase(ctx)
		}
	}
	if err != nil {
		why.add(err.Error(), strings.TrimSpace(DatabaseAdvice(err)+" Or restore the files alone: --only files"))
	}
}

func (r *restoration) makeDatabase(ctx context.Context) error {
	login, err := r.site.Login()
	if err != nil {
		return err
	}
	if login.File == "" {
		return database.Create(ctx, login)
	}
	above, err := r.site.Files.Lstat(ctx, path.Dir(login.File))
	if err != nil {
		return err
	}
	file, err := r.site.Files.Create(ctx, login.File, files.Attributes{Mode: 0o644, Owner: above.Owner, Group: above.Group})
	if err != nil {
		return fmt.Errorf("make the database: %w", err)
	}
	return file.Close() // the engine fills it
}

func (r *restoration) carryOut(ctx context.Context) (*Run, error) {
	stop := func(err error) (*Run, error) {
		run, endErr := r.end(Stopped, stoppedWords(ctx))
		var refusal *Refusal
		if errors.As(err, &refusal) || errors.Is(err, ErrDeclined) {
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
	if !r.plan.Empty() {
		if err := r.verifyWanted(ctx); err != nil {
			return stop(err)
		}
	}
	if r.options.Confirm != nil && !r.options.Confirm(&r.plan) {
		return stop(ErrDeclined)
	}
	return r.finish()
}

const chooseAnother = "Choose another snapshot: wetland history"

// verifyWanted proves what is going to be written, before anything is touched.
func (r *restoration) verifyWanted(ctx context.Context) error {
	return r.step("verifying", 0, "bytes", func() (progress.Mark, string, error) {
		items := r.wantedItems()
		tables := r.wantedTables()
		if err := r.store.VerifyParts(ctx, items, tables, r.Report); err != nil {
			if ctx.Err() != nil {
				return progress.Bad, "", err
			}
			var why reasons
			why.add(fmt.Sprintf("%s is damaged: %v", r.manifest.Name, err), chooseAnother)
			return progress.Bad, "", why.refusal()
		}
		return progress.Good, fmt.Sprintf("%s: every byte of %s", r.manifest.Name, filesAndTables(len(items), len(tables))), nil
	})
}

// finish changes the site; it can be done again after an interruption.
func (r *restoration) finish() (*Run, error) {
	if err := r.log.Write(stepRestore, r.plan); err != nil {
		return r.fail(err)
	}
	// From here on finishing is safer than stopping half-way; a second Ctrl-C still
	// leaves it to recover.
	ctx := r.Abandon
	if err := r.putFiles(ctx); err != nil {
		return r.fail(err)
	}
	if r.remembered {
		if err := r.reopen(ctx); err != nil {
			return r.fail(err)
		}
	}
	if len(r.swaps)+len(r.loose) > 0 {
		r.dropCompiled(ctx)
	}
	if err := r.putTables(ctx); err != nil {
		return r.fail(err)
	}
	if err := r.prove(ctx); err != nil {
		return r.fail(err)
	}
	if err := errors.Join(r.closeStaging(ctx), r.sweep(ctx), r.settle(ctx)); err != nil {
		return r.fail(err)
	}
	judgement, err := r.look(ctx, "pages", AfterFile, nil, nil, r.against(nil))
	if err != nil {
		return r.fail(err)
	}
	r.run.Judgement = judgement
	r.run.Database = append(r.run.Database, r.plan.Newer...)
	undo := "wetland restore " + r.before.Name + "    undoes this restore"
	if r.undoFiles != "" {
		undo = "wetland restore " + r.before.Name + " --only database    undoes the restore of the tables; the dead site's files are in " + r.undoFiles
	} else if len(r.before.Unread) > 0 {
		undo = "wetland restore " + r.before.Name + "    undoes this restore, as far as the state before could be read"
	}
	if judgement.Verdict != smoke.Sound {
		return r.end(KeptDoubt, fmt.Sprintf("%s as in %s, proved; but %d of %s not sound: %s.", r.scope, r.manifest.Name, len(judgement.Failing()), plural(len(judgement.Pages), "page"), firstFinding(judgement)), undo)
	}
	return r.end(Restored, fmt.Sprintf("%s as in %s, proved, and the pages are sound.", r.scope, r.manifest.Name), undo)
}

// settle waits only where files changed: rows have no compiled code.
func (r *restoration) settle(ctx context.Context) error {
	if len(r.swaps)+len(r.loose) > 0 || r.remembered || r.again {
		return r.settleQuietly(ctx)
	}
	return r.settleAfter(ctx, func(context.Context) error { return nil })
}

// reopen opens the site as what it is, now that its files are back, and plans what is
// to become of the tables.
func (r *restoration) reopen(ctx context.Context) error {
	opened, err := site.Open(ctx, r.site.Workspace)
	if err != nil {
		return fmt.Errorf("the files are back, but the site cannot be opened: %w", err)
	}
	opened.Waiting = r.site.Waiting
	if err := r.site.Close(); err != nil {
		return err
	}
	r.site, r.remembered = opened, false
	if r.fetcher, err = NewFetcher(opened); err != nil {
		return err
	}
	if !r.scope.database {
		return nil
	}
	var why reasons
	r.openTables(ctx, &why)
	if err := why.refusal(); err != nil {
		return fmt.Errorf("the files are back, but not the tables: %w", err)
	}
	// Only now the tables can be read: they are kept before they are replaced.
	files := r.before
	if r.before, err = r.salvage(ctx, "before restoring the tables of "+r.manifest.Name); err != nil {
		return err
	}
	r.undoFiles = files.Name
	present, err := database.Present(ctx, r.db)
	if err != nil {
		return err
	}
	return r.step("comparing", rowsOf(r.differing(present)), "rows", func() (progress.Mark, string, error) {
		if err := r.planTables(ctx, r.differing(present)); err != nil {
			return progress.Bad, "", err
		}
		return progress.Good, r.planWords(), nil
	})
}

// fail ends a restore that could not be finished.
func (r *restoration) fail(cause error) (*Run, error) {
	if r.Abandon.Err() != nil {
		r.run.Reason = "You stopped it while files and tables were being restored: it is not wholly restored yet."
		r.run.Next = []string{"wetland recover    goes on with the restore, and proves it", "wetland restore " + r.before.Name + "    goes back to the state before"}
		return r.run, errors.Join(ErrAbandoned, r.run.save())
	}
	run, err := r.end(NeedsPerson, "The restore was not finished: "+cause.Error(),
		"wetland recover    goes on with it, once the cause is fixed",
		"wetland restore "+r.before.Name+"    goes back to the state before")
	return run, errors.Join(cause, err)
}

func (r *restoration) putFiles(ctx context.Context) error {
	bytes := int64(0)
	for _, item := range r.wantedItems() {
		bytes += item.Size
	}
	return r.step("files", bytes, "bytes", func() (progress.Mark, string, error) {
		for _, folder := range r.swaps {
			if err := r.putComponent(ctx, folder); err != nil {
				return progress.Bad, "", fmt.Errorf("put back %s: %w", folder, err)
			}
		}
		if err := r.putLoose(ctx, r.loose); err != nil {
			return progress.Bad, "", err
		}
		return progress.Good, filesText(r.plan), nil
	})
}

func filesText(plan RestorePlan) string {
	var parts []string
	for _, part := range []struct {
		n          int
		what, done string
	}{{len(plan.Components), "component", "swapped whole"}, {len(plan.Write), "path", "written"}, {len(plan.Remove), "path", "removed"}} {
		if part.n > 0 {
			parts = append(parts, plural(part.n, part.what)+" "+part.done)
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
	folder, err := r.openStaging(ctx, live, r.options.AllowGap)
	if err != nil {
		return err
	}
	staged := path.Join(folder.folder, r.run.Name+"-"+path.Base(path.Dir(live))+"-"+path.Base(live))
	tree, err := r.manifest.TreeAt(live)
	if err != nil {
		return r.site.Files.Rename(ctx, live, staged)
	}
	area, below, err := r.manifest.AreaOf(live)
	if err != nil {
		return err
	}
	if err := r.site.Files.RemoveAll(ctx, staged); err != nil {
		return err
	}
	if err := files.WriteTree(ctx, r.site.Files, staged, tree, r.store.Source(area.ItemsBelow(below)), r.Report.Advance); err != nil {
		return err
	}
	if err := r.markLike(ctx, staged, tree, live); err != nil {
		return err
	}
	_, err = files.Swap(ctx, r.site.Files, live, staged, r.options.AllowGap)
	return err
}

// putLoose removes what is too much, innermost first, then writes the rest: folders, outermost
// first, then files, several at the same time; each file is replaced in one step.
func (s *session) putLoose(ctx context.Context, loose []looseChange) error {
	for _, change := range slices.Backward(loose) {
		at := path.Join(change.area.Path, change.path)
		entry, err := s.site.Files.Lstat(ctx, at)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if change.item == nil || (entry.Kind != change.item.Kind && (entry.Kind == files.Folder || change.item.Kind == files.Folder)) {
			if err := s.site.Files.RemoveAll(ctx, at); err != nil {
				return err
			}
		}
	}
	put := func(ctx context.Context, change looseChange) error {
		if err := s.putOne(ctx, path.Join(change.area.Path, change.path), *change.item); err != nil {
			return fmt.Errorf("put back %s: %w", path.Join(change.area.Path, change.path), err)
		}
		s.Report.Advance(change.item.Size)
		return nil
	}
	var others []looseChange // than folders, which come before what is in them
	for _, change := range loose {
		switch {
		case change.item == nil:
		case change.item.Kind != files.Folder:
			others = append(others, change)
		default:
			if err := put(ctx, change); err != nil {
				return err
			}
		}
	}
	if err := files.AtOnce(ctx, others, put); err != nil {
		return err
	}
	for _, change := range slices.Backward(loose) {
		if change.item != nil && change.item.Kind == files.Folder {
			if err := s.site.Files.Settle(ctx, path.Join(change.area.Path, change.path), change.item.Attributes()); err != nil {
				return err
			}
		}
	}
	return s.syncLoose(ctx, loose)
}

// syncLoose makes what was written and removed safe against loss of power: after the
// run has ended nobody would look any more.
func (s *session) syncLoose(ctx context.Context, loose []looseChange) error {
	done := map[string]bool{}
	for _, change := range loose {
		above := path.Dir(path.Join(change.area.Path, change.path))
		if done[above] {
			continue
		}
		done[above] = true
		if err := s.site.Files.SyncFolder(ctx, above); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func (s *session) putOne(ctx context.Context, at string, item snapshot.Item) error {
	fsys, undo := s.site.Files, context.WithoutCancel(ctx)
	part := path.Join(path.Dir(at), ".wetland-"+strings.ToLower(rand.Text()[:10]))
	switch item.Kind {
	case files.Folder:
		// Writable by us until everything is in it; putLoose gives its own mode.
		with := item.Attributes()
		with.Mode |= 0o700
		if _, err := fsys.Lstat(ctx, at); err == nil {
			return fsys.Settle(ctx, at, with)
		}
		return fsys.Mkdir(ctx, at, with)
	case files.Link:
		if err := fsys.Symlink(ctx, item.Target, part, item.Attributes()); err != nil {
			return err
		}
	default:
		if err := files.WriteFile(ctx, fsys, part, item.Item, s.store.Source([]snapshot.Item{item})); err != nil {
			return errors.Join(err, fsys.Remove(undo, part))
		}
		if present, err := fsys.Lstat(ctx, at); err == nil && present.Kind == files.File {
			if err := fsys.CopyMarks(ctx, at, part); err != nil {
				return errors.Join(err, fsys.Remove(undo, part))
			}
		}
	}
	if err := fsys.Rename(ctx, part, at); err != nil {
		return errors.Join(err, fsys.Remove(undo, part))
	}
	return nil
}

func (r *restoration) putTables(ctx context.Context) error {
	if !r.scope.database {
		return nil
	}
	rows := int64(0)
	for _, replacement := range r.tables.Replace {
		rows += replacement.Table.Rows
	}
	return r.step("database", rows, "rows", func() (progress.Mark, string, error) {
		if r.tables.Empty() {
			return progress.Good, plural(len(r.manifest.Tables), "table") + " as in the snapshot already", nil
		}
		applied, err := r.db.Apply(ctx, r.tables)
		if err != nil {
			return progress.Bad, "", err
		}
		r.loaded = true
		err = applied.Finish(ctx)
		r.plan.Newer = append(r.plan.Newer, r.noteDefiners(applied)...)
		if err != nil {
			return progress.Bad, "", err
		}
		if err := r.putNewRows(ctx); err != nil {
			return progress.Bad, "", err
		}
		detail := plural(len(r.plan.Tables), "table") + " put back"
		if aside := applied.Aside(); len(aside) > 0 {
			detail += "; set aside, not dropped: " + list(aside, 3)
		}
		return progress.Good, detail, nil
	})
}

// sweep clears what an interrupted change of tables may have left.
func (r *restoration) sweep(ctx context.Context) error {
	if r.db == nil {
		return nil
	}
	return r.sweepTables(ctx, r.manifest.Tables)
}

// prove compares files and tables with the snapshot.
func (r *restoration) prove(ctx context.Context) error {
	return r.step("proof", 0, "", func() (progress.Mark, string, error) {
		count := 0
		for _, area := range r.manifest.Areas {
			differ, files, err := r.compareArea(ctx, area)
			if err != nil {
				return progress.Bad, "", err
			}
			if len(differ) > 0 {
				return progress.Bad, "", fmt.Errorf("%s from the snapshot, the first is %s (%s)", pathsDiffer(len(differ)), differ[0].Path, differ[0].What)
			}
			count += files
		}
		tables, err := r.proveTables(ctx)
		if err != nil {
			return progress.Bad, "", err
		}
		// It may have come back with the snapshot's files.
		mark, objects := progress.Good, ""
		if layout := r.site.CMS.Layout(); !r.tables.Empty() {
			layout.ObjectCache = cmp.Or(layout.ObjectCache, r.manifest.Layout.ObjectCache)
			mark, objects = r.emptyObjects(ctx, layout)
		}
		return mark, fmt.Sprintf("%s equal to %s%s%s", filesAndTables(count, tables), r.manifest.Name, leftText(r.plan.Newer), objects), nil
	})
}

func filesAndTables(count, tables int) string {
	switch {
	case tables == 0:
		return plural(count, "file")
	case count == 0:
		return plural(tables, "table")
	}
	return plural(count, "file") + " and " + plural(tables, "table")
}

func pathsDiffer(n int) string {
	if n == 1 {
		return "1 path differs"
	}
	return fmt.Sprintf("%d paths differ", n)
}
