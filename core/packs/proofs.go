package packs

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"wetland/core/progress"
)

// Disks forget. The store notes when each block was read back last and was right, and which blocks are rotten: those
// count as not being there, so that what a site still has of them is stored anew.

// proofsFile holds these notes: a line for each volume, with runs of blocks that were proved on one day.
// docs/store.md describes it.
const proofsFile = "proofs"

// mostProofs bounds what is read of them, in bytes: about those of 100,000 volumes.
const mostProofs = 16 << 20

// day counts days since 1970.
type day int32

const (
	never  day = 0
	rotten day = -1
)

func today() day { return day(time.Now().Unix() / secondsADay) }

const secondsADay = 24 * 60 * 60

func (d day) time() time.Time { return time.Unix(int64(d)*secondsADay, 0).UTC() }

func (d day) String() string {
	switch d {
	case never:
		return "never"
	case rotten:
		return "rotten"
	}
	return d.time().Format(time.DateOnly)
}

func parseDay(text string) (day, error) {
	for _, word := range []day{never, rotten} {
		if text == word.String() {
			return word, nil
		}
	}
	at, err := time.Parse(time.DateOnly, text)
	return day(at.Unix() / secondsADay), err
}

// proofs are the days on which blocks were proved, by the base names of their volumes.
type proofs map[string][]day

func (p proofs) text() []byte {
	var out bytes.Buffer
	for _, name := range slices.Sorted(maps.Keys(p)) {
		out.WriteString(name)
		for at, days := 0, p[name]; at < len(days); {
			end := at + 1
			for end < len(days) && days[end] == days[at] {
				end++
			}
			fmt.Fprintf(&out, " %d@%s", end-at, days[at])
			at = end
		}
		out.WriteByte('\n')
	}
	return out.Bytes()
}

// parseProofs reads notes. What cannot be understood is passed over: those blocks are read again.
func parseProofs(text []byte) proofs {
	all, total := proofs{}, 0
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		if len(fields) == 0 {
			continue
		}
		var days []day
		for _, field := range fields[1:] {
			count, word, _ := strings.Cut(field, "@")
			n, err := strconv.Atoi(count)
			at, err2 := parseDay(word)
			if errors.Join(err, err2) != nil || n < 1 || n > mostProofs-total { // whoever wrote it, memory is bounded
				days = nil
				break
			}
			total += n
			days = append(days, slices.Repeat([]day{at}, n)...)
		}
		if days != nil {
			all[fields[0]] = days
		}
	}
	return all
}

// spot is where a block lies, by the store's own numbering of its volumes.
type spot struct{ volume, block int32 }

func (l location) spot() spot { return spot{l.volume, l.block} }

func baseOf(v *volume) string { return strings.TrimSuffix(path.Base(v.Name), volumeSuffix) }

func (s *Store) readProofs(ctx context.Context) error {
	text, err := getUpTo(ctx, s.Bytes, proofsFile, mostProofs)
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	s.proofs = parseProofs(text)
	return err
}

// proofOf is when a block was proved last. Call it with mu held, or before others know the store.
func (s *Store) proofOf(at spot) day {
	days := s.proofs[baseOf(s.volumes[at.volume])]
	if int(at.block) >= len(days) {
		return never
	}
	return days[at.block]
}

// note notes how blocks were found, by this process; nil is right.
func (s *Store) note(found map[spot]error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	moved := false
	for at, fault := range found {
		how := today()
		if fault != nil {
			how = rotten
		}
		moved = moved || (s.proofOf(at) == rotten) != (how == rotten)
		s.set(s.proofs, at, how)
		s.proved[at] = how != rotten
		// What could not be read at all just now may be another time: nobody else is told.
		var system *fs.PathError
		s.unsaved[at] = !errors.As(fault, &system)
	}
	if !moved {
		return
	}
	s.index = map[ID]location{}
	for number := range s.volumes {
		s.know(int32(number))
	}
}

func (s *Store) set(in proofs, at spot, how day) {
	v := s.volumes[at.volume]
	days := in[baseOf(v)]
	if len(days) < len(v.blocks) {
		days = append(days, make([]day, len(v.blocks)-len(days))...)
	}
	days[at.block], in[baseOf(v)] = how, days
}

// saveProofs writes the notes down, beside what others noted meanwhile. Where nothing can be written, it is found out
// again another time.
func (s *Store) saveProofs(ctx context.Context) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.unsaved) == 0 {
		return
	}
	err := changeProofs(ctx, s.Bytes, func(stand proofs) {
		for at, is := range s.unsaved {
			if is {
				s.set(stand, at, s.proofOf(at))
			}
		}
	})
	if err == nil {
		clear(s.unsaved)
	}
}

// Remove deletes volumes of which nothing is needed any more. Use the store no more afterwards.
func (s *Store) Remove(ctx context.Context, volumes []string) error {
	for _, name := range volumes {
		if err := s.Bytes.Delete(ctx, name); err != nil {
			return fmt.Errorf("delete the volume %s: %w", path.Base(name), err)
		}
	}
	_ = changeProofs(ctx, s.Bytes, func(stand proofs) { // of what is gone, a note does no harm
		for _, name := range volumes {
			delete(stand, strings.TrimSuffix(path.Base(name), volumeSuffix))
		}
	})
	return nil
}

// changeProofs changes the notes as they stand, whoever else does so at the same time.
func changeProofs(ctx context.Context, at Bytes, change func(proofs)) error {
	for {
		before, err := getUpTo(ctx, at, proofsFile, mostProofs)
		missing := errors.Is(err, fs.ErrNotExist)
		if err != nil && !missing {
			return err
		}
		all := parseProofs(before)
		change(all)
		if missing {
			err = PutWhole(ctx, at, proofsFile, all.text())
		} else {
			err = at.Replace(ctx, proofsFile, before, all.text())
		}
		if !errors.Is(err, ErrChanged) && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
}

// ReadAnew has each block that is read from now on come from the disk, where the system lets us, and count as proved
// once all of it was right.
func (s *Store) ReadAnew() { s.anew = true }

func (s *Store) isProved(at spot) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.proved[at]
}

// Prove reads the blocks of these pieces back, past the system's own memory where it lets us, but for those that this
// process proved or wrote. It returns how many of the pieces are not to be had: Has does not know them any more. Those
// that were rotten before are read once more: it may have been the memory, or the line.
func (s *Store) Prove(ctx context.Context, ids []ID, report progress.Reporter) (missing int, err error) {
	if _, err := s.proveBlocks(ctx, s.rottenWith(ids), report); err != nil {
		return 0, err
	}
	for {
		blocks := map[spot]bool{}
		missing = 0
		s.mu.RLock()
		for _, id := range ids {
			at, there := s.index[id]
			switch {
			case !there:
				missing++
			case !s.proved[at.spot()]:
				blocks[at.spot()] = true
			}
		}
		s.mu.RUnlock()
		bad, err := s.proveBlocks(ctx, slices.Collect(maps.Keys(blocks)), report)
		if err != nil || bad == 0 {
			return missing, err
		} // else other blocks may have the same pieces
	}
}

// rottenWith are the rotten blocks that have pieces which no other block has.
func (s *Store) rottenWith(ids []ID) (blocks []spot) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	wanted := map[ID]bool{}
	for _, id := range ids {
		if _, there := s.index[id]; !there {
			wanted[id] = true
		}
	}
	for number, v := range s.volumes {
		for i, b := range v.blocks {
			at := spot{int32(number), int32(i)}
			has := func(p piece) bool { return wanted[p.id] }
			if len(wanted) > 0 && s.proofOf(at) == rotten && slices.ContainsFunc(b.pieces, has) {
				blocks = append(blocks, at)
			}
		}
	}
	return blocks
}

// Due tells how much is proved by turns.
type Due struct{ Blocks, Rotten int }

// ProveDue proves old blocks by turns, those first that were proved the longest ago, so that each comes within so many
// days if this is called as often as until now; all, if that is 0.
func (s *Store) ProveDue(ctx context.Context, everyDays int, report progress.Reporter) (done Due, err error) {
	type dated struct {
		spot
		day
	}
	var all []dated
	last := never
	s.mu.RLock()
	for number, v := range s.volumes {
		for i := range v.blocks {
			at := spot{int32(number), int32(i)}
			if on := s.proofOf(at); on != rotten && !s.proved[at] {
				all = append(all, dated{at, on})
				last = max(last, on)
			}
		}
	}
	s.mu.RUnlock()
	slices.SortStableFunc(all, func(a, b dated) int { return cmp.Compare(a.day, b.day) })
	turn := len(all)
	if everyDays > 0 {
		since := max(0, int(today()-last))
		turn = min(len(all), (len(all)*since+everyDays-1)/everyDays)
		for turn < len(all) && int(today()-all[turn].day) >= everyDays {
			turn++
		}
	}
	var due []spot
	for _, one := range all[:turn] {
		due = append(due, one.spot)
	}
	done.Blocks = len(due)
	done.Rotten, err = s.proveBlocks(ctx, due, report)
	return done, err
}

// proveBlocks reads blocks back, notes how they are, and returns how many are rotten.
func (s *Store) proveBlocks(ctx context.Context, blocks []spot, report progress.Reporter) (bad int, err error) {
	slices.SortFunc(blocks, func(a, b spot) int {
		return cmp.Or(cmp.Compare(a.volume, b.volume), cmp.Compare(a.block, b.block))
	})
	faults := make([]error, len(blocks))
	group, inner := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, at := range blocks {
		group.Go(func() error {
			v := s.volumes[at.volume]
			s.forget(v, v.blocks[at.block])
			faults[i] = s.proveBlock(inner, v, v.blocks[at.block], report)
			return inner.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return 0, err
	}
	found := map[spot]error{}
	for i, at := range blocks {
		if found[at] = faults[i]; faults[i] != nil {
			bad++
		}
	}
	s.note(found)
	s.saveProofs(ctx)
	return bad, nil
}

// forgetter is a place whose bytes the system may hold in its memory, whatever the disk has.
type forgetter interface {
	// Forget has the next reader of a part of an entry get it from the disk.
	Forget(name string, offset, length int64)
}

func (s *Store) forget(v *volume, b block) {
	if at, can := s.Bytes.(forgetter); can {
		at.Forget(v.Name, b.offset, int64(b.stored))
	}
}

// ProvedOn is the day since which each of these pieces was proved; zero: it is not known of all. missing is how many of
// them are not to be had.
func (s *Store) ProvedOn(ids []ID) (on time.Time, missing int) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	oldest := today()
	for _, id := range ids {
		at, there := s.index[id]
		if !there {
			missing++
			continue
		}
		oldest = min(oldest, s.proofOf(at.spot()))
	}
	if missing > 0 || oldest == never {
		return time.Time{}, missing
	}
	return oldest.time(), 0
}
