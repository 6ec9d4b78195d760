package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/deploy"
	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/site"
	"wetland/core/snapshot"
	"wetland/core/tables"
)

// scope is the part of a snapshot that is wanted.
type scope struct {
	files    bool
	database bool
	places   []string // of one component, absolute; none: all files
	table    string   // "": all tables
}

// String names the part for people, as the beginning of a sentence.
func (s scope) String() string {
	switch {
	case len(s.places) > 0:
		return path.Base(s.places[0]) + " is"
	case s.table != "":
		return "The table " + s.table + " is"
	case !s.database:
		return "The files are"
	case !s.files:
		return "The tables are"
	}
	return "Files and tables are"
}

// readScope finds what a person named, in the snapshot.
func (r *restoration) readScope(ctx context.Context, only string) (scope, error) {
	switch only {
	case "":
		return scope{files: true, database: true}, nil
	case "files":
		return scope{files: true}, nil
	case "database":
		return scope{database: true}, nil
	}
	var found []scope
	layout := r.manifest.Layout
	for _, home := range layout.Homes() {
		folder := path.Join(home.Path, path.Base(only))
		if only != path.Base(only) && only != path.Join(path.Base(home.Path), path.Base(only)) {
			continue
		}
		if tree, err := r.manifest.TreeAt(folder); err == nil && tree[0].Kind == files.Folder {
			found = append(found, scope{files: true, places: []string{folder}})
		}
	}
	if slices.ContainsFunc(r.manifest.Tables, func(t snapshot.Table) bool { return t.Name == only }) {
		found = append(found, scope{database: true, table: only})
	}
	if len(found) == 0 {
		found = append(found, r.withoutFolder(ctx, only)...)
	}
	switch len(found) {
	case 0:
		return scope{}, fmt.Errorf("%s holds no theme, plugin or table called %s. --only takes files, database, the name"+
			" of a theme, plugin, drop-in or language pack, or the name of a table", r.manifest.Name, only)
	case 1:
		return found[0], nil
	}
	return scope{}, fmt.Errorf("%s means several things in %s. Name a folder as themes/%s or plugins/%s", only,
		r.manifest.Name, only, only)
}

// withoutFolder finds components that have no folder of their own, by their name.
func (r *restoration) withoutFolder(ctx context.Context, only string) (found []scope) {
	installed, _ := r.Site.CMS.Components(ctx, nil) // what cannot be listed is not found
	for _, c := range installed {
		stand, known := c.Stand()
		if !known || len(stand.Parts) == 0 || c.Folder != only {
			continue
		}
		one := scope{files: true}
		for _, name := range stand.Parts {
			one.places = append(one.places, path.Join(stand.Folder, name))
		}
		found = append(found, one)
	}
	return found
}

// wants tells of a path that is in the scope.
func (s scope) wants(at string) bool {
	return len(s.places) == 0 || slices.ContainsFunc(s.places, func(place string) bool { return files.Within(at, place) })
}

// salvage takes a snapshot of the present state, of whatever can be read of it.
func (r *restoration) salvage(ctx context.Context, reason string) (*snapshot.Manifest, error) {
	of := snapshot.Subject{Reason: reason, Salvage: true, NoDatabase: errors.New("it cannot be reached, or is not known")}
	switch {
	case len(r.scope.places) > 0:
		of.Replaced = r.scope.places
	case r.scope.files:
		for _, area := range r.Site.Areas() {
			of.Replaced = append(of.Replaced, area.Path)
		}
	}
	manifest, err := r.TakeToReturn(ctx, of)
	if err != nil {
		return nil, err
	}
	r.Run.Snapshot = manifest.Name
	return manifest, r.Journal.Write(runs.SnapshotTaken{Snapshot: manifest.Name})
}

// makePlan compares the present with the snapshot; it changes nothing.
func (r *restoration) makePlan(ctx context.Context, present []database.Table) error {
	r.plan = Plan{Snapshot: r.manifest.Name, Unread: r.before.Unread}
	tables := r.differing(present)
	return r.Step("comparing", rowsOf(tables), "rows", func() (progress.Mark, string, error) {
		for _, area := range r.manifest.Areas {
			if err := r.planArea(ctx, area); err != nil {
				return progress.Bad, "", err
			}
		}
		switch {
		case !r.scope.database:
		case r.remembered: // what there is now is known once the site can be opened
			for _, table := range r.manifest.Tables {
				r.plan.Tables = append(r.plan.Tables, table.Name)
			}
		default:
			if err := r.planTables(ctx, tables); err != nil {
				return progress.Bad, "", err
			}
		}
		return progress.Good, r.planWords(), nil
	})
}

// planWords says how much differs.
func (r *restoration) planWords() string {
	var parts []string
	total := 0
	for _, part := range []struct {
		n    int
		what string
	}{{len(r.swaps), "component"}, {len(r.loose), "path"}, {len(r.plan.Tables) + len(r.plan.Aside), "table"}} {
		if part.n > 0 {
			parts = append(parts, phrase.Plural(part.n, part.what))
			total += part.n
		}
	}
	switch total {
	case 0:
		return "all is as in " + r.manifest.Name
	case 1:
		return parts[0] + " differs from " + r.manifest.Name
	}
	return strings.Join(parts, ", ") + " differ from " + r.manifest.Name
}

// differing lists the tables in which the present is not as in the snapshot.
func (r *restoration) differing(present []database.Table) []database.TableChange {
	if !r.scope.database || r.remembered {
		return nil
	}
	var all []database.TableChange
	for _, differ := range database.CompareTables(r.manifest.Described(), present) {
		if r.scope.table == "" || differ.Name == r.scope.table {
			all = append(all, differ)
		}
	}
	return all
}

func rowsOf(tables []database.TableChange) (rows int64) {
	for _, differ := range tables {
		rows += differ.Before.Rows + differ.Now.Rows
	}
	return rows
}

// planTables plans what becomes of the tables that differ.
func (r *restoration) planTables(ctx context.Context, differing []database.TableChange) error {
	r.plan.Tables, r.plan.Aside, r.plan.Newer = nil, nil, nil
	r.kept = map[string][]tables.KeptRows{}
	if err := r.findSettled(ctx); err != nil {
		return err
	}
	r.tables = database.Change{Tag: strings.ReplaceAll(r.manifest.Name, "snap", "before_snap"),
		KeepCounters: r.options.KeepNew}
	for _, differ := range differing {
		if err := r.planTable(ctx, differ); err != nil {
			return fmt.Errorf("compare the rows of %s: %w", differ.Name, err)
		}
	}
	return nil
}

// planTable plans what becomes of one table.
func (r *restoration) planTable(ctx context.Context, differ database.TableChange) error {
	if differ.Fate == database.Created {
		if !differ.Now.Kind.Stays() {
			r.tables.Aside = append(r.tables.Aside, differ.Name)
			r.plan.Aside = append(r.plan.Aside, differ.Name)
		}
		return nil
	}
	i := slices.IndexFunc(r.manifest.Tables, func(t snapshot.Table) bool { return t.Name == differ.Name })
	table := r.manifest.Tables[i]
	if err := r.planNewRows(ctx, table, differ); err != nil {
		return err
	}
	r.tables.Replace = append(r.tables.Replace, database.Replacement{Table: table.Table, Rows: tables.Counted(r.Session,
		snapshot.Rows(r.Store, table))})
	r.plan.Tables = append(r.plan.Tables, differ.Name)
	return nil
}

// compareArea returns where an area differs from the snapshot, within the scope, and
// how many files were compared.
func (r *restoration) compareArea(
	ctx context.Context, area snapshot.Area,
) (found []files.Difference, count int, err error) {
	if !r.scope.files {
		return nil, 0, nil
	}
	now, present, err := deploy.ReadArea(ctx, r.Session, area, r.before)
	if err != nil {
		return nil, 0, fmt.Errorf("compare with %s: %w", r.manifest.Name, err)
	}
	uploads := r.Site.CMS.Layout().Uploads
	for _, differ := range files.Exact.Compare(area.Tree(), present) {
		at := path.Join(area.Path, differ.Path)
		switch {
		case site.LeavesOutBelow(now, differ.Path):
		case len(r.manifest.Unread) > 0 && differ.Side == files.OnlyNow: // it may only not have been read then
		case !r.scope.wants(at):
		case r.options.KeepNew && differ.Side == files.OnlyNow && files.Below(at, uploads):
		default:
			found = append(found, differ)
		}
	}
	count, _ = slices.DeleteFunc(area.Tree(),
		func(item files.Item) bool { return !r.scope.wants(path.Join(area.Path, item.Path)) }).Total()
	return found, count, nil
}

func (r *restoration) planArea(ctx context.Context, area snapshot.Area) error {
	differences, _, err := r.compareArea(ctx, area)
	if err != nil {
		return err
	}
	for _, differ := range differences {
		at := path.Join(area.Path, differ.Path)
		if folder := r.componentAround(ctx, at); folder != "" {
			if !slices.Contains(r.swaps, folder) {
				if mount, err := deploy.Mounted(ctx, r.Session, folder); mount != "" ||
					(err != nil && !errors.Is(err, fs.ErrNotExist)) {
					return errors.Join(err, fmt.Errorf("%s would have to be exchanged as a whole, and something is mounted at %s:"+
						" unmount it first; nothing was changed", folder, mount))
				}
				r.swaps = append(r.swaps, folder)
				r.plan.Components = append(r.plan.Components, folder)
			}
			continue
		}
		change := deploy.LooseChange{Area: area, Path: differ.Path}
		i, known := slices.BinarySearchFunc(area.Items, differ.Path,
			func(item snapshot.Item, path string) int { return files.ComparePaths(item.Path, path) })
		if known {
			change.Item = &area.Items[i]
			r.plan.Write = append(r.plan.Write, at)
		} else {
			r.plan.Remove = append(r.plan.Remove, at)
		}
		r.loose = append(r.loose, change)
	}
	return nil
}

// componentAround returns the theme's or plugin's folder that the path is in or
// is, or "". Where their folder itself is not there, nothing can be swapped into it.
func (r *restoration) componentAround(ctx context.Context, at string) string {
	if home, inside := r.Site.CMS.Layout().HomeAround(at); inside {
		if _, err := r.Site.Files.Lstat(ctx, home.Path); err != nil {
			return ""
		}
		name, _, deeper := strings.Cut(strings.TrimPrefix(at, home.Path+"/"), "/")
		folder := path.Join(home.Path, name)
		if deeper {
			return folder
		}
		if entry, err := r.Site.Files.Lstat(ctx, folder); err == nil && entry.Kind == files.Folder {
			return folder
		}
		if tree, err := r.manifest.TreeAt(folder); err == nil && tree[0].Kind == files.Folder {
			return folder
		}
	}
	return ""
}

// wantedItems are the items of the snapshot that will be written.
func (r *restoration) wantedItems() []snapshot.Item {
	var items []snapshot.Item
	for _, change := range r.loose {
		if change.Item != nil && change.Item.Kind == files.File {
			items = append(items, *change.Item)
		}
	}
	for _, folder := range r.swaps {
		if area, below, err := r.manifest.AreaOf(folder); err == nil {
			for _, item := range area.ItemsBelow(below) {
				if item.Kind == files.File {
					items = append(items, item)
				}
			}
		}
	}
	return items
}

// wantedTables are the tables of the snapshot that will be put back.
func (r *restoration) wantedTables() []snapshot.Table {
	return slices.DeleteFunc(slices.Clone(r.manifest.Tables), func(t snapshot.Table) bool {
		return !slices.Contains(r.plan.Tables, t.Name)
	})
}
