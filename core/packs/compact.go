package packs

import (
	"context"
	"errors"
	"fmt"
	"path"

	"wetland/core/progress"
)

// Alone closes the store, waits until nobody else has it open, and opens it anew, for others may have
// added to it meanwhile. Nobody can open it until release is called. It fails where a volume cannot
// be read: what that holds may be needed.
func (s *Store) Alone(ctx context.Context) (fresh *Store, release func() error, err error) {
	if err := s.Close(); err != nil {
		return nil, nil, err
	}
	if release, err = s.Bytes.Hold(ctx, true); err != nil {
		return nil, nil, err
	}
	if fresh, err = read(ctx, s.Bytes, s.Seal); err != nil {
		return nil, nil, errors.Join(err, release())
	}
	for name, reason := range fresh.damaged {
		err := fmt.Errorf("the volume %s cannot be read, and nothing is deleted before that is mended: %w", path.Base(name),
			reason)
		return nil, nil, errors.Join(err, release())
	}
	return fresh, release, nil
}

// Size is what the store's files take, in bytes.
func (s *Store) Size(ctx context.Context) (total int64, err error) {
	for _, prefix := range []string{VolumeFolder, ManifestFolder} {
		names, err := s.Bytes.List(ctx, prefix)
		if err != nil {
			return 0, err
		}
		for _, name := range names {
			size, err := s.Bytes.Size(ctx, name)
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
// names the volumes that nothing needs any more.
func (s *Store) Compact(ctx context.Context, needed map[ID]bool, report progress.Reporter) (names []string, err error) {
	to := s.NewAdder(ctx, report)
	var old []*volume
	for number, v := range s.volumes {
		total, waste, lost := 0, 0, false
		for i, b := range v.blocks {
			for _, p := range b.pieces {
				total += int(p.size)
				at, there := s.where(p.id)
				lost = lost || needed[p.id] && !there
				if elsewhere := at.volume != int32(number) || at.block != int32(i); elsewhere || !needed[p.id] {
					waste += int(p.size)
				}
			}
		}
		if lost || total > 0 && waste*100 <= total*mostWaste { // of what is rotten and nowhere else, nothing is given up
			continue
		}
		old, names = append(old, v), append(names, v.Name)
	}
	for _, v := range old {
		for _, b := range v.blocks {
			for _, p := range b.pieces {
				at, _ := s.where(p.id)
				if !needed[p.id] || s.volumes[at.volume] != v {
					continue
				}
				if err := ctx.Err(); err != nil {
					return nil, errors.Join(err, to.Abandon())
				}
				data, err := s.Piece(ctx, p.id)
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
	return names, nil
}
