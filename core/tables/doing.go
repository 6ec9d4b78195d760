package tables

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"time"

	"wetland/core/database"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// Doing is what an update did to rows where nobody else could write: on a private copy. nil knows nothing; its zero
// value is to be filled by Watch.
type Doing struct{ done map[uint64]bool }

// mostDone bounds how many cells and rows are remembered. More were written in bulk, which shows by itself.
const mostDone = 2_000_000

// What is remembered: a cell that was changed, by its column, from what and to what; a row that was removed; what a row
// that was added holds beside its key, or the name of a setting.
const (
	didRemove  = "\x01"
	didAdd     = "\x02"
	didAddName = "\x03"
	didFrom    = "\x04"
	didTo      = "\x05"
)

func mark(table, what, which string) uint64 {
	return maphash.String(seed, table+"\x00"+what+"\x00"+which)
}

func (d *Doing) is(table, what, which string) bool {
	return d != nil && d.done[mark(table, what, which)]
}

func (d *Doing) note(table, what, which string) {
	if len(d.done) < mostDone {
		d.done[mark(table, what, which)] = true
	}
}

// made tells whether the update changed such a cell, and made the same of it. known is false where it did not, or had
// another one to begin with.
func (d *Doing) made(w *written, before, settled database.Row, column int) (known, same bool) {
	if d == nil || before == nil || settled == nil {
		return false, false
	}
	name, key := w.table.Columns[column].Name, w.keyOf(before)
	from, to := hashOf(before, []int{column}), hashOf(settled, []int{column})
	return d.is(w.table.Name, name+didFrom, fmt.Sprint(key, from)), d.is(w.table.Name, name+didTo, fmt.Sprint(key, to))
}

// added tells whether the update added such a row.
func (d *Doing) added(w *written, row database.Row, hash uint64) bool {
	if w.settings && w.name >= 0 && d.is(w.table.Name, didAddName, row[w.name].String()) {
		return true
	}
	return d.is(w.table.Name, didAdd, fmt.Sprint(hash))
}

func (d *Doing) removed(w *written, row database.Row) bool {
	return d.is(w.table.Name, didRemove, w.keyOf(row))
}

func (d *Doing) changed(w *written, row database.Row, column int) bool {
	return d.is(w.table.Name, w.table.Columns[column].Name, w.keyOf(row))
}

// Watch adds what was done to the tables since a snapshot, where nobody but the update could write.
func (d *Doing) Watch(ctx context.Context, s *session.Session, from *snapshot.Manifest) (err error) {
	if d.done == nil {
		d.done = map[uint64]bool{}
	}
	if s.DB == nil {
		return nil
	}
	r := NewReadings(s, from, time.Time{})
	moment, err := s.DB.Read(ctx)
	if err != nil {
		return fmt.Errorf("read the database: %w", err)
	}
	defer func() { err = errors.Join(err, moment.Close()) }()
	now, err := database.Survey(ctx, moment, nil)
	if err != nil {
		return err
	}
	for _, differ := range database.CompareTables(from.Described(), now) {
		there := differ.Fate == database.Written || differ.Fate == database.Altered
		if !there || differ.Now.Kind != database.BaseTable || len(differ.Now.Key) == 0 {
			continue
		}
		if s.Site.CMS.Purpose(differ.Name) == cms.Volatile {
			continue
		}
		w, err := r.compare(ctx, differ, moment)
		if errors.Is(err, errNoKey) {
			continue
		}
		if err != nil {
			return err
		}
		if w == nil {
			continue
		}
		err = w.each(ctx, func(b, _, n database.Row) error {
			_, columns := w.step(b, n)
			switch {
			case n == nil:
				d.note(differ.Name, didRemove, w.keyOf(b))
			case b == nil:
				d.note(differ.Name, didAdd, fmt.Sprint(hashOf(n, w.rest)))
				if w.settings && w.name >= 0 {
					d.note(differ.Name, didAddName, n[w.name].String())
				}
			}
			for _, i := range columns {
				name, key := w.table.Columns[i].Name, w.keyOf(b)
				d.note(differ.Name, name, key)
				d.note(differ.Name, name+didFrom, fmt.Sprint(key, hashOf(b, []int{i})))
				d.note(differ.Name, name+didTo, fmt.Sprint(key, hashOf(n, []int{i})))
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
