package tables

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"wetland/core/database"
	"wetland/core/session"
	"wetland/core/snapshot"
)

// Readings are the tables at the instants between which an update works: as in its snapshot, right before the swap, and
// once the new version had settled. They are opened, not read: their rows are read when it goes back, of tables that
// differ. What could not be read any more then is read at once: tables that somebody wrote to just before, for whoever
// empties one leaves nothing of it to an open view, and those without transactions. Close them when done.
type Readings struct {
	s       *session.Session
	from    *snapshot.Manifest
	began   time.Time // before the snapshot's tables were read; zero: nobody knows
	before  *reading  // nil: the snapshot's
	settled *reading  // nil: nobody looked
	alone   []string  // tables to which nobody but the update could write in between; nil: others could to all
	every   bool      // they are all such
	private bool      // at any time
	known   map[string]*written
	// Copied is what the update did on a private copy; nil: it was not tried there.
	Copied *Doing
	doubts []Doubt // what could not be told, of all tables
}

// reading is one of the instants.
type reading struct {
	opened time.Time
	tables []database.Table
	moment database.Moment // nil: closed
	idle   map[string]int64
	copies map[string]*database.RowCopy
	stored *snapshot.Manifest // it is in the store
}

// mostAtOnce bounds how many rows of one reading are read at once: each million takes a second or two.
const mostAtOnce = 2_000_000

// NewReadings begins with a snapshot; began is when that was, before its tables were read.
func NewReadings(s *session.Session, from *snapshot.Manifest, began time.Time) *Readings {
	return &Readings{s: s, from: from, began: began, known: map[string]*written{}}
}

// OpenBefore opens the reading right before the swap: what changed until now, others did.
func (r *Readings) OpenBefore(ctx context.Context) (err error) {
	if r.s.DB == nil || r.began.IsZero() {
		return nil
	}
	r.before, err = r.open(ctx, r.began, false)
	return err
}

// OpenSettled opens the reading once the new version has settled, unless there is one. In a hurry nothing is read at
// once that can be read later in most cases: visitors see dead pages.
func (r *Readings) OpenSettled(ctx context.Context, hurry bool) (err error) {
	if r.s.DB == nil || r.settled != nil || r.before == nil {
		return nil
	}
	r.settled, err = r.open(ctx, r.before.opened, hurry)
	return err
}

// NobodyElseIsThere says that nobody but the update writes at all: on a private copy.
func (r *Readings) NobodyElseIsThere() { r.every, r.private = true, true }

// NobodyElseWrites says that nobody but the update can write until OpenSettled.
func (r *Readings) NobodyElseWrites() { r.every = true }

// SettledIn says that a snapshot holds how the new version had settled, and to which tables nobody else wrote until
// then.
func (r *Readings) SettledIn(m *snapshot.Manifest, alone []string) {
	if m != nil {
		r.settled, r.alone = &reading{stored: m}, alone
		for _, table := range m.Tables {
			r.settled.tables = append(r.settled.tables, table.Table)
		}
	}
}

// KnowsUpgrade tells whether it is known how the tables were right before and right after an upgrade that was made
// while nobody else could write.
func (r *Readings) KnowsUpgrade() bool { return r.settled != nil && (r.every || len(r.alone) > 0) }

// AsBefore lists the tables that were right before the swap as the snapshot has them.
func (r *Readings) AsBefore() (names []string) {
	for _, table := range r.target() {
		i := slices.IndexFunc(r.from.Tables, func(t snapshot.Table) bool { return t.Name == table.Name })
		if i >= 0 && r.from.Tables[i].Shape() == table.Shape() && r.from.Tables[i].Digest == table.Digest {
			names = append(names, table.Name)
		}
	}
	return names
}

// Restyled tells whether any table was made, dropped, or given another structure until the new version had settled.
func (r *Readings) Restyled() bool {
	if r.settled == nil {
		return false
	}
	shapes := func(tables []database.Table) map[string]string {
		all := map[string]string{}
		for _, table := range tables {
			all[table.Name] = table.Shape()
		}
		return all
	}
	return !maps.Equal(shapes(r.target()), shapes(r.settled.tables))
}

// open opens a view of the tables. since is when an earlier one was opened.
func (r *Readings) open(ctx context.Context, since time.Time, hurry bool) (_ *reading, err error) {
	opened := time.Now()
	moment, err := r.s.DB.Read(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the database: %w", err)
	}
	stand := moment.Standing()
	one := &reading{
		opened: opened, tables: moment.Tables(), moment: moment, idle: stand.Idle, copies: map[string]*database.RowCopy{},
	}
	rows := int64(0)
	for _, table := range one.tables {
		if table.Kind != database.BaseTable || stand.Lasts && table.Firm && (hurry || !one.touched(table.Name, since)) {
			continue
		}
		kept, err := r.copyRows(ctx, table, moment, mostAtOnce-rows)
		if errors.Is(err, errLarge) {
			continue
		}
		if err != nil {
			return nil, errors.Join(fmt.Errorf("read the table %s: %w", table.Name, err), one.close())
		}
		one.copies[table.Name], rows = kept, rows+kept.Digest.Rows()
	}
	if !stand.Lasts {
		err = one.closeMoment()
	}
	return one, err
}

// errLarge says that a table has more rows than are read at once.
var errLarge = errors.New("it has more rows than are read at once")

func (r *Readings) copyRows(
	ctx context.Context, table database.Table, moment database.Moment, most int64,
) (*database.RowCopy, error) {
	rows := func(ctx context.Context, each func(database.Row) error) error {
		return moment.Rows(ctx, table, func(row database.Row) error {
			if most--; most < 0 {
				return errLarge
			}
			return each(row)
		})
	}
	return database.CopyRows(ctx, r.s.Site.Workspace.Dir, rows)
}

// clockGrain is by how much a server's times of tables may be off: they are whole seconds.
const clockGrain = 2 * time.Second

// touched tells whether somebody may have written to a table since then. Of a table of which the server knows nothing,
// nobody has since it runs, or nobody can tell.
func (o *reading) touched(name string, since time.Time) bool {
	idle, known := o.idle[name]
	return known && time.Duration(idle)*time.Second <= o.opened.Sub(since)+clockGrain
}

// quiet tells whether certainly nobody has.
func (o *reading) quiet(name string, since time.Time) bool {
	_, known := o.idle[name]
	return known && !o.touched(name, since)
}

func (o *reading) table(name string) (database.Table, bool) {
	i := slices.IndexFunc(o.tables, func(t database.Table) bool { return t.Name == name })
	if i < 0 {
		return database.Table{}, false
	}
	return o.tables[i], true
}

func (o *reading) closeMoment() (err error) {
	if o.moment != nil {
		err, o.moment = o.moment.Close(), nil
	}
	return err
}

func (o *reading) close() error {
	err := o.closeMoment()
	for _, one := range o.copies {
		err = errors.Join(err, one.Close())
	}
	return err
}

// closeMoments ends the open views: nothing of ours waits for them.
func (r *Readings) closeMoments() (err error) {
	for _, one := range []*reading{r.before, r.settled} {
		if one != nil {
			err = errors.Join(err, one.closeMoment())
		}
	}
	return err
}

// Close gives up all readings.
func (r *Readings) Close() (err error) {
	for _, one := range []*reading{r.before, r.settled} {
		if one != nil {
			err = errors.Join(err, one.close())
		}
	}
	return err
}

// target are the tables as they are to be again, as far as that is known without reading any: with the digests of the
// snapshot, where nobody read them later.
func (r *Readings) target() []database.Table {
	tables := r.from.Described()
	if r.before == nil {
		return tables
	}
	now := slices.Clone(r.before.tables)
	for i := range now {
		at := slices.IndexFunc(tables, func(t database.Table) bool { return t.Name == now[i].Name })
		if at >= 0 {
			now[i].Rows, now[i].Digest = tables[at].Rows, tables[at].Digest
		}
		if kept := r.before.copies[now[i].Name]; kept != nil {
			now[i].Rows, now[i].Digest = kept.Digest.Rows(), kept.Digest.String()
		}
	}
	return now
}

// beforeOf is a table right before the swap, with its rows. certain says that nothing can have been written to it that
// these have not.
func (r *Readings) beforeOf(ctx context.Context, name string) (state database.State, certain bool) {
	tables := r.target()
	state.Table = tables[slices.IndexFunc(tables, func(t database.Table) bool { return t.Name == name })]
	if r.before != nil {
		if kept := r.read(ctx, r.before, state.Table, r.began); kept != nil {
			state.Table.Rows, state.Table.Digest, state.Rows = kept.Digest.Rows(), kept.Digest.String(), kept.Rows
			return state, true
		}
		certain = r.before.quiet(name, r.began) || r.before.moment == nil
	}
	i := slices.IndexFunc(r.from.Tables, func(t snapshot.Table) bool { return t.Name == name })
	if i < 0 { // made in between, and gone since
		state.Rows = noRows
		return state, false
	}
	state.Rows = snapshot.Rows(r.s.Store, r.from.Tables[i])
	return state, certain
}

// settledOf is a table once the new version had settled. known is false where nobody can tell, there where it was not
// there then.
func (r *Readings) settledOf(ctx context.Context, name string) (state database.State, there, known bool) {
	one := r.settled
	if one == nil {
		return state, false, false
	}
	state.Table, there = one.table(name)
	if !there {
		return state, false, true
	}
	if one.stored != nil {
		i := slices.IndexFunc(one.stored.Tables, func(t snapshot.Table) bool { return t.Name == name })
		state.Rows = snapshot.Rows(r.s.Store, one.stored.Tables[i])
		return state, true, true
	}
	if kept := r.read(ctx, one, state.Table, r.before.opened); kept != nil {
		state.Rows = kept.Rows
		return state, true, true
	}
	if one.quiet(name, r.before.opened) {
		if before, certain := r.beforeOf(ctx, name); certain && before.Table.Shape() == state.Table.Shape() {
			return before, true, true
		}
	}
	return state, true, false
}

// read returns the copy of a table's rows, made now if the view is still open; nil: they cannot be had, or are what
// they were at an earlier reading.
func (r *Readings) read(ctx context.Context, one *reading, table database.Table, since time.Time) *database.RowCopy {
	kept := one.copies[table.Name]
	if kept != nil || one.moment == nil || table.Kind != database.BaseTable || one.quiet(table.Name, since) {
		return kept
	}
	described, _ := one.table(table.Name) // as that view knows it
	kept, err := r.copyRows(ctx, described, one.moment, 1<<62)
	if err != nil { // emptied, rebuilt or gone meanwhile
		return nil
	}
	one.copies[table.Name] = kept
	return kept
}
