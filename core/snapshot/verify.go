package snapshot

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"

	"github.com/zeebo/blake3"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/progress"
)

func hashPipe() (sum func() string, to io.Writer) {
	hasher := blake3.New()
	return func() string { return hex.EncodeToString(hasher.Sum(nil)) }, hasher
}

// prove reads every piece of the snapshot once.
func (s *Store) prove(ctx context.Context, m *Manifest, report progress.Reporter) error {
	seen := map[string]bool{}
	for _, hash := range m.pieces() {
		if err := ctx.Err(); err != nil {
			return err
		}
		if seen[hash] {
			continue
		}
		seen[hash] = true
		data, err := s.piece(hash)
		if err != nil {
			return err
		}
		report.Advance(int64(len(data)))
	}
	return nil
}

// Verify proves a snapshot: every file's bytes by its hash and every table's rows
// by its digest. It returns all faults at once.
func (s *Store) Verify(ctx context.Context, m *Manifest, report progress.Reporter) error {
	var faults []error
	for _, area := range m.Areas {
		for _, item := range area.Items {
			if item.Kind != files.File {
				continue
			}
			hash, size, err := files.Hash(s.OpenFile(item))
			if err == nil && (hash != item.Hash || size != item.Size) {
				err = errors.New("its bytes are not those that were written")
			}
			if err != nil {
				faults = append(faults, fmt.Errorf("the file %s: %w", item.Path, err))
			}
			report.Advance(size)
			if err := ctx.Err(); err != nil {
				return err
			}
		}
	}
	for _, table := range m.Tables {
		if err := s.verifyTable(ctx, table); err != nil {
			faults = append(faults, fmt.Errorf("the table %s: %w", table.Name, err))
		}
	}
	return errors.Join(faults...)
}

func (s *Store) verifyTable(ctx context.Context, table Table) error {
	if table.Kind != database.BaseTable {
		return nil
	}
	var digest database.Digest
	err := s.Rows(table)(ctx, func(row database.Row) error {
		digest.Add(row)
		return nil
	})
	if err == nil && (digest.Rows() != table.Rows || digest.String() != table.Digest) {
		err = errors.New("its rows are not those that were written")
	}
	return err
}
