package packs

import (
	"context"
	"errors"

	"wetland/core/progress"
)

// Size is what the store's files take, in bytes.
func (s *Store) Size() (total int64, err error) {
	for _, prefix := range []string{VolumeFolder, ManifestFolder} {
		names, err := s.Bytes.List(prefix)
		if err != nil {
			return 0, err
		}
		for _, name := range names {
			size, err := s.Bytes.Size(name)
			if err != nil {
				return 0, err
			}
			total += size
		}
	}
	return total, nil
}

// mostWaste is the share of a volume that may be waste before it is written anew, in
// percent.
const mostWaste = 30

// Compact writes the needed pieces of wasteful volumes into new ones, proved, and
// returns the volumes that nothing needs any more.
func (s *Store) Compact(ctx context.Context, needed map[ID]bool, report progress.Reporter) (old []*volume, err error) {
	to := s.NewAdder(ctx, report)
	for number, v := range s.Volumes {
		total, waste := 0, 0
		for i, b := range v.blocks {
			for _, p := range b.pieces {
				total += int(p.size)
				at := s.Index[p.id]
				if elsewhere := at.volume != int32(number) || at.block != int32(i); elsewhere || !needed[p.id] {
					waste += int(p.size)
				}
			}
		}
		if total > 0 && waste*100 <= total*mostWaste {
			continue
		}
		old = append(old, v)
	}
	for _, v := range old {
		for _, b := range v.blocks {
			for _, p := range b.pieces {
				at := s.Index[p.id]
				if !needed[p.id] || s.Volumes[at.volume] != v {
					continue
				}
				if err := ctx.Err(); err != nil {
					return nil, errors.Join(err, to.Abandon())
				}
				data, err := s.Piece(p.id)
				if err == nil {
					err = to.copy(p.id, data, !b.packed)
				}
				if err != nil {
					return nil, errors.Join(err, to.Abandon())
				}
				report.Advance(int64(p.size))
			}
		}
	}
	if err := to.Finish(); err != nil {
		return nil, errors.Join(err, to.Abandon())
	}
	return old, nil
}
