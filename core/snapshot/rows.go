package snapshot

import (
	"context"
	"runtime"

	"golang.org/x/sync/errgroup"

	"wetland/core/database"
	"wetland/core/packs"
	"wetland/core/progress"
)

// The runs of rows (database.RunCutter) are packed together, and listed.
const (
	runsInList     = 64  // on average
	longestRunList = 512 // runs
)

// rowStore stores the rows of tables, one table after the other. A goroutine hashes and packs the runs
// of a batch.
type rowStore struct {
	ctx    context.Context
	to     *packs.Adder
	report progress.Reporter
	group  *errgroup.Group
	table  string
	cutter database.RunCutter
	batch  batch
	runs   map[string][]*batch
}

// batch is some runs of one table, one after the other.
type batch struct {
	data []byte
	ends []int // of the runs, but perhaps the last
	ids  []packs.ID
}

func newRowStore(ctx context.Context, to *packs.Adder, report progress.Reporter) *rowStore {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	return &rowStore{ctx: ctx, to: to, report: report, group: group, runs: map[string][]*batch{}}
}

// add takes one encoded row.
func (s *rowStore) add(table database.Table, encoded []byte, mark uint64) error {
	if table.Name != s.table {
		s.send()
		s.table, s.cutter = table.Name, database.RunCutter{}
	}
	b := &s.batch
	if b.data == nil {
		b.data = make([]byte, 0, max(database.MostOfRuns, len(encoded)))
	}
	b.data = append(b.data, encoded...)
	run, batch := s.cutter.Add(len(encoded), mark)
	if run {
		b.ends = append(b.ends, len(b.data))
	}
	if batch {
		s.send()
	}
	return s.ctx.Err()
}

// send hands the gathered runs to a goroutine; it waits while all are busy.
func (s *rowStore) send() {
	if len(s.batch.data) == 0 {
		return
	}
	b := s.batch
	s.batch = batch{}
	if len(b.ends) == 0 || b.ends[len(b.ends)-1] < len(b.data) {
		b.ends = append(b.ends, len(b.data))
	}
	s.runs[s.table] = append(s.runs[s.table], &b)
	s.group.Go(func() error { return b.store(s.to, s.report) })
}

func (b *batch) store(to *packs.Adder, report progress.Reporter) error {
	begin := 0
	for _, end := range b.ends {
		for run := b.data[begin:end]; len(run) > 0; { // one long row may take several pieces
			part := run[:min(len(run), packs.PieceSize)]
			id, err := to.Add(part, false)
			if err != nil {
				return err
			}
			b.ids = append(b.ids, id)
			run = run[len(part):]
		}
		begin = end
	}
	report.Advance(int64(len(b.data)))
	b.data, b.ends = nil, nil
	return nil
}

// finish waits until all rows are stored.
func (s *rowStore) finish() error {
	s.send()
	return s.group.Wait()
}

// lists stores the lists of a table's runs. Call it after finish.
func (s *rowStore) lists(table string) ([]packs.ID, error) {
	var lists []packs.ID
	var text []byte
	store := func() error {
		if len(text) == 0 {
			return nil
		}
		id, err := s.to.Add(text, false)
		lists = append(lists, id)
		text = text[:0]
		return err
	}
	for _, b := range s.runs[table] {
		for _, id := range b.ids {
			text = append(text, id[:]...)
			if id[0]%runsInList == 0 || len(text) >= longestRunList*len(id) {
				if err := store(); err != nil {
					return nil, err
				}
			}
		}
	}
	return lists, store()
}
