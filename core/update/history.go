package update

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"wetland/core/site"
	"wetland/core/snapshot"
)

// Event is a snapshot or a run.
type Event struct {
	At      time.Time `json:"at"`
	Name    string    `json:"name"`
	State   string    `json:"state"`
	About   string    `json:"about"`
	Problem string    `json:"problem,omitempty"` // why it cannot be read
}

// History lists the snapshots and runs of a workspace, oldest first. What cannot
// be read is in it, with the reason.
func History(w *site.Workspace) ([]Event, error) {
	names, err := runNames(w)
	if err != nil {
		return nil, err
	}
	var events []Event
	for _, name := range names {
		run, err := LoadRun(w, name)
		if errors.Is(err, ErrNoRun) {
			continue
		}
		if err != nil {
			events = append(events, Event{Name: name, State: "damaged", Problem: err.Error(), About: err.Error()})
			continue
		}
		events = append(events, Event{At: run.Started, Name: run.Name, State: string(run.State), About: run.about()})
	}
	store, err := snapshot.Open(w.Store())
	if err != nil {
		return events, err
	}
	snapshots, err := store.Names()
	if err != nil {
		return events, err
	}
	for _, name := range snapshots {
		m, err := store.Describe(name)
		if err != nil {
			events = append(events, Event{Name: name, State: "damaged", Problem: err.Error(), About: err.Error()})
			continue
		}
		count, size, tables, _ := m.Totals()
		about := fmt.Sprintf("%s (%s), %s", plural(count, "file"), bytesText(size), plural(tables, "table"))
		if m.Reason != "" {
			about += "; " + m.Reason
		}
		events = append(events, Event{At: m.FilesAt, Name: m.Name, State: "verified", About: about})
	}
	slices.SortStableFunc(events, func(a, b Event) int { return a.At.Compare(b.At) })
	return events, nil
}

// about says in a few words what a run was for.
func (r *Run) about() string {
	if r.Component != nil {
		return fmt.Sprintf("%s %s -> %s", r.Component.Name, versionText(r.Component.From), versionText(r.Component.To))
	}
	return r.Kind + " " + r.Wanted
}

// Snapshot takes one by hand.
func Snapshot(ctx context.Context, w *site.Workspace, guard Guard, note string) (m *snapshot.Manifest, err error) {
	var why reasons
	s, err := open(ctx, w, guard, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.close()) }()
	if err := why.refusal(); err != nil {
		return nil, err
	}
	return s.take(ctx, note)
}
