package snapshot

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"sync"

	"wetland/core/database"
	"wetland/core/files"
)

// blockCache keeps the blocks that were unpacked last: pieces that belong together
// mostly lie in one block.
type blockCache struct {
	mu     sync.Mutex
	blocks []cachedBlock // the last used at the end
}

type cachedBlock struct {
	volume, block int32
	data          []byte
}

// cachedBlocks bounds the memory of the cache, to about 4 times blockSize.
const cachedBlocks = 4

func (c *blockCache) get(at location) []byte {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i, one := range c.blocks {
		if one.volume == at.volume && one.block == at.block {
			c.blocks = append(append(c.blocks[:i:i], c.blocks[i+1:]...), one)
			return one.data
		}
	}
	return nil
}

func (c *blockCache) put(at location, data []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.blocks) >= cachedBlocks {
		c.blocks = c.blocks[1:]
	}
	c.blocks = append(c.blocks, cachedBlock{at.volume, at.block, data})
}

// piece returns the proved bytes of a piece. They are shared: do not change them.
func (s *Store) piece(id ID) ([]byte, error) {
	at, ok := s.index[id]
	if !ok {
		for name, err := range s.damaged {
			return nil, fmt.Errorf("a piece is missing, and the volume %s cannot be read: %w", path.Base(name), err)
		}
		return nil, errors.New("a piece is missing: a volume of the store is gone")
	}
	v := s.volumes[at.volume]
	b := v.blocks[at.block]
	data := s.cache.get(at)
	if data == nil {
		var err error
		if data, err = readBlock(s.bytes, v, b, s.seal, nil, nil); err != nil {
			return nil, err
		}
		if len(b.pieces) > 1 {
			s.cache.put(at, data)
		}
	}
	data = data[at.at : at.at+at.size]
	if s.seal.id(data) != id {
		return nil, fmt.Errorf("a piece in %s is damaged: its bytes are not those that were written", path.Base(v.name))
	}
	return data, nil
}

// pieceReader reads pieces one after the other.
type pieceReader struct {
	store *Store
	left  []ID
	now   []byte
}

func (r *pieceReader) Read(p []byte) (int, error) {
	for len(r.now) == 0 {
		if len(r.left) == 0 {
			return 0, io.EOF
		}
		var err error
		if r.now, err = r.store.piece(r.left[0]); err != nil {
			return 0, err
		}
		r.left = r.left[1:]
	}
	n := copy(p, r.now)
	r.now = r.now[n:]
	return n, nil
}

// OpenFile returns the proved bytes of a file in the snapshot.
func (s *Store) OpenFile(item Item) io.ReadCloser {
	return io.NopCloser(&pieceReader{store: s, left: item.Pieces})
}

// Source opens the files of a part of the snapshot by their path in tree.
func (s *Store) Source(items []Item) files.Source {
	byPath := make(map[string]Item, len(items))
	for _, item := range items {
		byPath[item.Path] = item
	}
	return func(item files.Item) (io.ReadCloser, error) {
		found, ok := byPath[item.Path]
		if !ok {
			return nil, fmt.Errorf("%s is not in the snapshot", item.Path)
		}
		return s.OpenFile(found), nil
	}
}

// rowPieces calls each for the pieces of a table's rows, in their order.
func (s *Store) rowPieces(table Table, each func(ID) error) error {
	for _, list := range table.Lists {
		ids, err := s.piece(list)
		if err != nil {
			return err
		}
		if len(ids)%len(ID{}) != 0 {
			return errors.New("the list of its pieces is damaged")
		}
		for ; len(ids) > 0; ids = ids[len(ID{}):] {
			if err := each(ID(ids)); err != nil {
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
func (s *Store) decodeRows(ctx context.Context, table Table, pieces func(each func(ID) error) error, each func(database.Row) error) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	type result struct {
		data []byte
		err  error
	}
	ahead := make(chan result, piecesAhead)
	go func() {
		defer close(ahead)
		err := pieces(func(id ID) error {
			data, err := s.piece(id)
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

// hexOf writes a hash as files.Item has it.
func hexOf(sum []byte) string { return hex.EncodeToString(sum) }
