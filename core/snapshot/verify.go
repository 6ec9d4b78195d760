package snapshot

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"sync"

	"golang.org/x/sync/errgroup"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/packs"
	"wetland/core/progress"
)

// Verify proves a snapshot: every file's bytes by its hash and every table's rows
// by its digest. It returns all faults at once.
func Verify(ctx context.Context, s *packs.Store, m *Manifest, report progress.Reporter) error {
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
	fault := func(what string, err error) {
		mu.Lock()
		defer mu.Unlock()
		faults = append(faults, fmt.Errorf("%s: %w", what, err))
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, item := range items {
		if item.Kind != files.File {
			continue
		}
		group.Go(func() error {
			if err := verifyFile(ctx, s, item); err != nil {
				fault("the file "+item.Path, err)
			}
			report.Advance(item.Size)
			return ctx.Err()
		})
	}
	for _, table := range tables {
		group.Go(func() error {
			if err := verifyTable(ctx, s, table); err != nil {
				fault("the table "+table.Name, err)
			}
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return errors.Join(faults...)
}

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
