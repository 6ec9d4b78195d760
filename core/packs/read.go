package packs

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"path"
	"sync"
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

// Piece returns the proved bytes of a piece. They are shared: do not change them. Where they are damaged, another block
// may have them, too.
func (s *Store) Piece(ctx context.Context, id ID) ([]byte, error) {
	for {
		at, ok := s.where(id)
		if !ok {
			return s.salvage(ctx, id)
		}
		data, err := s.pieceAt(ctx, id, at)
		if err == nil || ctx.Err() != nil {
			return data, err
		}
		s.note(map[spot]error{at.spot(): err})
	}
}

func (s *Store) where(id ID) (at location, there bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	at, there = s.index[id]
	return at, there
}

func (s *Store) pieceAt(ctx context.Context, id ID, at location) ([]byte, error) {
	v := s.volumes[at.volume]
	b := v.blocks[at.block]
	data := s.cache.get(at)
	if data == nil {
		anew := s.anew && !s.isProved(at.spot())
		if anew {
			s.forget(v, b)
		}
		var err error
		if data, err = readBlock(ctx, s.Bytes, v, b, s.Seal, nil, nil); err != nil {
			return nil, err
		}
		if anew && s.checkPieces(v, b, data) == nil {
			s.note(map[spot]error{at.spot(): nil})
		}
		if len(b.pieces) > 1 {
			s.cache.put(at, data)
		}
	}
	data = data[at.at : at.at+at.size]
	if s.Seal.ID(data) != id {
		return nil, fmt.Errorf("a piece in %s is damaged: its bytes are not those that were written", path.Base(v.Name))
	}
	return data, nil
}

// salvage reads a piece of a rotten block, of which the others may be what is wrong; else it says what is.
func (s *Store) salvage(ctx context.Context, id ID) (data []byte, err error) {
	for number, v := range s.volumes {
		for i, b := range v.blocks {
			at := location{volume: int32(number), block: int32(i)}
			for _, p := range b.pieces {
				if at.size = p.size; p.id == id {
					if data, err = s.pieceAt(ctx, id, at); err == nil {
						return data, nil
					}
				}
				at.at += p.size
			}
		}
	}
	if err != nil {
		return nil, err
	}
	for name, err := range s.damaged {
		return nil, fmt.Errorf("a piece is missing, and the volume %s cannot be read: %w", path.Base(name), err)
	}
	return nil, errors.New("a piece is missing: a volume of the store is gone")
}

// hexOf writes a hash as files.Item has it.
func hexOf(sum []byte) string { return hex.EncodeToString(sum) }

// SizeOf is how many bytes a piece has; 0 if it is not there.
func (s *Store) SizeOf(id ID) uint32 {
	at, _ := s.where(id)
	return at.size
}

// Has tells whether a piece is there, as far as is known.
func (s *Store) Has(id ID) bool {
	_, there := s.where(id)
	return there
}
