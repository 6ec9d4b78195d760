// Package databasetest holds an engine against the whole contract of database.Database and
// database.Moment, as testing/fstest does for file systems. Begin reading at TestEngine.
package databasetest

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wetland/core/database"
)

// Engine is how the suite reaches what it tests.
type Engine struct {
	// Empty makes an empty database for one test.
	Empty func(t *testing.T) Account
	// Databases opens databases; nil: as the engines do from this machine.
	Databases Databases
}

// Databases is what the suite opens databases by.
type Databases interface {
	Open(ctx context.Context, login database.Login, owner database.Owner) (database.Database, error)
	Scratch(ctx context.Context, login database.Login) (db database.Database, drop func() error, err error)
}

// Account is a database that the suite may do anything with.
type Account struct {
	Login database.Login
	// Run runs statements as its owner, past what is tested.
	Run func(statements ...string) error
	// ReadOnly is a login that may read and nothing else; nil: the engine has no such thing.
	ReadOnly func() database.Login
	// Breaking is a login whose connections all break at the statement of this number, counted
	// from 1; reached tells whether there was one. nil: nothing can break.
	Breaking func(statement int64) (login database.Login, reached func() bool)
	// Hold keeps others from renaming and writing a table until release is called; nil: there
	// is no such thing.
	Hold func(table string) (release func())
}

// The suite's tables: one with a key and any bytes, one without a key and with equal rows, an
// empty one, one of another site's, and a view. Every engine understands them.
var schema = []string{
	"CREATE TABLE boats (id INTEGER PRIMARY KEY, name VARCHAR(40), photo BLOB)",
	"INSERT INTO boats VALUES (1, 'Otter', x'00ff27'), (2, 'O''Wag tail \u26f4', NULL), (3, '', x'')",
	"CREATE TABLE no_key (a INTEGER, b VARCHAR(10))",
	"INSERT INTO no_key VALUES (1, 'x'), (1, 'x'), (NULL, NULL)",
	"CREATE TABLE nothing_yet (id INTEGER PRIMARY KEY)",
	"CREATE TABLE other_site (id INTEGER PRIMARY KEY)",
	"INSERT INTO other_site VALUES (7)",
	"CREATE VIEW fleet AS SELECT name FROM boats",
}

// damage changes everything that is the site's.
var damage = []string{
	"UPDATE boats SET name = 'changed' WHERE id = 1", "DELETE FROM boats WHERE id = 2",
	"INSERT INTO boats VALUES (9, 'new', NULL)",
	"DELETE FROM no_key WHERE a = 1", "DROP TABLE nothing_yet", "DROP VIEW fleet",
	"CREATE TABLE extra (id INTEGER PRIMARY KEY)", "INSERT INTO extra VALUES (42)",
}

// TestEngine holds an engine against the contract. What it has not is not asked of it.
func TestEngine(t *testing.T, engine Engine) {
	for name, test := range map[string]func(*suite){
		"what is put back is as it was":          (*suite).putsBack,
		"what is unchanged shows no difference":  (*suite).unchanged,
		"a moment does not move":                 (*suite).moment,
		"a moment that lasts holds nobody up":    (*suite).lasts,
		"many read at once":                      (*suite).manyAtOnce,
		"strict patches leave what others wrote": (*suite).strict,
		"what a replaced table had at the end":   (*suite).replaced,
		"whether it can be changed":              (*suite).ready,
		"rows are patched by their key":          (*suite).patches,
		"rows that cannot be read":               (*suite).unreadable,
		"rows that are not those promised":       (*suite).unproved,
		"a context that has ended":               (*suite).ended,
		"another site's tables":                  (*suite).others,
		"a user who may only read":               (*suite).readOnly,
		"connections that break":                 (*suite).breaks,
		"somebody holds the table":               (*suite).held,
		"what cannot be opened":                  (*suite).cannotOpen,
		"queries take their arguments literally": (*suite).queries,
	} {
		t.Run(name, func(t *testing.T) {
			s := &suite{T: t, ctx: context.Background(), account: engine.Empty(t), databases: engine.Databases}
			if s.databases == nil {
				s.databases = database.Engines{}
			}
			s.must(s.account.Run(schema...))
			s.db = s.open(s.account.Login)
			test(s)
		})
	}
}

type suite struct {
	*testing.T
	ctx       context.Context
	account   Account
	db        database.Database
	databases Databases
}

func (s *suite) must(all ...error) {
	s.Helper()
	if err := errors.Join(all...); err != nil {
		s.Fatal(err)
	}
}

// own picks all tables but another site's.
func own(names []string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(name string) bool { return strings.HasPrefix(name, "other_") })
}

func (s *suite) open(login database.Login) database.Database {
	s.Helper()
	db, err := s.databases.Open(s.ctx, login, own)
	s.must(err)
	s.Cleanup(func() { _ = db.Close() })
	return db
}

// state is all of a database in memory.
type state struct {
	tables []database.Table
	rows   map[string][]database.Row
}

// damage damages the tables, and returns them as they were and as they are.
func (s *suite) damage() (before, damaged state) {
	before = s.save()
	s.must(s.account.Run(damage...))
	return before, s.save()
}

func (s *suite) save() state {
	s.Helper()
	moment, err := s.db.Read(s.ctx)
	s.must(err)
	saved := state{rows: map[string][]database.Row{}}
	saved.tables, err = database.Survey(s.ctx, moment, func(table database.Table, encoded []byte, _ uint64) error {
		var decoder database.RowDecoder
		return decoder.Decode(encoded, func(row database.Row) error {
			saved.rows[table.Name] = append(saved.rows[table.Name], row.Clone())
			return nil
		})
	})
	s.must(err, moment.Close())
	return saved
}

func (saved state) replacement(table database.Table) database.Replacement {
	return database.Replacement{Table: table, Rows: func(_ context.Context, each func(database.Row) error) error {
		for _, row := range saved.rows[table.Name] {
			if err := each(row); err != nil {
				return err
			}
		}
		return nil
	}}
}

// back is the change that leads from what is there now to the state.
func (s *suite) back(to state) database.Change {
	s.Helper()
	now, err := database.Present(s.ctx, s.db)
	s.must(err)
	change := database.Change{Tag: "test-1"}
	for _, differ := range database.CompareTables(to.tables, now) {
		if differ.Fate == database.Created {
			change.Aside = append(change.Aside, differ.Name)
		} else {
			change.Replace = append(change.Replace, to.replacement(differ.Before))
		}
	}
	return change
}

func (s *suite) apply(change database.Change) error {
	applied, err := s.db.Apply(s.ctx, change)
	if err != nil {
		return err
	}
	return applied.Finish(s.ctx)
}

// differ lists what is not as in the state.
func (s *suite) differ(from state) (all []string) {
	s.Helper()
	now, err := database.Present(s.ctx, s.db)
	s.must(err)
	for _, differ := range database.CompareTables(from.tables, now) {
		all = append(all, fmt.Sprintf("%s %s", differ.Name, differ.Fate))
	}
	return all
}

func (s *suite) want(from state, when string, differ ...string) {
	s.Helper()
	if got := s.differ(from); !slices.Equal(got, differ) {
		s.Errorf("%s: %q differ, want %q", when, got, differ)
	}
}

// left lists what Wetland made and left in the database.
func (s *suite) left() (all []string) {
	s.Helper()
	db, err := s.databases.Open(s.ctx, s.account.Login, database.Everything)
	s.must(err)
	defer db.Close()
	list := "SELECT table_name FROM information_schema.tables WHERE table_schema = database()"
	if s.account.Login.Engine == "sqlite" {
		list = "SELECT name FROM sqlite_master"
	}
	rows, err := db.Query(s.ctx, list)
	s.must(err)
	for _, row := range rows {
		if strings.HasPrefix(row[0].String(), "wetland_") {
			all = append(all, row[0].String())
		}
	}
	slices.Sort(all)
	return all
}

func (s *suite) leftOnly(when string, want ...string) {
	s.Helper()
	if got := s.left(); !slices.Equal(got, want) {
		s.Errorf("%s: %q are left, want %q", when, got, want)
	}
}

func (s *suite) putsBack() {
	before := s.save()
	if len(before.tables) != 4 || len(before.rows["boats"]) != 3 || len(before.rows["no_key"]) != 3 {
		s.Fatalf("read %d tables: %+v", len(before.tables), before)
	}
	s.must(s.account.Run(damage...))
	s.want(before, "damaged", "boats rows changed", "extra created", "fleet dropped", "no_key rows changed",
		"nothing_yet dropped")
	applied, err := s.db.Apply(s.ctx, s.back(before))
	s.must(err)
	s.must(applied.Finish(s.ctx))
	s.want(before, "put back")
	if aside := applied.Aside(); len(aside) != 1 || !strings.HasPrefix(aside[0], database.AsidePrefix) {
		s.Errorf("set aside: %q", aside)
	}
	s.leftOnly("put back", applied.Aside()...)
	rows, err := s.db.Query(s.ctx, "SELECT id FROM "+applied.Aside()[0])
	if err != nil || len(rows) != 1 || rows[0][0].String() != "42" {
		s.Errorf("what was set aside holds %v, %v", rows, err)
	}
	if _, err := s.db.Query(s.ctx, "SELECT name FROM fleet"); err != nil {
		s.Errorf("the view does not work: %v", err)
	}
}

func (s *suite) unchanged() {
	before := s.save()
	s.want(before, "looked at once more")
	change := database.Change{Tag: "test-1"}
	for _, table := range before.tables {
		change.Replace = append(change.Replace, before.replacement(table))
	}
	s.must(s.apply(change))
	s.want(before, "replaced by itself")
	s.leftOnly("replaced by itself")
	s.must(s.apply(database.Change{Tag: "test-2"}))
	s.want(before, "no change at all")
}

func (s *suite) moment() {
	moment, err := s.db.Read(s.ctx)
	s.must(err)
	// The first read sees the moment; what comes after it does not count.
	first, err := database.Survey(s.ctx, moment, nil)
	s.must(err, s.account.Run("INSERT INTO no_key VALUES (5, 'later')"))
	again, err := database.Survey(s.ctx, moment, nil)
	s.must(err, moment.Close())
	if differ := database.CompareTables(first, again); len(differ) > 0 {
		s.Errorf("the moment moved: %+v", differ)
	}
	if now, err := database.Present(s.ctx, s.db); err != nil || len(database.CompareTables(first, now)) != 1 {
		s.Errorf("a later one does not see what was written: %v", err)
	}
}

// lasts: whoever changes tables does not wait for an open view, also after some of its rows were read; and it shows
// what was there, or an error.
func (s *suite) lasts() {
	before := s.save()
	moment, err := s.db.Read(s.ctx)
	s.must(err)
	defer func() { s.must(moment.Close()) }()
	if !moment.Standing().Lasts {
		return
	}
	rows := func(name string) (rows []database.Row, err error) {
		i := slices.IndexFunc(moment.Tables(), func(t database.Table) bool { return t.Name == name })
		err = moment.Rows(s.ctx, moment.Tables()[i],
			func(row database.Row) error { rows = append(rows, row.Clone()); return nil })
		return rows, err
	}
	_, err = rows("boats")
	s.must(err, s.account.Run("ALTER TABLE boats ADD COLUMN sails INTEGER", "DROP TABLE nothing_yet", "UPDATE no_key"+
		" SET b = 'y'"))
	now, err := rows("no_key")
	s.must(err)
	if len(now) != len(before.rows["no_key"]) ||
		slices.ContainsFunc(now, func(row database.Row) bool { return row[1].String() == "y" }) {
		s.Errorf("the view moved: %v", now)
	}
	if now, err := rows("boats"); err == nil && len(now) != len(before.rows["boats"]) {
		s.Errorf("other rows, and no error: %v", now)
	}
	later, err := s.db.Read(s.ctx)
	s.must(err)
	if idle, known := later.Standing().Idle["no_key"]; known && idle > 30 {
		s.Errorf("somebody wrote to it just now, not %d s ago", idle)
	}
	s.must(later.Close())
}

// strict: rows that are not as they were read, and keys that are taken, are left alone; all else is done, and it is
// told.
func (s *suite) strict() {
	boats := s.table("boats")
	read := map[string]database.Row{}
	for _, row := range s.save().rows["boats"] {
		read[row[1].String()] = row
	}
	other := func(name string, id string) database.Row {
		row := read[name].Clone()
		row[1].Data = []byte("put back " + id)
		return row
	}
	s.must(s.account.Run("UPDATE boats SET name = 'a visitor''s' WHERE id = 2",
		"INSERT INTO boats VALUES (4, 'new', NULL)"))
	taken := other("", "4")
	taken[0] = database.Value{Type: taken[0].Type, Data: []byte("4")}
	if taken[0].Type == database.Integer {
		taken[0] = database.IntegerValue(4)
	}
	second := read["O'Wag tail \u26f4"]
	patch := database.Patch{
		Table: boats, Strict: true, Remove: database.RowsOf([]database.Row{read["Otter"], second}),
		Put: database.RowsOf([]database.Row{other("Otter", "1"), other("O'Wag tail \u26f4", "2"), taken}),
	}
	if boats.FreshKeys() {
		patch.Add = database.RowsOf([]database.Row{read["Otter"], second})
	}
	if err := s.apply(database.Change{Patches: []database.Patch{patch}}); !errors.Is(err, database.ErrWritten) {
		s.Errorf("somebody had written to rows: %v", err)
	}
	names := map[string]int{}
	for _, row := range s.save().rows["boats"] {
		names[row[1].String()]++
	}
	want := map[string]int{"put back 1": 1, "a visitor's": 1, "": 1, "new": 1}
	if patch.Add != nil {
		want["Otter"] = 1 // under a new key; not the other one, whose old row was left alone
	}
	if !maps.Equal(names, want) {
		s.Errorf("%v, not %v", names, want)
	}
}

// ready: whether tables can be changed is found out without changing any, also while they are read.
func (s *suite) ready() {
	before := s.save()
	s.must(database.Ready(s.ctx, s.db))
	s.want(before, "asked whether it can be changed")
}

// replaced: until a change is finished, the rows can be read that a table had when another took its place.
func (s *suite) replaced() {
	before := s.save()
	s.must(s.account.Run(damage[:3]...))
	damaged, boats := s.save(), s.table("boats")
	applied, err := s.db.Apply(s.ctx, database.Change{Tag: "test-1",
		Replace: []database.Replacement{before.replacement(boatsIn(before))}})
	s.must(err)
	count := 0
	s.must(applied.Replaced(s.ctx, boats, func(database.Row) error { count++; return nil }))
	if count != len(damaged.rows["boats"]) {
		s.Errorf("%d rows, not %d", count, len(damaged.rows["boats"]))
	}
	if err := applied.Replaced(s.ctx, s.table("no_key"), func(database.Row) error { return nil }); !errors.Is(err,
		errors.ErrUnsupported) {
		s.Errorf("a table that was not replaced: %v", err)
	}
	s.must(applied.Finish(s.ctx))
	s.want(before, "put back")
	s.leftOnly("finished")
}

func boatsIn(of state) database.Table {
	return of.tables[slices.IndexFunc(of.tables, func(t database.Table) bool { return t.Name == "boats" })]
}

func (s *suite) manyAtOnce() {
	before := s.save()
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			now, err := database.Present(s.ctx, s.db)
			if differ := database.CompareTables(before.tables, now); err != nil || len(differ) > 0 {
				s.Errorf("%v %v", differ, err)
			}
		})
	}
	wait.Wait()
}

func (s *suite) table(name string) database.Table {
	s.Helper()
	saved := s.save()
	i := slices.IndexFunc(saved.tables, func(t database.Table) bool { return t.Name == name })
	if i < 0 {
		s.Fatalf("there is no table %s", name)
	}
	return saved.tables[i]
}

func (s *suite) patches() {
	before, boats := s.save(), s.table("boats")
	s.must(s.account.Run(damage[:3]...))
	byName := map[string]database.Row{}
	for _, row := range append(before.rows["boats"], s.save().rows["boats"]...) {
		byName[row[1].String()] = row
	}
	patch := database.Patch{
		Table: boats, Put: database.RowsOf([]database.Row{byName["Otter"], byName["O'Wag tail \u26f4"]}),
		Remove: database.RowsOf([]database.Row{byName["new"]}),
	}
	s.must(s.apply(database.Change{Patches: []database.Patch{patch}}))
	s.want(before, "patched")
	s.must(s.apply(database.Change{Patches: []database.Patch{{Table: boats}}}))
	s.want(before, "a patch of nothing")
	broken := errors.New("the rows cannot be had")
	patch.Put = func(_ context.Context, each func(database.Row) error) error {
		return errors.Join(each(byName["new"]), broken)
	}
	if err := s.apply(database.Change{Patches: []database.Patch{patch}}); !errors.Is(err, broken) {
		s.Errorf("rows that cannot be had: %v", err)
	}
	s.want(before, "a patch that failed")
	keyless := database.Patch{Table: s.table("no_key"), Put: database.RowsOf(before.rows["no_key"])}
	if len(keyless.Table.Key) > 0 {
		return // the engine has a key of its own
	}
	if err := s.apply(database.Change{Patches: []database.Patch{keyless}}); err == nil {
		s.Error("rows without a key were patched")
	}
	s.want(before, "a patch of a table without a key")
}

// unreadable: whichever row of whichever table cannot be had, nothing changes and nothing stays.
func (s *suite) unreadable() {
	before, damaged := s.damage()
	broken := errors.New("the rows cannot be had")
	for n, r := range s.back(before).Replace {
		if r.Table.Kind != database.BaseTable {
			continue
		}
		for after := range len(before.rows[r.Table.Name]) + 1 {
			change := s.back(before)
			change.Replace[n].Rows = func(_ context.Context, each func(database.Row) error) error {
				for _, row := range before.rows[r.Table.Name][:after] {
					if err := each(row); err != nil {
						return err
					}
				}
				return broken
			}
			if err := s.apply(change); !errors.Is(err, broken) {
				s.Errorf("%s after %d rows: %v", r.Table.Name, after, err)
			}
			s.want(damaged, fmt.Sprintf("%s after %d rows", r.Table.Name, after))
			s.leftOnly(r.Table.Name)
		}
	}
}

// unproved: rows that are not those that the digest promises never become live.
func (s *suite) unproved() {
	before, damaged := s.damage()
	for n, r := range s.back(before).Replace {
		if r.Table.Kind != database.BaseTable || len(before.rows[r.Table.Name]) == 0 {
			continue
		}
		change := s.back(before)
		change.Replace[n].Rows = database.RowsOf(before.rows[r.Table.Name][1:])
		if err := s.apply(change); err == nil {
			s.Errorf("a row of %s was lost, and nobody noticed", r.Table.Name)
		}
		s.want(damaged, "a lost row of "+r.Table.Name)
		s.leftOnly(r.Table.Name)
	}
}

func (s *suite) ended() {
	before, damaged := s.damage()
	change := s.back(before)
	ended, cancel := context.WithCancel(s.ctx)
	cancel()
	_, read := s.db.Read(ended)
	_, apply := s.db.Apply(ended, change)
	_, query := s.db.Query(ended, "SELECT 1")
	for call, err := range map[string]error{"Read": read, "Apply": apply, "Query": query} {
		if !errors.Is(err, context.Canceled) {
			s.Errorf("%s: %v", call, err)
		}
	}
	s.want(damaged, "calls whose context had ended")
	// It ends while rows are loaded.
	loading, stop := context.WithCancel(s.ctx)
	defer stop()
	for n, r := range change.Replace {
		if r.Table.Name == "boats" {
			change.Replace[n].Rows = func(_ context.Context, each func(database.Row) error) error {
				stop()
				return errors.Join(each(before.rows["boats"][0]), loading.Err())
			}
		}
	}
	if _, err := s.db.Apply(loading, change); !errors.Is(err, context.Canceled) {
		s.Errorf("ended while it was loading: %v", err)
	}
	s.want(damaged, "ended while it was loading")
	s.leftOnly("ended while it was loading")
	s.must(s.apply(s.back(before)))
	s.want(before, "once more")
}

func (s *suite) others() {
	before := s.save()
	if slices.ContainsFunc(before.tables, func(t database.Table) bool { return t.Name == "other_site" }) {
		s.Error("another site's table is read")
	}
	s.must(s.account.Run(append(damage, "INSERT INTO other_site VALUES (8)", "CREATE TABLE wetland_aside_run_1_x (a"+
		" INTEGER)")...))
	s.must(s.apply(s.back(before)))
	s.must(s.db.Sweep(s.ctx, []string{"boats", "other_site"}))
	rows, err := s.db.Query(s.ctx, "SELECT id FROM other_site ORDER BY id")
	if err != nil || len(rows) != 2 {
		s.Errorf("another site's table holds %v, %v", rows, err)
	}
	if !slices.Contains(s.left(), "wetland_aside_run_1_x") {
		s.Error("what was set aside earlier is gone")
	}
}

func (s *suite) readOnly() {
	if s.account.ReadOnly == nil {
		s.Skip("there is no such user")
	}
	before, damaged := s.damage()
	change := s.back(before)
	s.db = s.open(s.account.ReadOnly())
	if now, err := database.Present(s.ctx, s.db); err != nil || len(database.CompareTables(damaged.tables, now)) > 0 {
		s.Errorf("it cannot read: %v", err)
	}
	if err := s.apply(change); err == nil {
		s.Error("it could write")
	}
	s.want(damaged, "by a user who may only read")
	s.leftOnly("by a user who may only read")
}

// breaks: at whichever statement a connection breaks, each table is wholly as before or wholly
// as after; doing it again brings the rest, and nothing of ours stays.
func (s *suite) breaks() {
	if s.account.Breaking == nil {
		s.Skip("nothing can break")
	}
	before := s.save()
	names := []string{"boats", "no_key", "nothing_yet", "fleet"}
	for statement := int64(1); ; statement++ {
		s.must(s.account.Run("DROP TABLE IF EXISTS extra", "DROP VIEW IF EXISTS fleet", "DROP TABLE IF EXISTS nothing_yet"))
		s.must(s.account.Run(append(schema[:0:0], "DELETE FROM boats", schema[1], "DELETE FROM no_key", schema[3], schema[4],
			schema[7])...))
		s.must(s.account.Run(damage...))
		damaged, change := s.save(), s.back(before)
		login, reached := s.account.Breaking(statement)
		err := s.through(login, change)
		if !reached() {
			if err != nil {
				s.Errorf("nothing broke, and it said %v", err)
			}
			if statement < 10 {
				s.Errorf("a change of %d statements did not do its work", statement)
			}
			break
		}
		if err == nil && len(s.differ(before)) > 0 {
			s.Errorf("statement %d: it said nothing, and %q differ", statement, s.differ(before))
		}
		s.wholly(before, damaged, fmt.Sprintf("statement %d (%v)", statement, err))
		// As recover does it.
		s.must(s.apply(s.back(before)))
		s.want(before, fmt.Sprintf("statement %d, done again", statement))
		made, err := s.db.Leftover(s.ctx, names)
		s.must(err)
		for _, name := range s.left() {
			if !strings.HasPrefix(name, database.AsidePrefix) && !slices.Contains(made, name) {
				s.Errorf("statement %d: %s is not told as a leftover", statement, name)
			}
		}
		s.must(s.db.Sweep(s.ctx, names))
		if made, err := s.db.Leftover(s.ctx, names); err != nil || len(made) > 0 {
			s.Errorf("statement %d: swept, and %q are told as leftovers, %v", statement, made, err)
		}
		for _, name := range s.left() {
			if !strings.HasPrefix(name, database.AsidePrefix) {
				s.Errorf("statement %d: %s is left", statement, name)
			}
			s.must(s.account.Run("DROP TABLE " + name))
		}
	}
}

// through applies a change by another login, which may break.
func (s *suite) through(login database.Login, change database.Change) error {
	db, err := s.databases.Open(s.ctx, login, own)
	if err != nil {
		return err
	}
	defer db.Close()
	applied, err := db.Apply(s.ctx, change)
	if err != nil {
		return err
	}
	return applied.Finish(s.ctx)
}

// wholly fails the test if the rows of a table are neither those before nor those after.
func (s *suite) wholly(before, damaged state, when string) {
	s.Helper()
	digest := func(of state, name string) string {
		for _, table := range of.tables {
			if table.Name == name {
				return fmt.Sprint(table.Rows, table.Digest)
			}
		}
		return "none"
	}
	now := s.save()
	for _, name := range []string{"boats", "no_key", "nothing_yet"} {
		if is := digest(now, name); is != digest(before, name) && is != digest(damaged, name) {
			s.Errorf("%s: %s is neither as before nor as after", when, name)
		}
	}
}

// held: whoever waits for a table can be stopped, and has changed nothing.
func (s *suite) held() {
	if s.account.Hold == nil {
		s.Skip("nobody can hold a table")
	}
	before, damaged := s.damage()
	change := s.back(before)
	release := s.account.Hold("boats")
	ctx, stop := context.WithCancel(s.ctx)
	defer stop()
	for n, r := range change.Replace {
		if r.Table.Name == "no_key" { // the last one; the wait comes after it
			rows := r.Rows
			change.Replace[n].Rows = func(ctx context.Context, each func(database.Row) error) error {
				defer stop()
				return rows(ctx, each)
			}
		}
	}
	time.AfterFunc(time.Second/2, stop) // where it waits before it reads any row
	applied, err := s.db.Apply(ctx, change)
	if err == nil {
		err = applied.Finish(ctx)
	}
	if !errors.Is(err, context.Canceled) {
		s.Errorf("stopped while it waited: %v", err)
	}
	release()
	s.want(damaged, "stopped while it waited")
	s.must(s.apply(s.back(before)))
	s.want(before, "once nobody holds it")
}

func (s *suite) cannotOpen() {
	missing := s.account.Login
	missing.Name += "_gone"
	if missing.File != "" {
		missing.File += ".gone"
	}
	if _, err := s.databases.Open(s.ctx, missing, own); !errors.Is(err, database.ErrMissing) &&
		!errors.Is(err, database.ErrDenied) {
		s.Errorf("a database that is not there: %v", err)
	}
	db, drop, err := s.databases.Scratch(s.ctx, s.account.Login)
	if err != nil {
		return // this user may not make any
	}
	tables, err := database.Present(s.ctx, db)
	if err != nil || len(tables) > 0 {
		s.Errorf("a database for one use holds %v, %v", tables, err)
	}
	s.must(db.Close(), drop())
}

func (s *suite) queries() {
	hostile := "'; DROP TABLE boats; -- \\"
	rows, err := s.db.Query(s.ctx, "SELECT ? AS said", hostile)
	if err != nil || len(rows) != 1 || rows[0][0].String() != hostile {
		s.Errorf("%q %v", rows, err)
	}
	engine, err := s.db.Engine(s.ctx)
	if err != nil || !strings.ContainsAny(engine, "0123456789") {
		s.Errorf("the engine is %q, %v", engine, err)
	}
	if size, err := s.db.Size(s.ctx); err != nil || size < 0 {
		s.Errorf("a size of %d, %v", size, err)
	}
	if !slices.ContainsFunc(s.save().tables, func(t database.Table) bool { return t.Name == "boats" }) {
		s.Error("an argument was run")
	}
}
