package snapshot

import (
	"context"
	"errors"
	"fmt"
	"io"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/packs"
)

// pieceReader reads pieces one after the other.
type pieceReader struct {
	ctx   context.Context
	store *packs.Store
	left  []packs.ID
	now   []byte
}

// Read reads on, over the borders of pieces.
func (r *pieceReader) Read(p []byte) (int, error) {
	for len(r.now) == 0 {
		if len(r.left) == 0 {
			return 0, io.EOF
		}
		var err error
		if r.now, err = r.store.Piece(r.ctx, r.left[0]); err != nil {
			return 0, err
		}
		r.left = r.left[1:]
	}
	n := copy(p, r.now)
	r.now = r.now[n:]
	return n, nil
}

// OpenFile returns the proved bytes of a file in the snapshot.
func OpenFile(ctx context.Context, s *packs.Store, item Item) io.ReadCloser {
	return io.NopCloser(&pieceReader{ctx: ctx, store: s, left: item.Pieces})
}

// Source opens the files of a part of the snapshot by their path in tree.
func Source(ctx context.Context, s *packs.Store, items []Item) files.Source {
	byPath := make(map[string]Item, len(items))
	for _, item := range items {
		byPath[item.Path] = item
	}
	return func(item files.Item) (io.ReadCloser, error) {
		found, ok := byPath[item.Path]
		if !ok {
			return nil, fmt.Errorf("%s is not in the snapshot", item.Path)
		}
		return OpenFile(ctx, s, found), nil
	}
}

// rowPieces calls each for the pieces of a table's rows, in their order.
func rowPieces(ctx context.Context, s *packs.Store, table Table, each func(packs.ID) error) error {
	for _, list := range table.Lists {
		ids, err := s.Piece(ctx, list)
		if err != nil {
			return err
		}
		if len(ids)%len(packs.ID{}) != 0 {
			return errors.New("the list of its pieces is damaged")
		}
		for ; len(ids) > 0; ids = ids[len(packs.ID{}):] {
			if err := each(packs.ID(ids)); err != nil {
				return err
			}
		}
	}
	return nil
}

// piecesAhead is how many pieces of rows are read before they are wanted; those of long
// rows have 4 MiB each.
const piecesAhead = 16

// decodeRows reads the rows in some pieces of a table, a few pieces ahead.
func decodeRows(ctx context.Context, s *packs.Store, table Table, pieces func(ctx context.Context, each func(packs.ID) error) error, each func(database.Row) error) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	type result struct {
		data []byte
		err  error
	}
	ahead := make(chan result, piecesAhead)
	go func() {
		defer close(ahead)
		err := pieces(ctx, func(id packs.ID) error {
			data, err := s.Piece(ctx, id)
			if err != nil {
				return err
			}
			select {
			case ahead <- result{data: data}:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
		if err != nil {
			select {
			case ahead <- result{err: err}:
			case <-ctx.Done():
			}
		}
	}()
	var decoder database.RowDecoder
	for one := range ahead {
		err := one.err
		if err == nil {
			err = decoder.Decode(one.data, each)
		}
		if err != nil {
			return fmt.Errorf("read the rows of %s: %w", table.Name, err)
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := decoder.End(); err != nil {
		return fmt.Errorf("read the rows of %s: %w", table.Name, err)
	}
	return nil
}
