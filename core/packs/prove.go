package packs

import (
	"context"
	"fmt"
	"path"
	"runtime"
	"slices"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"wetland/core/progress"
)

// WholeHash is the hash of a file that is read piece by piece. Of a file with one
// piece it is the piece's ID, unless that has a key.
type WholeHash struct {
	hasher *blake3.Hasher
	only   *ID
	sealed bool
}

// NewWholeHash begins the hash of a file.
func NewWholeHash(seal *Sealing) *WholeHash { return &WholeHash{sealed: seal != nil} }

// Add adds the next piece, whose ID is known.
func (w *WholeHash) Add(data []byte, id ID) {
	if w.hasher == nil && w.only == nil && !w.sealed && len(data) < PieceSize {
		w.only = &id // a piece that is not full is the last one
		return
	}
	if w.hasher == nil {
		w.hasher = blake3.New()
	}
	_, _ = w.hasher.Write(data) // a hash does not fail
}

// Sum is the hash of what was added.
func (w *WholeHash) Sum() string {
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
			return s.proveBlock(ctx, v, b, report)
		})
	}
	return group.Wait()
}

// proveBlock reads one block back and proves every piece in it.
func (s *Store) proveBlock(ctx context.Context, v *volume, b block, report progress.Reporter) error {
	stored, unpacked := takeBuffer(), takeBuffer()
	defer giveBuffers(stored, unpacked)
	data, err := readBlock(ctx, s.Bytes, v, b, s.Seal, stored, unpacked)
	if err != nil {
		return err
	}
	report.Advance(int64(len(data)))
	return s.checkPieces(v, b, data)
}

// checkPieces proves the pieces of an unpacked block.
func (s *Store) checkPieces(v *volume, b block, data []byte) error {
	for _, p := range b.pieces {
		if s.Seal.ID(data[:p.size]) != p.id {
			return fmt.Errorf("a piece in %s is damaged: its bytes are not those that were written", path.Base(v.Name))
		}
		data = data[p.size:]
	}
	return nil
}

// wrote notes that a volume was written, and read back, just now.
func (s *Store) wrote(v *volume) {
	number := int32(slices.Index(s.volumes, v))
	found := map[spot]error{}
	for i := range v.blocks {
		found[spot{number, int32(i)}] = nil
	}
	s.note(found)
}

// Present makes sure that every volume is there, of the size that its directory was read with. That
// the bytes are right is told by reading them.
func (s *Store) Present(ctx context.Context) error {
	for _, v := range s.volumes {
		if size, err := s.Bytes.Size(ctx, v.Name); err != nil || size != v.Size {
			return fmt.Errorf("the volume %s of the store was changed or taken away meanwhile", path.Base(v.Name))
		}
	}
	return nil
}
