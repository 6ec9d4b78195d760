// Package surroundings puts back what an update changed outside of its own folders: a plugin lays
// styles into the uploads, rules into .htaccess, a file in place of a part of the CMS, a template into
// the database. Begin reading at PutBack. Where pages still differ after the components and the
// settings are back, all of that is compared with the snapshot, too.
//
// It promises that what visitors or authors may have written meanwhile stays, and that whatever is
// replaced is kept in the run.
package surroundings

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/deploy"
	"wetland/core/durable"
	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
	"wetland/core/tables"
)

// rest is the site outside of some folders, compared with a snapshot.
type rest struct {
	*session.Session
	from    *snapshot.Manifest
	without []string
}

// PutBack compares the rest of the site, without the named folders, with the snapshot and puts back
// what is not visitors' work. It tells whether it changed anything.
func PutBack(ctx context.Context, s *session.Session, from *snapshot.Manifest, without []string) (changed bool, err error) {
	r := &rest{s, from, without}
	err = r.Step("rest of the site", 0, "", func() (progress.Mark, string, error) {
		loose, notes, err := r.planRest(ctx)
		if err != nil {
			return progress.Bad, "", err
		}
		if err := r.saveRest(ctx, loose); err != nil {
			return progress.Bad, "", err
		}
		if err := deploy.PutLoose(ctx, r.Session, loose); err != nil {
			return progress.Bad, "", err
		}
		rows, err := r.putBackDesign(ctx)
		if err != nil {
			return progress.Bad, "", err
		}
		notes = append(notes, rows...)
		r.Run.Rest = append(r.Run.Rest, notes...)
		back, left := splitNotes(notes)
		changed = len(back) > 0
		return restMark(back, left), restWords(back, left), nil
	})
	return changed, err
}

func splitNotes(notes []runs.RestNote) (back, left []string) {
	for _, note := range notes {
		if note.Left {
			left = append(left, note.What)
		} else {
			back = append(back, note.What)
		}
	}
	return back, left
}

func restMark(back, left []string) progress.Mark {
	if len(back)+len(left) == 0 {
		return progress.Good
	}
	return progress.Note
}

func restWords(back, left []string) string {
	var parts []string
	if len(back) > 0 {
		parts = append(parts, "put back, too: "+phrase.List(back, 4))
	}
	if len(left) > 0 {
		parts = append(parts, "changed meanwhile and left as it is: "+phrase.List(left, 4))
	}
	if len(parts) == 0 {
		return "as in the snapshot"
	}
	return strings.Join(parts, "; ")
}

// PutBackCode puts back the code outside of the named places that runs with each request, whatever pages show: a version
// that went may have written files in place of parts of the CMS, and they need not get along with the one before.
func PutBackCode(ctx context.Context, s *session.Session, from *snapshot.Manifest, without []string) error {
	r := &rest{s, from, without}
	always := s.Site.CMS.Layout().Always
	found := make([][]deploy.LooseChange, len(always))
	err := files.AtOnce(ctx, s.Site.Files, len(always), func(ctx context.Context, i int) (err error) {
		found[i], err = r.codeAt(ctx, always[i])
		return err
	})
	loose := slices.Concat(found...)
	if err != nil || len(loose) == 0 {
		return err
	}
	return r.Step("drop-ins", 0, "", func() (progress.Mark, string, error) {
		if err := r.saveRest(ctx, loose); err != nil {
			return progress.Bad, "", err
		}
		if err := deploy.PutLoose(ctx, r.Session, loose); err != nil {
			return progress.Bad, "", err
		}
		var notes []runs.RestNote
		for _, change := range loose {
			notes = append(notes, r.noteOf(change))
		}
		r.Run.Rest = append(r.Run.Rest, notes...)
		back, left := splitNotes(notes)
		return progress.Note, restWords(back, left), nil
	})
}

// codeAt lists what differs from the snapshot at a place that is a file, a folder or nothing.
func (r *rest) codeAt(ctx context.Context, at string) (loose []deploy.LooseChange, err error) {
	area, below, err := r.from.AreaOf(at)
	if err != nil {
		return nil, nil // the snapshot has nothing of that part of the site
	}
	before := map[string]*snapshot.Item{}
	var was files.Tree
	for i, item := range area.Items {
		if files.Within(item.Path, below) {
			before[item.Path] = &area.Items[i]
			was = append(was, item.Item)
		}
	}
	now, err := readBelow(ctx, r.Site.Files, area.Path, below, r.from.KnownHashes(area.Name))
	if err != nil {
		return nil, err
	}
	for _, differ := range files.Content.Compare(was, now) {
		if !r.isLeftOut(path.Join(area.Path, differ.Path)) && !r.isLog(path.Join(area.Path, differ.Path)) {
			loose = append(loose, deploy.LooseChange{Area: area, Path: differ.Path, Item: before[differ.Path]})
		}
	}
	return loose, nil
}

// readBelow reads what is at a place below a folder, with paths below that.
func readBelow(ctx context.Context, disk files.FS, top, below string, known func(at string, entry files.Entry) (hash string)) (files.Tree, error) {
	now, err := files.ReadTreeKnowing(ctx, disk, path.Join(top, below), files.Scope{}, func(at string, entry files.Entry) string {
		return known(path.Join(below, at), entry)
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for i := range now {
		now[i].Path = path.Join(below, now[i].Path)
	}
	return now, err
}

// noteOf says what becomes of a path that is put back.
func (r *rest) noteOf(change deploy.LooseChange) runs.RestNote {
	note := runs.RestNote{What: path.Join(change.Area.Path, change.Path), Done: "as in " + r.from.Name + " again", Saved: r.restFolder()}
	if change.Item == nil {
		note.Done = "was not there before: taken away"
	}
	return note
}

// planRest lists what differs outside of themes, plugins and caches.
func (r *rest) planRest(ctx context.Context) (loose []deploy.LooseChange, notes []runs.RestNote, err error) {
	for _, area := range r.from.Areas {
		_, present, err := deploy.ReadArea(ctx, r.Session, area, r.from)
		if errors.Is(err, deploy.ErrNoArea) {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		before, folders := itemsByPath(area), present.Folders()
		for _, differ := range files.Content.Compare(area.Tree(), present) {
			at := path.Join(area.Path, differ.Path)
			if r.isLeftOut(at) {
				continue // proved by itself
			}
			if why := r.staysAsItIs(at, folders[differ.Path]); why != "" {
				notes = append(notes, runs.RestNote{What: at, Done: why, Left: true})
				continue
			}
			change := deploy.LooseChange{Area: area, Path: differ.Path, Item: before[differ.Path]}
			loose, notes = append(loose, change), append(notes, r.noteOf(change))
		}
	}
	return loose, notes, nil
}

func itemsByPath(area snapshot.Area) map[string]*snapshot.Item {
	items := make(map[string]*snapshot.Item, len(area.Items))
	for i := range area.Items {
		items[area.Items[i].Path] = &area.Items[i]
	}
	return items
}

// staysAsItIs says why a path that differs is left alone: it may be somebody's work, or grows
// by itself. It is "" for what is put back.
func (r *rest) staysAsItIs(at string, folder bool) string {
	layout := r.Site.CMS.Layout()
	_, component := layout.HomeAround(at)
	switch {
	case component:
		return "another component: left as it is"
	case r.isLog(at):
		return "a log: left as it is"
	case files.Below(at, layout.Uploads) && (folder || isMedia(at)): // an empty folder shows nowhere; what is in it is looked at by itself
		return "it may be an author's or a visitor's: left as it is"
	}
	return ""
}

func (r *rest) isLeftOut(at string) bool {
	return slices.ContainsFunc(r.without, func(folder string) bool { return files.Within(at, folder) })
}

// isLog tells of files that grow by themselves.
func (r *rest) isLog(at string) bool {
	base := path.Base(at)
	return path.Ext(at) == ".log" || base == "error_log" || at == r.Site.Workspace.Config.Site.PHPLog || slices.Contains(r.Site.CMS.ErrorLogs(), at)
}

// generated are the endings of files that programs write for pages. What else lies among the
// uploads is what people put there.
var generated = []string{".css", ".js", ".mjs", ".json", ".php", ".html", ".htm", ".map", ".htaccess", ".tmp", ".less", ".scss", ".xml"}

// isMedia tells of what people upload.
func isMedia(at string) bool { return !slices.Contains(generated, strings.ToLower(path.Ext(at))) }

func (r *rest) restFolder() string { return filepath.Join(r.Run.Folder, "files-before-going-back") }

// saveRest keeps what is there now in the run, before it is replaced or taken away.
func (r *rest) saveRest(ctx context.Context, loose []deploy.LooseChange) error {
	for _, change := range loose {
		at := path.Join(change.Area.Path, change.Path)
		entry, err := r.Site.Files.Lstat(ctx, at)
		if errors.Is(err, fs.ErrNotExist) || (err == nil && entry.Kind != files.File) {
			continue
		}
		if err != nil {
			return err
		}
		if err := r.saveFile(ctx, at, filepath.Join(r.restFolder(), change.Area.Name, filepath.FromSlash(change.Path))); err != nil {
			return fmt.Errorf("keep %s in the run: %w", at, err)
		}
	}
	return nil
}

func (r *rest) saveFile(ctx context.Context, at, to string) error {
	from, err := r.Site.Files.Open(ctx, at, 0)
	if err != nil {
		return err
	}
	defer from.Close()
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	file, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(file, from)
	return errors.Join(err, durable.Sync(file), file.Close())
}

// putBackDesign puts back rows that hold how the site looks, in tables whose other rows are
// visitors' and authors'.
func (r *rest) putBackDesign(ctx context.Context) ([]runs.RestNote, error) {
	if r.DB == nil {
		return nil, nil
	}
	moment, err := r.DB.Read(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the database: %w", err)
	}
	plan, notes, err := r.planDesign(ctx, moment)
	if err := errors.Join(err, moment.Close()); err != nil || plan.Change.Empty() {
		return notes, err
	}
	return notes, tables.ApplyTables(ctx, r.Session, plan)
}

func (r *rest) planDesign(ctx context.Context, moment database.Moment) (*tables.Plan, []runs.RestNote, error) {
	plan := &tables.Plan{Change: database.Change{Tag: r.Run.Name, KeepCounters: true}}
	now, err := database.Survey(ctx, moment, nil)
	if err != nil {
		return plan, nil, err
	}
	var notes []runs.RestNote
	for _, differ := range database.CompareTables(r.from.Described(), now) {
		i := slices.IndexFunc(r.from.Tables, func(t snapshot.Table) bool { return t.Name == differ.Name })
		purpose := r.Site.CMS.Purpose(differ.Name)
		if i < 0 || differ.Now.Kind != database.BaseTable || purpose == cms.Settings || purpose == cms.Volatile || differ.Fate == database.Altered || differ.Fate == database.Dropped {
			continue
		}
		before := r.from.Tables[i]
		present := func(ctx context.Context, each func(database.Row) error) error {
			return moment.Rows(ctx, differ.Now, each)
		}
		rows, err := tables.CompareRows(ctx, r.Session, database.RowComparison{Table: before.Table, Before: snapshot.Rows(r.Store, before), Now: present})
		if err != nil {
			return plan, nil, err
		}
		patch, n, left, err := r.designOf(ctx, before.Table, rows)
		if err != nil {
			return plan, nil, err
		}
		if n > 0 {
			plan.Change.Patches = append(plan.Change.Patches, patch)
			plan.Save = append(plan.Save, differ.Now)
			notes = append(notes, runs.RestNote{What: fmt.Sprintf("%s of %s", phrase.Plural(n, "row"), before.Name), Done: "templates and styles in the database: as in " + r.from.Name + " again", Saved: filepath.Join(r.Run.Folder, "rows-before-going-back")})
		}
		if left > 0 {
			notes = append(notes, runs.RestNote{What: fmt.Sprintf("%s of %s", phrase.Plural(left, "row"), before.Name), Done: "authors' or visitors' writes: left as they are", Left: true})
		}
	}
	return plan, notes, nil
}

// designOf picks the changed rows that hold how the site looks, and counts them and the others
// that people wrote.
func (r *rest) designOf(ctx context.Context, table database.Table, rows *database.RowChanges) (patch database.Patch, n, left int, err error) {
	patch, n, _, err = tables.PatchBack(ctx, table, rows, func(change database.RowChange) bool {
		return r.Site.CMS.IsDesign(table, tables.StateBefore(change))
	})
	if err != nil {
		return patch, n, 0, err
	}
	err = rows.Each(ctx, func(change database.RowChange) error {
		if row := tables.StateBefore(change); !r.Site.CMS.IsDesign(table, row) && !r.Site.CMS.RewrittenByItself(table, row) {
			left++
		}
		return nil
	})
	return patch, n, left, err
}
