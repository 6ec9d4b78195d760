package snapshot

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/packs"
	"wetland/core/phrase"
	"wetland/core/progress"
)

// Verify proves a snapshot, past what the system remembers of the store's disk: every file's bytes by its hash and
// every table's rows by its digest. Its error says what is damaged, and how much is still whole.
func Verify(ctx context.Context, s *packs.Store, m *Manifest, report progress.Reporter) error {
	s.ReadAnew()
	var items []Item
	for _, area := range m.Areas {
		items = append(items, area.Items...)
	}
	return VerifyParts(ctx, s, items, m.Tables, report)
}

// VerifyParts proves some files and tables of a snapshot.
func VerifyParts(ctx context.Context, s *packs.Store, items []Item, tables []Table, report progress.Reporter) error {
	var mu sync.Mutex
	var faults []error
	whole := map[string]int{}
	note := func(kind, name string, err error) {
		mu.Lock()
		defer mu.Unlock()
		if err == nil {
			whole[kind]++
		} else {
			faults = append(faults, fmt.Errorf("the %s %s: %w", kind, name, err))
		}
	}
	count := 0
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, item := range items {
		if item.Kind != files.File {
			continue
		}
		count++
		group.Go(func() error {
			note("file", item.Path, verifyFile(ctx, s, item))
			report.Advance(item.Size)
			return ctx.Err()
		})
	}
	for _, table := range tables {
		group.Go(func() error {
			note("table", table.Name, verifyTable(ctx, s, table))
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	if len(faults) == 0 {
		return nil
	}
	slices.SortFunc(faults, func(a, b error) int { return cmp.Compare(a.Error(), b.Error()) })
	if more := len(faults) - mostFaults; more > 0 {
		faults = append(faults[:mostFaults], fmt.Errorf("and %d more", more))
	}
	still := fmt.Errorf("still whole: %d of %s, %d of %s",
		whole["file"], phrase.Plural(count, "file"), whole["table"], phrase.Plural(len(tables), "table"))
	return errors.Join(append(faults, still)...)
}

// mostFaults is how many are told one by one.
const mostFaults = 20

func verifyFile(ctx context.Context, s *packs.Store, item Item) error {
	whole := packs.NewWholeHash(s.Seal)
	size := int64(0)
	for _, id := range item.Pieces {
		data, err := s.Piece(ctx, id)
		if err != nil {
			return err
		}
		whole.Add(data, id)
		size += int64(len(data))
	}
	if whole.Sum() != item.Hash || size != item.Size {
		return errors.New("its bytes are not those that were written")
	}
	return nil
}

func verifyTable(ctx context.Context, s *packs.Store, table Table) error {
	if table.Kind != database.BaseTable {
		return nil
	}
	var digest database.Digest
	err := Rows(s, table)(ctx, func(row database.Row) error {
		digest.Add(row)
		return nil
	})
	if err == nil && (digest.Rows() != table.Rows || digest.String() != table.Digest) {
		err = errors.New("its rows are not those that were written")
	}
	return err
}
