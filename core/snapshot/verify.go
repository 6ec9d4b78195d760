package snapshot

import (
	"context"
	"errors"
	"fmt"
	"path"
	"runtime"
	"sync"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/progress"
)

// wholeHash is the hash of a file that is read piece by piece. Of a file with one
// piece it is the piece's ID, unless that has a key.
type wholeHash struct {
	hasher *blake3.Hasher
	only   *ID
	sealed bool
	start  []byte
}

func newWholeHash(seal *seal) *wholeHash { return &wholeHash{sealed: seal != nil} }

func (w *wholeHash) add(data []byte, id ID) {
	if w.hasher == nil && w.only == nil && !w.sealed && len(data) < pieceSize {
		w.only = &id // a piece that is not full is the last one
		return
	}
	if w.hasher == nil {
		w.hasher = blake3.New()
	}
	_, _ = w.hasher.Write(data) // a hash does not fail
}

func (w *wholeHash) sum() string {
	switch {
	case w.only != nil:
		return w.only.String()
	case w.hasher == nil:
		return ID(blake3.Sum256(nil)).String()
	}
	return hexOf(w.hasher.Sum(nil))
}

// prove reads a volume back and proves every piece in it.
func (s *Store) prove(ctx context.Context, v *volume, report progress.Reporter) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, b := range v.blocks {
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			return s.proveBlock(v, b, report)
		})
	}
	return group.Wait()
}

// proveBlock reads one block back and proves every piece in it.
func (s *Store) proveBlock(v *volume, b block, report progress.Reporter) error {
	stored, unpacked := takeBuffer(), takeBuffer()
	defer giveBuffers(stored, unpacked)
	data, err := readBlock(s.bytes, v, b, s.seal, stored, unpacked)
	if err != nil {
		return err
	}
	report.Advance(int64(len(data)))
	for _, p := range b.pieces {
		if s.seal.id(data[:p.size]) != p.id {
			return fmt.Errorf("a piece in %s is damaged: its bytes are not those that were written", path.Base(v.name))
		}
		data = data[p.size:]
	}
	return nil
}

// Verify proves a snapshot: every file's bytes by its hash and every table's rows
// by its digest. It returns all faults at once.
func (s *Store) Verify(ctx context.Context, m *Manifest, report progress.Reporter) error {
	var items []Item
	for _, area := range m.Areas {
		items = append(items, area.Items...)
	}
	return s.VerifyParts(ctx, items, m.Tables, report)
}

// VerifyParts proves some files and tables of a snapshot.
func (s *Store) VerifyParts(ctx context.Context, items []Item, tables []Table, report progress.Reporter) error {
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
			if err := s.verifyFile(item); err != nil {
				fault("the file "+item.Path, err)
			}
			report.Advance(item.Size)
			return ctx.Err()
		})
	}
	for _, table := range tables {
		group.Go(func() error {
			if err := s.verifyTable(ctx, table); err != nil {
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

func (s *Store) verifyFile(item Item) error {
	whole := newWholeHash(s.seal)
	size := int64(0)
	for _, id := range item.Pieces {
		data, err := s.piece(id)
		if err != nil {
			return err
		}
		whole.add(data, id)
		size += int64(len(data))
	}
	if whole.sum() != item.Hash || size != item.Size {
		return errors.New("its bytes are not those that were written")
	}
	return nil
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
