package snapshot

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"wetland/core/packs"
	"wetland/core/progress"
)

// Rules say how long snapshots are kept. Zero means that a rule keeps none.
type Rules struct {
	AllForDays       int // all of them, for so many days
	DailyForDays     int // the last of each day, for so many days
	WeeklyForWeeks   int // the last of each week
	MonthlyForMonths int // the last of each month
	// Proved names snapshots that were brought up, and whose pages were sound: of a day, week or
	// month the last of these stays, rather than one of which that is not known.
	Proved map[string]bool
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
	times, now := plausibleTimes(all, now)
	chosen := r.chosen(all, times, now)
	for i, m := range slices.Backward(all) {
		fate := Fate{Name: m.Name, At: m.FilesAt}
		at := times[i].In(now.Location())
		switch why, isNeeded := needed[m.Name]; {
		case isNeeded:
			fate.Why = why
		case i == len(all)-1:
			fate.Why = "the newest"
		case at.After(now.AddDate(0, 0, -r.AllForDays)):
			fate.Why = fmt.Sprintf("of the last %d days", r.AllForDays)
		}
		// Each snapshot counts for its day, week and month, also one that stays anyway.
		for _, span := range r.spans(at, now) {
			if chosen[span.key] == m.Name && at.After(span.since) && fate.Why == "" {
				fate.Why = "the last of its " + span.what
				if r.Proved[m.Name] {
					fate.Why += " that was brought up and was sound"
				}
			}
		}
		if fate.Go = fate.Why == ""; fate.Go {
			fate.Why = "past its time"
		}
		fates[i] = fate
	}
	return fates
}

// span is a stretch of time of which one snapshot stays.
type span struct {
	what, key string
	since     time.Time // from when on that counts
}

// spans are those that a moment is in.
func (r Rules) spans(at, now time.Time) []span {
	year, week := at.ISOWeek()
	return []span{
		{"day", at.Format("day 2006-01-02"), now.AddDate(0, 0, -r.DailyForDays)},
		{"week", fmt.Sprintf("week %d-%d", year, week), now.AddDate(0, 0, -7*r.WeeklyForWeeks)},
		{"month", at.Format("month 2006-01"), now.AddDate(0, -r.MonthlyForMonths, 0)},
	}
}

// chosen names the snapshot of each span that stays: the last one that is proved, else the last one.
func (r Rules) chosen(all []*Manifest, times []time.Time, now time.Time) map[string]string {
	chosen := map[string]string{}
	for i, m := range slices.Backward(all) {
		for _, span := range r.spans(times[i].In(now.Location()), now) {
			if is, any := chosen[span.key]; !any || r.Proved[m.Name] && !r.Proved[is] {
				chosen[span.key] = m.Name
			}
		}
	}
	return chosen
}

// plausibleTimes returns when the snapshots, oldest first, were taken, and what time it is, as far as
// a clock can be believed: time went on from one snapshot to the next, none was taken in the
// future, and it is not later than the newest one. So nothing goes because a clock jumped
// ahead, and nothing stays for ever that was taken while it was ahead.
func plausibleTimes(all []*Manifest, now time.Time) ([]time.Time, time.Time) {
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
func Pin(ctx context.Context, s *packs.Store, name string, pinned bool) error {
	if _, err := Describe(ctx, s, name); err != nil {
		return err
	}
	isPinned, err := Pinned(ctx, s, name)
	switch {
	case err != nil || isPinned == pinned:
		return err
	case pinned:
		return packs.PutWhole(ctx, s.Bytes, pinFolder+name, nil)
	}
	return s.Bytes.Delete(ctx, pinFolder+name)
}

const pinFolder = "pins/"

// Pinned tells whether a snapshot is pinned.
func Pinned(ctx context.Context, s *packs.Store, name string) (bool, error) {
	pins, err := s.Bytes.List(ctx, pinFolder)
	return slices.Contains(pins, pinFolder+name), err
}

// Drop deletes a snapshot that is neither pinned nor the newest one, whose number would be
// given again. What only it needs stays until the next Tidy.
func Drop(ctx context.Context, s *packs.Store, name string) error {
	names, err := s.Names(ctx)
	if err != nil {
		return err
	}
	if len(names) > 0 && names[len(names)-1] == name {
		return fmt.Errorf("%s is the newest snapshot, and stays", name)
	}
	pinned, err := Pinned(ctx, s, name)
	if err != nil {
		return err
	}
	if pinned {
		return fmt.Errorf("%s is pinned, and stays", name)
	}
	if err := s.Bytes.Delete(ctx, manifestName(name)); err != nil {
		return fmt.Errorf("delete %s: %w", name, err)
	}
	return nil
}

// Tidy deletes snapshots, and of what only they need. What is still needed of a
// volume that is mostly waste is written anew first. It waits until nobody else has the
// store open, and can be interrupted at any instant. Use the store no more afterwards. It
// returns the bytes freed.
func Tidy(ctx context.Context, s *packs.Store, gone []string, report progress.Reporter) (freed int64, err error) {
	fresh, release, err := s.Alone(ctx)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, release()) }()
	before, err := fresh.Size(ctx)
	if err != nil {
		return 0, err
	}
	needed, err := needed(ctx, fresh, gone)
	if err != nil {
		return 0, err
	}
	old, err := fresh.Compact(ctx, needed, report)
	if err != nil {
		return 0, err
	}
	// From here on only what nothing needs is taken away; manifests first.
	for _, name := range gone {
		if err := s.Bytes.Delete(ctx, manifestName(name)); err != nil {
			return 0, fmt.Errorf("delete %s: %w", name, err)
		}
	}
	if err := fresh.Remove(ctx, old); err != nil {
		return 0, err
	}
	if err := s.Bytes.Clear(ctx); err != nil {
		return 0, err
	}
	after, err := fresh.Size(ctx)
	if err != nil {
		return 0, err
	}
	return before - after, nil
}

// needed returns the pieces of all snapshots but those that are to go. A snapshot that
// cannot be read is an error: what it needs cannot be known.
func needed(ctx context.Context, s *packs.Store, gone []string) (map[packs.ID]bool, error) {
	names, err := s.Names(ctx)
	if err != nil {
		return nil, err
	}
	needed := map[packs.ID]bool{}
	for _, name := range names {
		if slices.Contains(gone, name) {
			continue
		}
		m, err := Load(ctx, s, name)
		if err != nil {
			return nil, fmt.Errorf("nothing is deleted while a snapshot cannot be read: %w", err)
		}
		contents, err := m.contentsOf(ctx, s, anyFile)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		for _, id := range append(contents, m.listsOf()...) {
			needed[id] = true
		}
	}
	return needed, nil
}
