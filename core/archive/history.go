// Package archive is what is done with snapshots and runs that lie in the store: listing, proving,
// tidying, exporting them, and accepting what a run found.
package archive

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/packs"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/smoke"
	"wetland/core/snapshot"
	"wetland/core/workspace"
)

// Event is a snapshot or a run.
type Event struct {
	At      time.Time `json:"at"`
	Name    string    `json:"name"`
	State   string    `json:"state"`
	About   string    `json:"about"`
	Proved  time.Time `json:"proved,omitzero"`   // the day since which each byte of a snapshot was read back
	Problem string    `json:"problem,omitempty"` // why it cannot be read
}

// How snapshots are: every one is verified when it is taken; one that was brought up and was sound is proved
// to be more than readable.
const (
	Verified = "verified"
	Lived    = "brought up, sound"
)

// History lists the snapshots and runs of a workspace, oldest first. What cannot
// be read is in it, with the reason.
func History(ctx context.Context, w *workspace.Workspace, guard session.Guard) ([]Event, error) {
	var events []Event
	tell := func(name string, run *runs.Run, err error) error {
		if err != nil {
			events = append(events, damaged(name, err))
		} else {
			events = append(events, Event{At: run.Started, Name: run.Name, State: string(run.State), About: run.Title()})
		}
		return nil
	}
	if err := errors.Join(runs.Each(w, tell), runs.Each(w.Rehearsals(), tell)); err != nil {
		return nil, err
	}
	store, err := session.OpenStore(ctx, w, guard)
	if err != nil {
		return events, err
	}
	defer store.Close()
	snapshots, err1 := store.Names(ctx)
	broughtUp, err2 := BroughtUp(w)
	if err := errors.Join(err1, err2); err != nil {
		return events, err
	}
	for _, name := range snapshots {
		m, err := snapshot.Load(ctx, store, name)
		if err != nil {
			events = append(events, damaged(name, err))
			continue
		}
		proved, err := snapshot.ProvedOn(ctx, store, m)
		if err != nil {
			event := damaged(name, err)
			event.At = m.FilesAt
			events = append(events, event)
			continue
		}
		count, size, tables, _ := m.Totals()
		about := fmt.Sprintf("%s (%s), %s", phrase.Plural(count, "file"), phrase.Bytes(size), phrase.Plural(tables, "table"))
		if m.Reason != "" {
			about += "; " + m.Reason
		}
		state := Verified
		if as, is := broughtUp[name]; is {
			state = map[bool]string{true: Lived, false: "brought up, " + string(as.Verdict)}[as.Verdict == smoke.Sound]
		}
		events = append(events, Event{At: m.FilesAt, Name: m.Name, State: state, About: about, Proved: proved})
	}
	slices.SortStableFunc(events, func(a, b Event) int { return a.At.Compare(b.At) })
	return events, nil
}

// damaged is what cannot be read.
func damaged(name string, why error) Event {
	return Event{Name: name, State: "damaged", Problem: why.Error(), About: why.Error()}
}

// SnapshotOptions are those of a snapshot by hand.
type SnapshotOptions struct {
	session.Guard
	Note string
	Pin  bool
	// IfOlder takes none if the newest one is younger, and neither files nor tables
	// changed since; 0: always take one.
	IfOlder time.Duration
}

// Taken is a snapshot that was taken by hand.
type Taken struct {
	*snapshot.Manifest
	Fresh  bool      // else the newest one serves
	Proved time.Time // the day since which each byte of it was read back; zero: it is not known of all
}

// Snapshot takes one by hand.
func Snapshot(ctx context.Context, w *workspace.Workspace, o SnapshotOptions) (taken Taken, err error) {
	var why runs.Reasons
	s, err := session.Open(ctx, w, o.Guard, &why)
	if err != nil {
		return taken, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	if err := why.Refusal(); err != nil {
		return taken, err
	}
	if o.IfOlder > 0 {
		taken.Manifest, err = recent(ctx, s, o.IfOlder)
	}
	if err == nil && taken.Manifest == nil {
		taken.Fresh = true
		taken.Manifest, err = s.Take(ctx, o.Note)
	}
	if err == nil && o.Pin {
		err = snapshot.Pin(ctx, s.Store, taken.Name, true)
	}
	if err == nil {
		taken.Proved, err = snapshot.ProvedOn(ctx, s.Store, taken.Manifest)
	}
	return taken, err
}

// recent returns the newest snapshot if it is younger than the age, whole, and the site
// is still as in it.
func recent(ctx context.Context, s *session.Session, age time.Duration) (*snapshot.Manifest, error) {
	names, err := s.Store.Names(ctx)
	if err != nil || len(names) == 0 {
		return nil, err
	}
	m, err := snapshot.Load(ctx, s.Store, names[len(names)-1])
	if err != nil || time.Since(m.FilesAt).Abs() > age || len(m.Unread) > 0 || m.Root != s.Site.Place() {
		return nil, nil // whatever is wrong with it: a new one is taken
	}
	var changed string
	err = s.Step("comparing", 0, "", func() (progress.Mark, string, error) {
		if changed, err = changedSince(ctx, s, m); err != nil {
			return progress.Bad, "", err
		}
		if changed != "" {
			return progress.Note, fmt.Sprintf("%s is not what is there now: %s", m.Name, changed), nil
		}
		return progress.Good, fmt.Sprintf("neither files nor tables changed since %s", m.Name), nil
	})
	if err != nil || changed != "" {
		return nil, err
	}
	return m, nil
}

// changedSince says what differs from a snapshot first, or "".
func changedSince(ctx context.Context, s *session.Session, m *snapshot.Manifest) (string, error) {
	if len(m.Areas) != len(s.Site.Areas()) {
		return "the site has other parts", nil
	}
	for i, area := range s.Site.Areas() {
		if area.Path != m.Areas[i].Path {
			return area.Path, nil
		}
		present, err := files.ReadTreeKnowing(ctx, s.Site.Files, area.Path, site.ScopeOf(area), m.KnownHashes(area.Name))
		if err != nil {
			return "", err
		}
		for _, differ := range files.Exact.Compare(m.Areas[i].Tree(), present) {
			return fmt.Sprintf("%s (%s)", differ.Path, differ.What), nil
		}
	}
	if s.NoDatabase != nil {
		return "", nil
	}
	present, err := database.Present(ctx, s.DB)
	if err != nil {
		return "", err
	}
	for _, differ := range database.CompareTables(m.Described(), present) {
		return fmt.Sprintf("the table %s (%s)", differ.Name, differ.Fate), nil
	}
	return "", nil
}

// Pin keeps a snapshot from being tidied away, or lets it go.
func Pin(ctx context.Context, w *workspace.Workspace, name string, pinned bool, guard session.Guard) error {
	store, err := session.OpenStore(ctx, w, guard)
	if err != nil {
		return err
	}
	defer store.Close()
	return snapshot.Pin(ctx, store, name, pinned)
}

// SnapshotNames lists the workspace's snapshots, oldest first, without opening the store.
func SnapshotNames(ctx context.Context, w *workspace.Workspace) ([]string, error) {
	return packs.NamesIn(ctx, w.Store())
}

// ComponentNames lists the folders of the site's themes and plugins; none where they cannot
// be read.
func ComponentNames(w *workspace.Workspace) []string {
	opened, err := site.Open(context.Background(), w)
	if err != nil {
		return nil
	}
	defer opened.Close()
	components, err := opened.CMS.Components(context.Background(), nil)
	if err != nil {
		return nil
	}
	var names []string
	for _, component := range components {
		names = append(names, component.Folder)
	}
	return names
}
