package remote

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"

	"wetland/core/database"
	"wetland/core/wire"
)

func realOf(v database.Value) float64 { return math.Float64frombits(binary.BigEndian.Uint64(v.Data)) }

// onDatabase carries out a call about a database.
func (h *helper) onDatabase(ctx context.Context, r *wire.Request, args request) (result any, err error) {
	if args.Login == nil {
		return nil, fmt.Errorf("%w: no login", wire.ErrProtocol)
	}
	t := newTalk(r)
	switch r.Method {
	case methodCreateDatabase:
		return nil, h.on.Databases().Create(ctx, args.Login.login())
	case methodMoment: // opened for it alone: whose the tables are is asked on this call
		db, err := h.on.Databases().Open(ctx, args.Login.login(), t.owner(args.Owned))
		if err != nil {
			return nil, err
		}
		return nil, errors.Join(holdMoment(ctx, t, db), db.Close())
	}
	db, err := h.database(ctx, *args.Login)
	if err != nil {
		return nil, err
	}
	switch r.Method {
	case methodEngine:
		return db.Engine(ctx)
	case methodSize:
		return db.Size(ctx)
	case methodQuery:
		return nil, query(ctx, t, db, args)
	case methodLeftover:
		return db.Leftover(ctx, tables(args))
	case methodSweep:
		return nil, db.Sweep(ctx, tables(args))
	}
	return nil, apply(ctx, t, db)
}

func tables(args request) (names []string) {
	for _, name := range args.More {
		names = append(names, string(name))
	}
	return names
}

// mostDatabases bounds how many databases a desk may have open.
const mostDatabases = 20

// database returns an open database; it stays open until the line ends.
func (h *helper) database(ctx context.Context, as login) (database.Database, error) {
	text, err := json.Marshal(as)
	if err != nil {
		return nil, err
	}
	key := string(text)
	h.lock.Lock()
	db := h.databases[key]
	full := len(h.databases) >= mostDatabases
	h.lock.Unlock()
	switch {
	case db != nil:
		return db, nil
	case full:
		return nil, fmt.Errorf("more than %d databases are open", mostDatabases)
	}
	if db, err = h.on.Databases().Open(ctx, as.login(), database.Everything); err != nil {
		return nil, err
	}
	h.lock.Lock()
	defer h.lock.Unlock()
	if other := h.databases[key]; other != nil {
		return other, db.Close()
	}
	h.databases[key] = db
	return db, nil
}

// owner tells which tables are the site's: as the desk said beforehand, or as it says now; of a line that
// broke, none are.
func (t *talk) owner(known *owned) database.Owner {
	return func(names []string) []string {
		if known != nil && known.Of == hashOf(names) {
			return known.Tables
		}
		return t.askOwner(names)
	}
}

func (t *talk) askOwner(names []string) (owned []string) {
	if err := t.tell(sayNames, names); err != nil {
		return nil
	}
	if err := t.expect(sayOwned, &owned); err != nil {
		return nil
	}
	return owned
}

func query(ctx context.Context, t *talk, db database.Database, args request) error {
	var values database.Row
	var decoder database.RowDecoder
	for _, encoded := range args.More {
		if err := decoder.Decode(encoded, func(row database.Row) error { values = cloneRow(row); return nil }); err != nil {
			return err
		}
	}
	rows, err := db.Query(ctx, string(args.Other), fromValues(values)...)
	if err != nil {
		return err
	}
	return t.sayRows(func(each func(database.Row) error) error { return eachOf(rows, each) })
}

func eachOf(rows []database.Row, each func(database.Row) error) error {
	for _, row := range rows {
		if err := each(row); err != nil {
			return err
		}
	}
	return nil
}

// holdMoment holds a moment until the desk says no more, or is gone.
func holdMoment(ctx context.Context, t *talk, db database.Database) error {
	m, err := db.Read(ctx)
	if err != nil {
		return err
	}
	if err = t.tell(sayTables, described{m.Tables(), m.Weaker(), m.Standing()}); err == nil {
		err = (&holding{talk: t, moment: m}).all(ctx)
	}
	return errors.Join(err, m.Close())
}

// apply makes a change with the rows that the desk gives.
func apply(ctx context.Context, t *talk, db database.Database) error {
	var asked change
	if err := t.expect(sayTables, &asked); err != nil {
		return err
	}
	number := 0
	rows := func(there bool) database.Rows {
		n := number
		number++
		if !there {
			return nil
		}
		return func(_ context.Context, each func(database.Row) error) error {
			if err := t.tell(sayWantRows, n); err != nil {
				return err
			}
			return t.hearRows(each)
		}
	}
	c := database.Change{Aside: asked.Aside, Tag: asked.Tag, KeepCounters: asked.KeepCounters, Apart: asked.Apart}
	for _, table := range asked.Replace {
		c.Replace = append(c.Replace, database.Replacement{Table: table, Rows: rows(true)})
	}
	for _, one := range asked.Patches {
		c.Patches = append(c.Patches, database.Patch{Table: one.Table, Put: rows(one.Put), Remove: rows(one.Remove), Strict: one.Strict, Add: rows(one.Add)})
	}
	made, err := db.Apply(ctx, c)
	if err != nil {
		return err
	}
	if err := t.tell(sayApplied, done{made.Aside(), made.NewDefiners()}); err != nil {
		return err
	}
	kind, payload, err := t.hear()
	for err == nil && kind == sayWantRows {
		var of wanted
		if err = json.Unmarshal(payload, &of); err == nil {
			_ = t.sayRows(func(each func(database.Row) error) error { return made.Replaced(ctx, of.Table, each) }) // told there
			kind, payload, err = t.hear()
		}
	}
	if errors.Is(err, io.EOF) {
		return nil // it is not finished
	}
	if err == nil && (kind != sayFinish || !json.Valid(payload)) {
		err = fmt.Errorf("%w: the message %d after a change", wire.ErrProtocol, kind)
	}
	if err == nil {
		err = made.Finish(ctx)
	}
	if err != nil {
		return err
	}
	return t.tell(sayFinished, done{made.Aside(), made.NewDefiners()}) // some are known only now
}
