package archive

import (
	"context"
	"errors"
	"fmt"

	"wetland/core/advice"
	"wetland/core/database"
	"wetland/core/host"
	"wetland/core/packs"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/snapshot"
	"wetland/core/workspace"
)

// ErrDamaged says that a snapshot must not be relied on.
var ErrDamaged = errors.New("it is damaged and must not be relied on")

// mend is what to do about a damaged snapshot.
var mend = advice.Lead("What the site still has of these, as they were, the next snapshot stores anew, and this one"+
	" is whole again with it:",
	advice.TakeSnapshot)

// Verify proves a snapshot of the workspace's site: every byte and every row. With
// deep, it also loads the tables into a scratch database and compares what the engine
// makes of them. Errors that wrap ErrDamaged tell what is wrong with the snapshot.
func Verify(
	ctx context.Context, w *workspace.Workspace, name string, deep bool, guard session.Guard,
) (*snapshot.Manifest, error) {
	guard.Fill()
	store, err := session.OpenStore(ctx, w, guard)
	if err != nil {
		return nil, err
	}
	defer store.Close()
	m, err := snapshot.Load(ctx, store, name)
	if errors.Is(err, snapshot.ErrNoSnapshot) {
		return nil, err
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w:\n%w", name, ErrDamaged, err)
	}
	session.TellOrigin(store, m, guard)
	guard.Report.Begin("verifying", 0, "bytes")
	if err := snapshot.Verify(ctx, store, m, guard.Report); err != nil {
		if ctx.Err() != nil {
			return nil, err
		}
		return nil, advice.With(fmt.Errorf("%s: %w:\n%w", name, ErrDamaged, err), mend)
	}
	guard.Report.End(progress.Good, "every byte", session.SnapshotTotals(m))
	if !deep || len(m.Tables) == 0 {
		return m, nil
	}
	guard.Report.Begin("loading", 0, "")
	if err := roundTrip(ctx, w, store, m); err != nil {
		return nil, fmt.Errorf("load the tables of %s into a scratch database: %w", name, err)
	}
	guard.Report.End(progress.Good, "every row", fmt.Sprintf("%s loaded into a scratch database and read back, equal;"+
		" the scratch database is gone again", phrase.Plural(len(m.Tables), "table")))
	return m, nil
}

// roundTrip loads all tables of a snapshot into a database made for it, and compares.
func roundTrip(ctx context.Context, w *workspace.Workspace, store *packs.Store, m *snapshot.Manifest) (err error) {
	scratch, drop, err := openScratch(ctx, w, m)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, scratch.Close(), drop()) }()
	return LoadAll(ctx, store, m, scratch)
}

// LoadAll puts all tables of a snapshot into an empty database, and proves them. No event runs
// there.
func LoadAll(ctx context.Context, store *packs.Store, m *snapshot.Manifest, into database.Database) error {
	change := database.Change{Tag: m.Name, Apart: true}
	described := database.Resting(m.Described())
	for i, table := range m.Tables {
		change.Replace = append(change.Replace, database.Replacement{Table: described[i], Rows: snapshot.Rows(store, table)})
	}
	applied, err := into.Apply(ctx, change)
	if err != nil {
		return err
	}
	if err := applied.Finish(ctx); err != nil {
		return err
	}
	present, err := database.Present(ctx, into)
	if err != nil {
		return err
	}
	for _, differ := range database.CompareTables(described, present) {
		return fmt.Errorf("%w: the table %s is another one (%s) once it is loaded", ErrDamaged, differ.Name, differ.Fate)
	}
	return nil
}

// openScratch makes an empty database of the same engine as the snapshot's.
func openScratch(
	ctx context.Context, w *workspace.Workspace, m *snapshot.Manifest,
) (db database.Database, drop func() error, err error) {
	login, databases := database.Login{Engine: "sqlite"}, host.Here.Databases()
	if m.Dialect() != "sqlite" {
		opened, err := site.Open(ctx, w)
		if err != nil {
			return nil, nil, err
		}
		defer opened.Close()
		if login, err = opened.Login(); err != nil {
			return nil, nil, err
		}
		databases = opened.Host.Databases()
	}
	return databases.Scratch(ctx, login)
}
