package rehearsal

import (
	"context"
	"errors"
	"fmt"

	"wetland/core/advice"
	"wetland/core/database"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/smoke"
	"wetland/core/snapshot"
)

// conclude says what the run on the copy means for the site.
func (r *rehearsal) conclude(ctx context.Context, run *runs.Run) error {
	tables, err := r.changedTables(ctx, run)
	if err != nil {
		r.note.Differs = append(r.note.Differs, fmt.Sprintf("what changed in its tables could not be told (%v)", err))
	}
	run.State, run.Reason, run.Next = r.verdict(run)
	if len(r.note.Differs) > 0 {
		run.Reason += " The copy was not in all as the site: " + phrase.List(r.note.Differs, 3) + "."
	}
	if len(tables) > 0 && run.Upgrades > 0 {
		run.Reason += " Upgrades took " + phrase.Live(run.Upgrades) + " there."
	}
	if len(r.note.WithoutRows) > 0 {
		run.Reason += " On the copy there were no rows in " + phrase.List(r.note.WithoutRows, 3) + ", as you wanted."
	}
	run.Reason += untouched
	run.Copy = &r.note
	for _, t := range run.Components {
		t.Fate = map[runs.Fate]runs.Fate{runs.FateKept: runs.FateSound, runs.FateBack: runs.FateNotSound}[t.Fate]
	}
	run.Database, run.Rest, run.Again = tables, nil, nil // what was done to go back, on a copy, is of no interest
	run.Snapshot, run.Snapshots, run.Settled = r.snapshot.Name, nil, nil
	return run.Save()
}

const untouched = " The live site was not touched, and no visitor saw any of it."

// verdict is how the packages did.
func (r *rehearsal) verdict(run *runs.Run) (runs.State, string, []advice.Step) {
	switch all := titles(run.Components); run.State {
	case runs.Stopped, runs.UnderWay:
		return runs.Stopped, "The rehearsal was stopped.", nil
	case runs.Kept:
		return r.good(run, all)
	case runs.KeptDoubt:
		return bad(run, all)
	case runs.KeptPart:
		var good, bad []*runs.Target
		for _, t := range run.Components {
			if t.Fate == runs.FateKept {
				good = append(good, t)
			} else {
				bad = append(bad, t)
			}
		}
		return runs.PartOnCopy, fmt.Sprintf("Sound on the copy: %s. Not: %s.", titles(good), titles(bad)), tellVendor(run)
	case runs.NeedsPerson:
		return runs.BrokenOnCopy, fmt.Sprintf("%s on the copy: %s", all, run.Reason), tellVendor(run)
	default:
		if run.Judgement == nil {
			return runs.BrokenOnCopy, fmt.Sprintf("%s on the copy: %s", all, run.Reason), tellVendor(run)
		}
		return bad(run, all)
	}
}

// good is the verdict where nothing was found.
func (r *rehearsal) good(run *runs.Run, all string) (runs.State, string, []advice.Step) {
	next := []advice.Step{advice.Run("brings it to the site, guarded", advice.Update, r.Packages...)}
	switch {
	case run.Returning:
		next = []advice.Step{advice.Run("brings it back to the site, guarded", advice.Restore, run.Components[0].Folder+"@"+run.Components[0].To)}
	case r.All:
		next = []advice.Step{advice.Run("brings it to the site, guarded", advice.UpdateAll)}
	}
	words := fmt.Sprintf("%s on the copy: %s, all sound.", all, phrase.Plural(len(run.Judgement.Pages), "page"))
	if len(r.note.Differs) == 0 {
		return runs.SoundOnCopy, words, next
	}
	return runs.DoubtfulOnCopy, words, next
}

// bad is the verdict where pages are not as before.
func bad(run *runs.Run, all string) (runs.State, string, []advice.Step) {
	pages := phrase.Plural(len(run.Judgement.Pages), "page")
	if run.Judgement.Verdict == smoke.Broken {
		return runs.BrokenOnCopy, fmt.Sprintf("%d of %s broke on the copy with %s.", run.Judgement.Count(smoke.Broken), pages, all), tellVendor(run)
	}
	return runs.DoubtfulOnCopy, fmt.Sprintf("%d of %s became doubtful on the copy with %s.", run.Judgement.Count(smoke.Doubtful), pages, all), []advice.Step{
		advice.Do("Look at the doubtful pages above, and at their pictures in the report."),
		advice.Run("if they are as they should be: then the site's own update does not count it", advice.Accept, run.Name),
	}
}

func tellVendor(run *runs.Run) []advice.Step {
	return []advice.Step{advice.Do("Tell the vendor what broke: the findings are in " + run.Folder), advice.Run("lists the other versions at hand", advice.ListShelf)}
}

// titles names components with their new versions.
func titles(all []*runs.Target) string {
	var names []string
	for _, t := range all {
		names = append(names, t.Name+" "+phrase.Version(t.To))
	}
	return phrase.List(names, 4)
}

// changedTables says what the packages changed in the tables, by the snapshots that the run took of the
// copy.
func (r *rehearsal) changedTables(ctx context.Context, run *runs.Run) (notes []runs.TableNote, err error) {
	if run.Snapshot == "" || len(run.Settled) == 0 {
		return nil, nil
	}
	store, err := session.OpenStore(ctx, r.copy.Workspace, r.Guard)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, store.Close()) }()
	before, err1 := snapshot.Load(ctx, store, run.Snapshot)
	after, err2 := snapshot.Load(ctx, store, run.Settled[len(run.Settled)-1])
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	for _, differ := range database.CompareTables(before.Described(), after.Described()) {
		notes = append(notes, runs.TableNote{Table: differ.Name, What: changeWords(differ)})
	}
	return notes, nil
}

// changeWords says how a table differs.
func changeWords(differ database.TableChange) string {
	before, now := phrase.Plural(int(differ.Before.Rows), "row"), phrase.Plural(int(differ.Now.Rows), "row")
	switch {
	case differ.Fate == database.Created:
		return "is new, with " + now
	case differ.Fate == database.Dropped:
		return "is gone; it had " + before
	case differ.Fate == database.Altered:
		return fmt.Sprintf("has another structure; %s, %d before", now, differ.Before.Rows)
	case differ.Before.Rows == differ.Now.Rows:
		return fmt.Sprintf("some of its %s are others", now)
	}
	return fmt.Sprintf("%s, %d before", now, differ.Before.Rows)
}
