package restore

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"

	"wetland/core/archive"
	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/packs"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/snapshot"
	"wetland/core/workspace"
)

// Into says where a copy of a snapshot goes.
type Into struct {
	Folder   string // empty or missing; "": no files
	Database string // of the same server; made if it is missing; "": no tables, but those of SQLite go with the files
}

// MakeCopy restores a snapshot beside the site, into another folder and database,
// and proves the copy. The site itself is not touched.
func MakeCopy(ctx context.Context, w *workspace.Workspace, name string, into Into, guard session.Guard) (*snapshot.Manifest, error) {
	guard.Fill()
	store, m, err := session.OpenSnapshot(ctx, w, name, guard)
	if err != nil {
		return nil, err
	}
	defer store.Close()
	c := &copying{Guard: guard, store: store, m: m, workspace: w, into: into}
	if into.Folder != "" {
		if err := archive.CheckTarget(ctx, w, m, into.Folder); err != nil {
			return nil, err
		}
		if err := c.openFolder(ctx); err != nil {
			return nil, err
		}
		defer c.here.Close()
		if err := c.putFiles(ctx); err != nil {
			return nil, err
		}
	}
	return m, c.putTables(ctx)
}

// copying is one restore into another place.
type copying struct {
	session.Guard
	store     *packs.Store
	m         *snapshot.Manifest
	workspace *workspace.Workspace
	into      Into
	here      *files.Roots // of this machine, where the copy comes
}

// openFolder reaches the folder that the copy is made in.
func (c *copying) openFolder(ctx context.Context) error {
	folder, err := filepath.Abs(c.into.Folder)
	if err != nil {
		return err
	}
	if c.into.Folder, err = files.RealOfExisting(ctx, host.Here, filepath.ToSlash(folder)); err != nil {
		return err
	}
	c.here = &files.Roots{Disk: host.Here}
	return c.here.ReachNearest(ctx, path.Dir(c.into.Folder))
}

// top is where an area goes: the folder itself if there is one area only.
func (c *copying) top(area snapshot.Area) string {
	folder := c.into.Folder
	if len(c.m.Areas) == 1 {
		return folder
	}
	return path.Join(folder, area.Name)
}

func (c *copying) putFiles(ctx context.Context) error {
	_, size, _, _ := c.m.Totals()
	c.Report.Begin("files", size, "bytes")
	count, foreign := 0, 0
	if err := files.MakeAll(ctx, c.here, path.Dir(c.into.Folder), 0o700); err != nil {
		return err
	}
	if len(c.m.Areas) > 1 {
		if err := files.MakeAll(ctx, c.here, c.into.Folder, 0o700); err != nil {
			return err
		}
	} else if _, err := c.here.Lstat(ctx, c.into.Folder); err == nil {
		if err := c.here.Remove(ctx, c.into.Folder); err != nil { // it is empty
			return err
		}
	}
	for _, area := range c.m.Areas {
		tree := area.Tree()
		for i := range tree {
			if !c.here.CanOwn(tree[i].Owner, tree[i].Group) {
				tree[i].Owner, tree[i].Group = files.Unowned, files.Unowned
				foreign++
			}
		}
		if err := files.WriteTree(ctx, c.here, c.top(area), tree, snapshot.Source(ctx, c.store, area.Items), c.Report.Advance); err != nil {
			return err
		}
		written, err := files.ReadTree(ctx, c.here, c.top(area), files.Scope{})
		if err != nil {
			return err
		}
		if differ := (files.Comparison{Modes: true}).Compare(tree, written); len(differ) > 0 {
			return fmt.Errorf("the copy differs from %s: %s (%s)", c.m.Name, differ[0].Path, differ[0].What)
		}
		n, _ := tree.Total()
		count += n
	}
	detail, mark := fmt.Sprintf("%s in %s, equal to %s", phrase.Plural(count, "file"), c.into.Folder, c.m.Name), progress.Good
	if foreign > 0 {
		mark, detail = progress.Note, detail+fmt.Sprintf("; %s could not be given the owner", phrase.Plural(foreign, "path"))
	}
	c.Report.End(mark, "files", detail)
	return nil
}

func (c *copying) putTables(ctx context.Context) error {
	login, databases, err := c.login(ctx)
	if err != nil || databases == nil {
		return err
	}
	c.Report.Begin("database", 0, "")
	db, err := databases.Open(ctx, login, database.Everything)
	if errors.Is(err, database.ErrMissing) {
		if err := databases.Create(ctx, login); err != nil {
			return err
		}
		db, err = databases.Open(ctx, login, database.Everything)
	}
	if err != nil {
		return err
	}
	defer db.Close()
	present, err := database.Present(ctx, db)
	if err != nil {
		return err
	}
	if len(present) > 0 {
		return fmt.Errorf("the database %s is not empty: it holds %s. Name a new one, which is made, or an empty one", login.Name, present[0].Name)
	}
	if err := archive.LoadAll(ctx, c.store, c.m, db); err != nil {
		return fmt.Errorf("load the tables into %s: %w", login, err)
	}
	_, _, tables, rows := c.m.Totals()
	detail := fmt.Sprintf("%s (%s) in %s, equal to %s", phrase.Plural(tables, "table"), phrase.Plural(int(rows), "row"), login, c.m.Name)
	if slices.ContainsFunc(c.m.Tables, func(t snapshot.Table) bool { return t.Kind == database.Event }) {
		detail += "; its events are disabled there"
	}
	c.Report.End(progress.Good, "database", detail)
	return nil
}

// login returns where the tables go, and what opens databases there; nil if they are not wanted.
func (c *copying) login(ctx context.Context) (login database.Login, databases host.Databases, err error) {
	if c.m.Dialect() == "sqlite" {
		if c.into.Database != "" {
			return login, nil, errors.New("the site's database is an SQLite file: it comes with the files, and has no other name")
		}
		if c.into.Folder == "" {
			return login, nil, nil
		}
		at := path.Join(c.into.Folder, "database.sqlite")
		if len(c.m.Layout.DatabaseFiles) > 0 {
			at = path.Join(c.top(c.m.Areas[0]), c.m.Layout.DatabaseFiles[0])
		}
		if err := files.MakeAll(ctx, c.here, path.Dir(at), 0o700); err != nil {
			return login, nil, err
		}
		// The engine follows links, which may come from the snapshot.
		if real, err := files.RealOfExisting(ctx, host.Here, at); err != nil || real != at {
			return login, nil, errors.Join(err, fmt.Errorf("the database would be made in %s, where a link in the snapshot leads: nothing was written there", real))
		}
		return database.Login{Engine: "sqlite", File: at}, host.Here.Databases(), nil
	}
	if c.into.Database == "" {
		return login, nil, nil
	}
	opened, err := site.Open(ctx, c.workspace)
	if err != nil {
		return login, nil, err
	}
	defer opened.Close()
	if login, err = opened.Login(); err != nil {
		return login, nil, err
	}
	if login.Name == c.into.Database {
		return login, nil, fmt.Errorf("%s is the live site's own database", login.Name)
	}
	login.Name = c.into.Database
	return login, opened.Host.Databases(), nil
}
