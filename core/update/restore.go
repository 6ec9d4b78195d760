package update

import (
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
	"wetland/core/smoke"
	"wetland/core/snapshot"
)

// RestoreOptions says which snapshot to go back to.
type RestoreOptions struct {
	Guard
	Snapshot string
	AllowGap bool
	// Confirm is shown what will change and decides; nil: yes.
	Confirm func(RestorePlan) bool
}

// RestorePlan is what a restore will change.
type RestorePlan struct {
	Snapshot   string   `json:"snapshot"`
	Write      []string `json:"write"`      // files, folders and links to be written or given back their attributes
	Remove     []string `json:"remove"`     // what the snapshot does not know
	Components []string `json:"components"` // folders that are swapped whole
	Tables     []string `json:"tables"`     // put back
	Aside      []string `json:"aside"`      // tables to be set aside
}

// Empty tells whether the site is as in the snapshot already.
func (p RestorePlan) Empty() bool {
	return len(p.Write)+len(p.Remove)+len(p.Components)+len(p.Tables)+len(p.Aside) == 0
}

// ErrDeclined says that a person answered no.
var ErrDeclined = errors.New("not done, as you answered; nothing was changed")

// restoration is one restore under way.
type restoration struct {
	*session
	options  RestoreOptions
	manifest *snapshot.Manifest
	plan     RestorePlan
	swaps    []string // component folders, absolute
	loose    []looseChange
	tables   database.Change
	before   *snapshot.Manifest // of the state that is being replaced
}

// looseChange is a path outside of the components that differs.
type looseChange struct {
	area snapshot.Area
	path string
	item *snapshot.Item // nil: to be removed
}

// Restore makes the site's files and tables equal to a snapshot, and proves it.
// The present state is snapshot first. Errors and runs are as with Update.
func Restore(ctx context.Context, w *site.Workspace, o RestoreOptions) (run *Run, err error) {
	var why reasons
	s, err := open(ctx, w, o.Guard, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.close()) }()
	r := &restoration{session: s, options: o}
	if err := r.prepare(ctx, &why); err != nil {
		return nil, err
	}
	if o.Confirm != nil && !o.Confirm(r.plan) {
		return nil, ErrDeclined
	}
	if err := r.begin("restore", map[string]string{"wanted": o.Snapshot}); err != nil {
		return nil, err
	}
	r.run.Wanted = o.Snapshot
	return r.carryOut(ctx)
}

func (r *restoration) prepare(ctx context.Context, why *reasons) error {
	if err := why.refusal(); err != nil {
		return err
	}
	var err error
	if r.manifest, err = r.store.Load(r.options.Snapshot); err != nil {
		return err
	}
	if r.manifest.Root != r.site.Root {
		why.add(fmt.Sprintf("%s is a snapshot of the site in %s, not of %s", r.manifest.Name, r.manifest.Root, r.site.Root), "Restore it from the workspace of that site.")
		return why.refusal()
	}
	err = r.step("verifying", 0, "bytes", func() (progress.Mark, string, error) {
		if err := r.store.Verify(ctx, r.manifest, r.Report); err != nil {
			return badMark, "", err
		}
		return goodMark, SnapshotTotals(r.manifest), nil
	})
	if err != nil {
		if ctx.Err() == nil {
			why.add(fmt.Sprintf("%s is damaged: %v", r.manifest.Name, err), "Choose another snapshot: wetland history")
			return why.refusal()
		}
		return err
	}
	return r.makePlan(ctx)
}

// makePlan compares the present with the snapshot; it changes nothing.
func (r *restoration) makePlan(ctx context.Context) error {
	r.plan.Snapshot = r.manifest.Name
	for _, area := range r.manifest.Areas {
		if err := r.planArea(ctx, area); err != nil {
			return err
		}
	}
	now, err := database.Present(ctx, r.db)
	if err != nil {
		return fmt.Errorf("read the database: %w", err)
	}
	r.tables.Tag = strings.ReplaceAll(r.manifest.Name, "snap", "before_snap")
	for _, differ := range database.CompareTables(r.manifest.Described(), now) {
		if differ.Fate == database.Created && differ.Now.Kind.Stays() {
			continue
		}
		if differ.Fate == database.Created {
			r.tables.Aside = append(r.tables.Aside, differ.Name)
			r.plan.Aside = append(r.plan.Aside, differ.Name)
			continue
		}
		i := slices.IndexFunc(r.manifest.Tables, func(t snapshot.Table) bool { return t.Name == differ.Name })
		table := r.manifest.Tables[i]
		r.tables.Replace = append(r.tables.Replace, database.Replacement{Table: table.Table, Rows: r.store.Rows(table)})
		r.plan.Tables = append(r.plan.Tables, differ.Name)
	}
	return nil
}

func (r *restoration) planArea(ctx context.Context, area snapshot.Area) error {
	present, err := r.presentTree(ctx, area)
	if err != nil {
		return err
	}
	for _, differ := range files.Exact.Compare(area.Tree(), present) {
		at := path.Join(area.Path, differ.Path)
		if folder := r.componentAround(at); folder != "" {
			if !slices.Contains(r.swaps, folder) {
				r.swaps = append(r.swaps, folder)
				r.plan.Components = append(r.plan.Components, folder)
			}
			continue
		}
		change := looseChange{area: area, path: differ.Path}
		if i := slices.IndexFunc(area.Items, func(item snapshot.Item) bool { return item.Path == differ.Path }); i >= 0 {
			change.item = &area.Items[i]
			r.plan.Write = append(r.plan.Write, at)
		} else {
			r.plan.Remove = append(r.plan.Remove, at)
		}
		r.loose = append(r.loose, change)
	}
	return nil
}

func (r *restoration) presentTree(ctx context.Context, area snapshot.Area) (files.Tree, error) {
	for _, now := range r.site.Areas() {
		if now.Name == area.Name {
			// What is left out now or was then is never touched.
			now.LeaveOut = slices.Concat(now.LeaveOut, area.LeaveOut)
			return files.ReadTree(ctx, r.site.Place, area.Path, site.LeavesOut(now))
		}
	}
	return nil, fmt.Errorf("the site has no part called %q any more, which %s holds", area.Name, r.manifest.Name)
}

// componentAround returns the theme's or plugin's folder that the path is in or
// is, or "".
func (r *restoration) componentAround(at string) string {
	layout := r.site.CMS.Layout()
	for _, group := range []string{layout.Themes, layout.Plugins} {
		rest, inside := strings.CutPrefix(at, group+"/")
		if !inside {
			continue
		}
		name, _, deeper := strings.Cut(rest, "/")
		folder := path.Join(group, name)
		if deeper {
			return folder
		}
		if entry, err := r.site.Place.Lstat(folder); err == nil && entry.Kind == files.Folder {
			return folder
		}
		if tree, err := componentTree(r.manifest, folder); err == nil && tree[0].Kind == files.Folder {
			return folder
		}
	}
	return ""
}

func (r *restoration) carryOut(ctx context.Context) (*Run, error) {
	var err error
	if r.before, err = r.takeSnapshot(ctx, "before restoring "+r.manifest.Name); err != nil {
		run, endErr := r.end(Stopped, "Stopped before anything was changed.")
		return run, errors.Join(err, endErr)
	}
	return r.finish()
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
	if err := r.putTables(ctx); err != nil {
		return r.fail(err)
	}
	if err := r.prove(ctx); err != nil {
		return r.fail(err)
	}
	if err := errors.Join(r.closeStaging(ctx), r.sweepTables(ctx, r.manifest), r.settleQuietly(ctx)); err != nil {
		return r.fail(err)
	}
	judgement, err := r.look(ctx, "pages", nil)
	if err != nil {
		return r.fail(err)
	}
	r.run.Judgement = judgement
	undo := "wetland restore " + r.before.Name + "    undoes this restore"
	if judgement.Verdict != smoke.Sound {
		return r.end(KeptDoubt, fmt.Sprintf("Files and tables are as in %s, proved; but %d of %s not sound: %s.", r.manifest.Name, len(judgement.Failing()), plural(len(judgement.Pages), "page"), firstFinding(judgement)), undo)
	}
	return r.end(Restored, fmt.Sprintf("Files and tables are as in %s, proved, and the pages are sound.", r.manifest.Name), undo)
}

// fail ends a restore that could not be finished.
func (r *restoration) fail(cause error) (*Run, error) {
	if r.Abandon.Err() != nil {
		r.run.Reason = "Interrupted while restoring."
		return r.run, errors.Join(ErrAbandoned, r.run.save())
	}
	run, err := r.end(NeedsPerson, "The restore was not finished: "+cause.Error(),
		"wetland restore "+r.manifest.Name+"    tries again, once the cause is mended",
		"wetland restore "+r.before.Name+"    goes back to the state before")
	return run, errors.Join(cause, err)
}

func (r *restoration) putFiles(ctx context.Context) error {
	return r.step("files", 0, "", func() (progress.Mark, string, error) {
		for _, folder := range r.swaps {
			if err := r.putComponent(ctx, folder); err != nil {
				return badMark, "", fmt.Errorf("put back %s: %w", folder, err)
			}
		}
		if err := r.putLoose(ctx); err != nil {
			return badMark, "", err
		}
		return goodMark, filesText(r.plan), nil
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
	folder, err := r.openStaging(live, r.options.AllowGap)
	if err != nil {
		return err
	}
	staged := path.Join(folder.folder, r.run.Name+"-"+path.Base(path.Dir(live))+"-"+path.Base(live))
	tree, err := componentTree(r.manifest, live)
	if err != nil {
		return r.site.Place.Rename(live, staged)
	}
	area, below, err := areaOf(r.manifest, live)
	if err != nil {
		return err
	}
	if err := files.RemoveAll(ctx, r.site.Place, staged); err != nil {
		return err
	}
	if err := files.WriteTree(ctx, r.site.Place, staged, tree, r.store.Source(itemsBelow(area.Items, below)), r.Report.Advance); err != nil {
		return err
	}
	_, err = files.Swap(r.site.Place, live, staged, r.options.AllowGap)
	return err
}

// putLoose removes what is too much, innermost first, then writes the rest,
// outermost first; each file is replaced in one step.
func (r *restoration) putLoose(ctx context.Context) error {
	for _, change := range slices.Backward(r.loose) {
		at := path.Join(change.area.Path, change.path)
		entry, err := r.site.Place.Lstat(at)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if change.item == nil || (entry.Kind != change.item.Kind && (entry.Kind == files.Folder || change.item.Kind == files.Folder)) {
			if err := files.RemoveAll(ctx, r.site.Place, at); err != nil {
				return err
			}
		}
	}
	for _, change := range r.loose {
		if change.item == nil {
			continue
		}
		if err := r.putOne(path.Join(change.area.Path, change.path), *change.item); err != nil {
			return fmt.Errorf("put back %s: %w", path.Join(change.area.Path, change.path), err)
		}
	}
	return nil
}

func (r *restoration) putOne(at string, item snapshot.Item) error {
	place := r.site.Place
	part := path.Join(path.Dir(at), ".wetland-"+strings.ToLower(rand.Text()[:10]))
	switch item.Kind {
	case files.Folder:
		if _, err := place.Lstat(at); err == nil {
			return place.Settle(at, item.Attributes())
		}
		return place.Mkdir(at, item.Attributes())
	case files.Link:
		if err := place.Symlink(item.Target, part, item.Attributes()); err != nil {
			return err
		}
	default:
		if err := files.WriteFile(place, part, item.Item, r.store.Source([]snapshot.Item{item})); err != nil {
			return errors.Join(err, place.Remove(part))
		}
	}
	if err := place.Rename(part, at); err != nil {
		return errors.Join(err, place.Remove(part))
	}
	return place.SyncFolder(path.Dir(at))
}

func (r *restoration) putTables(ctx context.Context) error {
	return r.step("database", 0, "", func() (progress.Mark, string, error) {
		if r.tables.Empty() {
			return goodMark, plural(len(r.manifest.Tables), "table") + " as in the snapshot already", nil
		}
		applied, err := r.db.Apply(ctx, r.tables)
		if err != nil {
			return badMark, "", err
		}
		if err := applied.Finish(ctx); err != nil {
			return badMark, "", err
		}
		detail := plural(len(r.tables.Replace), "table") + " put back"
		if aside := applied.Aside(); len(aside) > 0 {
			detail += "; set aside, not dropped: " + list(aside, 3)
		}
		return goodMark, detail, nil
	})
}

// prove compares files and tables with the snapshot.
func (r *restoration) prove(ctx context.Context) error {
	return r.step("proof", 0, "", func() (progress.Mark, string, error) {
		count := 0
		for _, area := range r.manifest.Areas {
			present, err := r.presentTree(ctx, area)
			if err != nil {
				return badMark, "", err
			}
			if differ := files.Exact.Compare(area.Tree(), present); len(differ) > 0 {
				return badMark, "", fmt.Errorf("%d paths differ from the snapshot, the first is %s (%s)", len(differ), differ[0].Path, differ[0].What)
			}
			n, _ := present.Total()
			count += n
		}
		plan, err := r.planTables(ctx, r.manifest)
		if err != nil {
			return badMark, "", err
		}
		if !plan.change.Empty() {
			return badMark, "", fmt.Errorf("%s differ from the snapshot", noteTables(plan.notes))
		}
		if cache := r.site.CMS.Layout().ObjectCache; cache != "" && !r.tables.Empty() {
			return badMark, "", fmt.Errorf("the tables are back, but %s keeps a copy of the settings outside the database: empty that cache by hand, then run: wetland smoke", cache)
		}
		return goodMark, fmt.Sprintf("%s and %s equal to %s%s", plural(count, "file"), plural(len(r.manifest.Tables), "table"), r.manifest.Name, leftText(plan.notes)), nil
	})
}
