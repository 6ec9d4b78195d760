package archive

import (
	"context"
	"errors"
	"fmt"
	"path"
	"time"

	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/smoke"
	"wetland/core/snapshot"
	"wetland/core/tables"
	"wetland/core/workspace"
)

// TidyPlan says which snapshots go and stay.
type TidyPlan struct {
	Fates []snapshot.Fate `json:"snapshots"` // oldest first
	Freed int64           `json:"freed_bytes"`
}

// Going names the snapshots that go.
func (p *TidyPlan) Going() []string {
	var names []string
	for _, fate := range p.Fates {
		if fate.Go {
			names = append(names, fate.Name)
		}
	}
	return names
}

// rulesOf returns the rules of wetland.toml, with what it leaves out.
func rulesOf(w *workspace.Workspace) snapshot.Rules {
	rules := snapshot.Rules{AllForDays: 14, DailyForDays: 60, WeeklyForWeeks: 26, MonthlyForMonths: 24}
	keep := w.Config.Retention
	for _, one := range []struct {
		from *int
		to   *int
	}{{keep.AllForDays, &rules.AllForDays}, {keep.DailyForDays, &rules.DailyForDays}, {keep.WeeklyForWeeks, &rules.WeeklyForWeeks}, {keep.MonthlyForMonths, &rules.MonthlyForMonths}} {
		if one.from != nil {
			*one.to = *one.from
		}
	}
	return rules
}

// Tidy deletes the snapshots that are past their time, by the rules of wetland.toml.
// confirm is shown the plan and decides; nil: yes.
func Tidy(ctx context.Context, w *workspace.Workspace, now time.Time, confirm func(*TidyPlan) bool, guard session.Guard) (*TidyPlan, error) {
	guard.Fill()
	store, err := session.OpenStore(ctx, w, guard)
	if err != nil {
		return nil, err
	}
	defer store.Close()
	names, err := store.Names(ctx)
	if err != nil {
		return nil, err
	}
	var all []*snapshot.Manifest
	needed := map[string]string{}
	for _, name := range names {
		m, err := snapshot.Describe(ctx, store, name)
		if err != nil {
			return nil, fmt.Errorf("nothing is deleted while a snapshot cannot be read: %w", err)
		}
		all = append(all, m)
		pinned, err := snapshot.Pinned(ctx, store, name)
		if err != nil {
			return nil, err
		}
		if pinned {
			needed[name] = "pinned"
		}
	}
	if err := neededByRuns(w, needed); err != nil {
		return nil, err
	}
	rules := rulesOf(w)
	broughtUp, err := BroughtUp(w)
	if err != nil {
		return nil, err
	}
	rules.Proved = map[string]bool{}
	for name, as := range broughtUp {
		rules.Proved[name] = as.Verdict == smoke.Sound
	}
	plan := &TidyPlan{Fates: rules.Judge(all, needed, now)}
	if confirm != nil && !confirm(plan) {
		return plan, session.ErrDeclined
	}
	guard.Report.Begin("tidying", 0, "bytes")
	if plan.Freed, err = snapshot.Tidy(ctx, store, plan.Going(), guard.Report); err != nil {
		return plan, err
	}
	guard.Report.End(progress.Good, "tidied", fmt.Sprintf("%s deleted, %s freed", phrase.Plural(len(plan.Going()), "snapshot"), phrase.Bytes(plan.Freed)))
	return plan, tidyDatabase(ctx, w, all, guard)
}

// tidyDatabase drops what crashes left in the site's database. A site that cannot be opened, or
// that somebody works on, or whose last run is not settled, is left alone: what lies there
// harms nobody. It looks first and takes the site's lock only where something is left, so that
// a snapshot that begins meanwhile is not refused.
func tidyDatabase(ctx context.Context, w *workspace.Workspace, all []*snapshot.Manifest, guard session.Guard) (err error) {
	if unsettled, err := runs.Unsettled(w); err != nil || unsettled != nil {
		return err
	}
	s := &session.Session{Guard: guard}
	if s.Site, err = site.Open(ctx, w); err != nil {
		return nil
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	if s.DB, err = s.Site.OpenDatabase(ctx); err != nil {
		return nil
	}
	if err := tables.SweepScratch(ctx, s); err != nil {
		return err
	}
	var known []snapshot.Table
	for _, m := range all {
		known = append(known, m.Tables...)
	}
	names, err := tables.TableNames(ctx, s, known)
	if err != nil {
		return err
	}
	left, err := s.DB.Leftover(ctx, names)
	if err != nil || len(left) == 0 {
		return err
	}
	if s.Lock(ctx) != nil {
		return nil
	}
	if unsettled, err := runs.Unsettled(w); err != nil || unsettled != nil {
		return err
	}
	return tables.SweepTables(ctx, s, known)
}

// neededByRuns notes the snapshots that a run still needs: one that is not settled, and
// for each theme and plugin the last update that was kept, to be able to go back.
func neededByRuns(w *workspace.Workspace, needed map[string]string) error {
	all, err := runs.All(w)
	if err != nil {
		return fmt.Errorf("nothing is deleted while the record of a run cannot be read: %w", err)
	}
	last := map[string]*runs.Run{}
	for i, run := range all {
		if run.Snapshot == "" {
			continue
		}
		if i == len(all)-1 && !run.State.IsSettled() { // an earlier one is: a later one could only begin then
			for _, name := range append(run.Snapshots, run.Snapshot) {
				needed[name] = run.Name + " needs it"
			}
			if run.Kind == "restore" {
				needed[run.Wanted] = run.Name + " needs it"
			}
		}
		for _, t := range run.Components {
			if t.Fate == runs.FateKept {
				last[string(t.Kind)+"/"+t.Folder] = run
			}
		}
	}
	for key, run := range last {
		if _, known := needed[run.Snapshot]; !known {
			needed[run.Snapshot] = fmt.Sprintf("from before %s, the last update of %s", run.Name, path.Base(key))
		}
	}
	return nil
}
