package snapshot

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wetland/core/packs"
	"wetland/core/progress"
	"wetland/internal/testenv"
)

// losing is a store whose power fails at a moment: what was committed by then is safe,
// what was being written is gone, and what was deleted may be back.
type losing struct {
	kept    map[string][]byte
	deleted map[string][]byte
	left    int // changes until the power fails; below zero: never
}

var errPower = errors.New("the power failed")

func newLosing() *losing {
	return &losing{kept: map[string][]byte{}, deleted: map[string][]byte{}, left: -1}
}

// change tells whether there is power for one more change.
func (l *losing) change() error {
	if l.left == 0 {
		return errPower
	}
	l.left--
	return nil
}

type losingWriter struct {
	of   *losing
	name string
	bytes.Buffer
}

func (l *losing) Put(_ context.Context, name string) (packs.Writer, error) {
	if _, ok := l.kept[name]; ok {
		return nil, fs.ErrExist
	}
	return &losingWriter{of: l, name: name}, l.change()
}

func (w *losingWriter) Write(p []byte) (int, error) {
	if err := w.of.change(); err != nil {
		return 0, err
	}
	return w.Buffer.Write(p)
}

func (w *losingWriter) Commit() error {
	if err := w.of.change(); err != nil {
		return err
	}
	w.of.kept[w.name] = bytes.Clone(w.Bytes())
	return nil
}

func (w *losingWriter) Abort() error { return nil }

func (l *losing) Get(_ context.Context, name string, offset, length int64) (io.ReadCloser, error) {
	data, ok := l.kept[name]
	if !ok {
		return nil, fs.ErrNotExist
	}
	if length < 0 {
		length = int64(len(data)) - offset
	}
	return io.NopCloser(io.NewSectionReader(bytes.NewReader(data), offset, length)), nil
}

func (l *losing) Size(_ context.Context, name string) (int64, error) {
	data, ok := l.kept[name]
	if !ok {
		return 0, fs.ErrNotExist
	}
	return int64(len(data)), nil
}

func (l *losing) List(_ context.Context, prefix string) ([]string, error) {
	var names []string
	for name := range l.kept {
		if strings.HasPrefix(name, prefix) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names, nil
}

func (l *losing) Delete(_ context.Context, name string) error {
	if err := l.change(); err != nil {
		return err
	}
	l.deleted[name] = l.kept[name]
	delete(l.kept, name)
	return nil
}

func (l *losing) Clear(context.Context) error { return nil }

func (l *losing) Where() string { return "a store that loses power" }

func (l *losing) Replace(_ context.Context, name string, before, now []byte) error {
	if !bytes.Equal(l.kept[name], before) {
		return packs.ErrChanged
	}
	if err := l.change(); err != nil {
		return err
	}
	l.kept[name] = bytes.Clone(now)
	return nil
}

// Hold is given at once: nobody else is there.
func (l *losing) Hold(context.Context, bool) (func() error, error) {
	return func() error { return nil }, nil
}

// clone returns the store as the power found it; with back, all that was deleted is
// there again.
func (l *losing) clone(back bool) *losing {
	other := newLosing()
	for name, data := range l.kept {
		other.kept[name] = data
	}
	if back {
		for name, data := range l.deleted {
			other.kept[name] = data
		}
	}
	return other
}

// The power fails at every single change that taking and tidying make to the store:
// every snapshot that is listed afterwards is whole, also after another tidy.
func TestPowerFailsAtEveryChange(t *testing.T) {
	testenv.TakesLong(t)
	s := newSmall(t)
	whole := newLosing()
	take := func(of *losing) error {
		store, err := packs.OpenAt(t.Context(), of, nil)
		if err != nil {
			return err
		}
		_, err = Take(context.Background(), store, Subject{Site: s.site, Database: s.db}, progress.Silent{})
		return err
	}
	tidy := func(of *losing, gone ...string) error {
		store, err := packs.OpenAt(t.Context(), of, nil)
		if err != nil {
			return err
		}
		_, err = Tidy(context.Background(), store, gone, progress.Silent{})
		return err
	}
	for range 3 {
		if err := take(whole); err != nil {
			t.Fatal(err)
		}
		if _, err := s.raw.Exec("UPDATE big SET t = hex(randomblob(100)) WHERE id % 3 > 0"); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(s.site.Root, "uploads/large.bin"), bytes.Repeat([]byte{byte(len(whole.kept))}, 100_000), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for what, do := range map[string]func(*losing) error{
		"taking":  take,
		"tidying": func(of *losing) error { return tidy(of, "snap-1", "snap-2") },
	} {
		deaths := 0
		for n := 0; ; n++ {
			dying := whole.clone(false)
			dying.left = n
			err := do(dying)
			if err == nil {
				break
			}
			deaths++
			if !errors.Is(err, errPower) {
				t.Fatalf("%s, change %d: %v", what, n, err)
			}
			for _, back := range []bool{false, true} {
				after := dying.clone(back)
				wholeSnapshots(t, after)
				if err := tidy(after, "snap-1"); err != nil && !errors.Is(err, fs.ErrNotExist) {
					t.Fatalf("%s, change %d: tidy afterwards: %v", what, n, err)
				}
				wholeSnapshots(t, after)
			}
		}
		if deaths < 5 {
			t.Errorf("%s: the power failed only %d times", what, deaths)
		}
	}
}

// wholeSnapshots fails unless the newest snapshot is there and all that are listed are
// proved.
func wholeSnapshots(t *testing.T, of *losing) {
	t.Helper()
	store, err := packs.OpenAt(t.Context(), of, nil)
	if err != nil {
		t.Fatal(err)
	}
	names, err := store.Names(t.Context())
	if err != nil || !slices.Contains(names, "snap-3") {
		t.Fatalf("snapshots: %v %v", names, err)
	}
	for _, name := range names {
		m, err := Load(t.Context(), store, name)
		if err == nil {
			err = Verify(context.Background(), store, m, progress.Silent{})
		}
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
	}
}

func TestRulesOfTidying(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	var all []*Manifest
	for hours := 24 * 500; hours >= 0; hours -= 8 { // three a day for 500 days
		all = append(all, &Manifest{Name: fmt.Sprintf("snap-%d", 1+(24*500-hours)/8), FilesAt: now.Add(-time.Duration(hours) * time.Hour)})
	}
	rules := Rules{AllForDays: 7, DailyForDays: 30, WeeklyForWeeks: 26, MonthlyForMonths: 12}
	counts := map[string]int{}
	for _, fate := range rules.Judge(all, map[string]string{"snap-3": "pinned"}, now) {
		counts[fate.Why]++
	}
	for why, want := range map[string]int{"pinned": 1, "the newest": 1, "of the last 7 days": 20, "the last of its day": 23, "the last of its week": 21, "the last of its month": 10} {
		if got := counts[why]; got < want-1 || got > want+1 {
			t.Errorf("%s: %d, want about %d (%v)", why, got, want, counts)
		}
	}
	if fates := (Rules{}).Judge(all, nil, now); fates[len(fates)-1].Go || !fates[0].Go {
		t.Error("without rules just the newest stays")
	}
	if fates := rules.Judge(nil, nil, now); len(fates) != 0 {
		t.Error("nothing is judged")
	}
}

// With a clock that is wrong, or was, nothing goes that would stay with a right one; what
// was taken while it was ahead goes when its time has come.
func TestTidyingWithAWrongClock(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	day := 24 * time.Hour
	ahead, boot := now.AddDate(14, 0, 0), time.Unix(0, 0)
	rules := Rules{AllForDays: 7}
	for name, c := range map[string]struct {
		at   []time.Time
		now  time.Time
		gone []string
	}{
		"right":               {[]time.Time{now.Add(-9 * day), now.Add(-8 * day), now.Add(-day), now}, now, []string{"snap-1", "snap-2"}},
		"ahead now":           {[]time.Time{now.Add(-9 * day), now.Add(-6 * day), now}, ahead, []string{"snap-1"}},
		"behind now":          {[]time.Time{now.Add(-9 * day), now.Add(-6 * day), now}, boot, nil},
		"was ahead, long ago": {[]time.Time{now.Add(-9 * day), ahead, now.Add(-day), now}, now, []string{"snap-1", "snap-2"}},
		"was ahead at first":  {[]time.Time{ahead, now.Add(-9 * day), now}, now, []string{"snap-1", "snap-2"}},
		"was ahead just now":  {[]time.Time{now.Add(-9 * day), now.Add(-day), ahead}, now, []string{"snap-1"}},
		"was behind":          {[]time.Time{now.Add(-9 * day), now.Add(-6 * day), boot, now}, now, []string{"snap-1"}},
	} {
		var all []*Manifest
		for i, at := range c.at {
			all = append(all, &Manifest{Name: fmt.Sprintf("snap-%d", i+1), FilesAt: at})
		}
		var gone []string
		for _, fate := range rules.Judge(all, nil, c.now) {
			if fate.Go {
				gone = append(gone, fate.Name)
			}
		}
		if !slices.Equal(gone, c.gone) {
			t.Errorf("%s: %v go, want %v", name, gone, c.gone)
		}
	}
}
