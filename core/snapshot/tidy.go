package snapshot

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"wetland/core/progress"
)

// Rules say how long snapshots are kept. Zero means that a rule keeps none.
type Rules struct {
	AllForDays       int // all of them, for so many days
	DailyForDays     int // the last of each day, for so many days
	WeeklyForWeeks   int // the last of each week
	MonthlyForMonths int // the last of each month
}

// Fate is what becomes of a snapshot when a store is tidied.
type Fate struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
	Go   bool      `json:"go"`
	Why  string    `json:"why"` // it stays, or goes
}

// Judge says which of the described snapshots, oldest first, are past their time. The
// newest one stays whatever the rules say, and so does what needed names, with the
// reason. Days begin as they do at now's place. A clock that is or was wrong makes
// snapshots stay for longer, never go early.
func (r Rules) Judge(all []*Manifest, needed map[string]string, now time.Time) []Fate {
	fates := make([]Fate, len(all))
	seen := map[string]bool{}
	times, now := sober(all, now)
	for i, m := range slices.Backward(all) {
		fate := Fate{Name: m.Name, At: m.FilesAt}
		at := times[i].In(now.Location())
		year, week := at.ISOWeek()
		switch why, isNeeded := needed[m.Name]; {
		case isNeeded:
			fate.Why = why
		case i == len(all)-1:
			fate.Why = "the newest"
		case at.After(now.AddDate(0, 0, -r.AllForDays)):
			fate.Why = fmt.Sprintf("of the last %d days", r.AllForDays)
		}
		// Each snapshot counts for its day, week and month, also one that stays anyway.
		for _, rule := range []struct {
			what, key string
			since     time.Time
		}{
			{"day", at.Format("day 2006-01-02"), now.AddDate(0, 0, -r.DailyForDays)},
			{"week", fmt.Sprintf("week %d-%d", year, week), now.AddDate(0, 0, -7*r.WeeklyForWeeks)},
			{"month", at.Format("month 2006-01"), now.AddDate(0, -r.MonthlyForMonths, 0)},
		} {
			if !seen[rule.key] && at.After(rule.since) && fate.Why == "" {
				fate.Why = "the last of its " + rule.what
			}
			seen[rule.key] = true
		}
		if fate.Go = fate.Why == ""; fate.Go {
			fate.Why = "past its time"
		}
		fates[i] = fate
	}
	return fates
}

// sober returns when the snapshots, oldest first, were taken, and what time it is, as far as
// a clock can be believed: time went on from one snapshot to the next, none was taken in the
// future, and it is not later than the newest one. So nothing goes because a clock jumped
// ahead, and nothing stays for ever that was taken while it was ahead.
func sober(all []*Manifest, now time.Time) ([]time.Time, time.Time) {
	last := now
	if i := slices.IndexFunc(all, func(m *Manifest) bool { return !m.FilesAt.After(now) }); i >= 0 {
		last = all[i].FilesAt
	}
	times := make([]time.Time, len(all))
	for i, m := range all {
		if m.FilesAt.After(last) && !m.FilesAt.After(now) {
			last = m.FilesAt
		}
		times[i] = last
	}
	if len(all) > 0 && all[len(all)-1].FilesAt.Before(now) {
		now = times[len(all)-1].In(now.Location())
	}
	return times, now
}

// Pin keeps a snapshot from being tidied away until it is unpinned.
func (s *Store) Pin(name string, pinned bool) error {
	if _, err := s.Describe(name); err != nil {
		return err
	}
	isPinned, err := s.Pinned(name)
	switch {
	case err != nil || isPinned == pinned:
		return err
	case pinned:
		return putWhole(s.bytes, pinFolder+name, nil)
	}
	return s.bytes.Delete(pinFolder + name)
}

const pinFolder = "pins/"

// Pinned tells whether a snapshot is pinned.
func (s *Store) Pinned(name string) (bool, error) {
	pins, err := s.bytes.List(pinFolder)
	return slices.Contains(pins, pinFolder+name), err
}

// Drop lets go of a snapshot that is neither pinned nor the newest one, whose number would be
// given again. What only it needs stays until the next Tidy.
func (s *Store) Drop(name string) error {
	names, err := s.Names()
	if err != nil {
		return err
	}
	if len(names) > 0 && names[len(names)-1] == name {
		return fmt.Errorf("%s is the newest snapshot, and stays", name)
	}
	pinned, err := s.Pinned(name)
	if err != nil {
		return err
	}
	if pinned {
		return fmt.Errorf("%s is pinned, and stays", name)
	}
	if err := s.bytes.Delete(manifestName(name)); err != nil {
		return fmt.Errorf("let go of %s: %w", name, err)
	}
	return nil
}

// Tidy lets go of snapshots, and of what only they need. What is still needed of a
// volume that is mostly waste is written anew first. It waits until nobody else has the
// store open, and can be interrupted at any instant. Use the store no more afterwards. It
// returns the bytes freed.
func (s *Store) Tidy(ctx context.Context, gone []string, report progress.Reporter) (freed int64, err error) {
	if s.guard != "" {
		if err := s.Close(); err != nil {
			return 0, err
		}
		release, err := hold(ctx, s.guard, true)
		if err != nil {
			return 0, err
		}
		defer func() { err = errors.Join(err, release()) }()
	}
	fresh, err := openBytes(s.bytes, s.seal) // others may have added meanwhile
	if err != nil {
		return 0, err
	}
	for name, reason := range fresh.damaged {
		return 0, fmt.Errorf("the volume %s cannot be read, and nothing is thrown away before that is mended: %w", path.Base(name), reason)
	}
	before, err := fresh.size()
	if err != nil {
		return 0, err
	}
	needed, err := fresh.needed(gone)
	if err != nil {
		return 0, err
	}
	old, err := fresh.compact(ctx, needed, report)
	if err != nil {
		return 0, err
	}
	// From here on only what nothing needs is taken away; manifests first.
	for _, name := range gone {
		if err := s.bytes.Delete(manifestName(name)); err != nil {
			return 0, fmt.Errorf("let go of %s: %w", name, err)
		}
	}
	for _, v := range old {
		if err := s.bytes.Delete(v.name); err != nil {
			return 0, fmt.Errorf("delete the volume %s: %w", path.Base(v.name), err)
		}
	}
	if err := s.bytes.Clear(); err != nil {
		return 0, err
	}
	after, err := fresh.size()
	if err != nil {
		return 0, err
	}
	return before - after, nil
}

// size is what the store's files take, in bytes.
func (s *Store) size() (total int64, err error) {
	for _, prefix := range []string{volumeFolder, manifestFolder} {
		names, err := s.bytes.List(prefix)
		if err != nil {
			return 0, err
		}
		for _, name := range names {
			size, err := s.bytes.Size(name)
			if err != nil {
				return 0, err
			}
			total += size
		}
	}
	return total, nil
}

// needed returns the pieces of all snapshots but those that are to go. A snapshot that
// cannot be read is an error: what it needs cannot be known.
func (s *Store) needed(gone []string) (map[ID]bool, error) {
	names, err := s.Names()
	if err != nil {
		return nil, err
	}
	needed := map[ID]bool{}
	for _, name := range names {
		if slices.Contains(gone, name) {
			continue
		}
		m, err := s.Load(name)
		if err != nil {
			return nil, fmt.Errorf("nothing is thrown away while a snapshot cannot be read: %w", err)
		}
		for _, area := range m.Areas {
			for _, id := range area.Lists {
				needed[id] = true
			}
			for _, item := range area.Items {
				for _, id := range item.Pieces {
					needed[id] = true
				}
			}
		}
		for _, table := range m.Tables {
			for _, id := range table.Lists {
				needed[id] = true
			}
			if err := s.rowPieces(table, func(id ID) error { needed[id] = true; return nil }); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
		}
	}
	return needed, nil
}

// mostWaste is the share of a volume that may be waste before it is written anew, in
// percent.
const mostWaste = 30

// compact writes the needed pieces of wasteful volumes into new ones, proved, and
// returns the volumes that nothing needs any more.
func (s *Store) compact(ctx context.Context, needed map[ID]bool, report progress.Reporter) (old []*volume, err error) {
	to := s.newAdder(ctx, report)
	for number, v := range s.volumes {
		total, waste := 0, 0
		for i, b := range v.blocks {
			for _, p := range b.pieces {
				total += int(p.size)
				at := s.index[p.id]
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
				at := s.index[p.id]
				if !needed[p.id] || s.volumes[at.volume] != v {
					continue
				}
				if err := ctx.Err(); err != nil {
					return nil, errors.Join(err, to.abandon())
				}
				data, err := s.piece(p.id)
				if err == nil {
					err = to.copy(p.id, data, !b.packed)
				}
				if err != nil {
					return nil, errors.Join(err, to.abandon())
				}
				report.Advance(int64(p.size))
			}
		}
	}
	if err := to.finish(); err != nil {
		return nil, errors.Join(err, to.abandon())
	}
	return old, nil
}
