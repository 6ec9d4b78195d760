package tables

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wetland/core/caches"
	"wetland/core/database"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// Plan is what becomes of the tables when an update goes back. The rules are in docs/going-back.md, and in whose.go.
type Plan struct {
	Change database.Change
	notes  []runs.TableNote
	Save   []database.Table // tables whose present rows are saved first
	// keep is what visitors wrote to tables that are made anew: it goes over their rows.
	keep     map[string][]KeptRows
	restyled []*written // of tables that are made anew
	patched  []*written // of the change's patches, in their order
	doubts   []Doubt
}

func (p *Plan) note(table string, left bool, format string, args ...any) {
	p.notes = append(p.notes, runs.TableNote{Table: table, What: fmt.Sprintf(format, args...), Left: left})
}

// PlanTables compares the present tables with how they were right before the swap, and decides.
func (r *Readings) PlanTables(ctx context.Context) (plan *Plan, err error) {
	moment, err := r.s.DB.Read(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the database: %w", err)
	}
	// Our own views would hold up the change.
	defer func() { err = errors.Join(err, moment.Close(), r.closeMoments()) }()
	now, err := database.Survey(ctx, moment, nil)
	if err != nil {
		return nil, err
	}
	plan = &Plan{Change: database.Change{Tag: r.s.Run.Name, KeepCounters: true}, keep: map[string][]KeptRows{}}
	var all []*written
	for _, differ := range database.CompareTables(r.target(), now) {
		w, err := r.planTable(ctx, plan, differ, moment)
		if err != nil {
			return nil, err
		}
		if w != nil {
			all = append(all, w)
		}
	}
	if err := errors.Join(findMoved(ctx, all), findNamed(ctx, all)); err != nil {
		return nil, err
	}
	for _, w := range all {
		if err := w.plan(ctx, plan); err != nil {
			return nil, err
		}
	}
	return plan, nil
}

// planTable plans what is to become of a table as a whole, or returns it where that depends on its rows.
func (r *Readings) planTable(
	ctx context.Context, plan *Plan, differ database.TableChange, moment database.Moment,
) (*written, error) {
	name := differ.Name
	switch {
	case differ.Fate == database.Created && differ.Now.Kind.Stays():
		plan.note(name, true, "was created by the update, and stays: it does nothing unless it is called")
		return nil, nil
	case differ.Fate == database.Created:
		plan.Change.Aside = append(plan.Change.Aside, name)
		rows := phrase.Plural(int(differ.Now.Rows), "row")
		plan.note(name, false, "was created by the update: set aside under another name, with its %s", rows)
		return nil, nil
	case differ.Before.Kind != database.BaseTable:
		r.planOther(plan, differ)
		return nil, nil
	case differ.Fate == database.Dropped:
		r.replace(ctx, plan, name, "was dropped by the update: back")
		return nil, nil
	case differ.Fate == database.Altered && differ.Now.Kind != database.BaseTable:
		r.replace(ctx, plan, name, "was replaced by a "+string(differ.Now.Kind)+": back")
		return nil, nil
	case differ.Fate == database.Altered:
		return r.planAltered(ctx, plan, differ, moment)
	}
	if r.s.Site.CMS.Purpose(name) == cms.Volatile {
		plan.note(name, true, "its rows come and go by themselves (%d now, %d before): left as they are",
			differ.Now.Rows, differ.Before.Rows)
		return nil, nil
	}
	if len(differ.Before.Key) == 0 {
		return nil, r.planKeyless(ctx, plan, differ, moment)
	}
	return r.compare(ctx, differ, moment)
}

// replace has a table made anew as it was right before the swap, and says so.
func (r *Readings) replace(ctx context.Context, plan *Plan, name, was string) database.State {
	before, _ := r.beforeOf(ctx, name)
	plan.Change.Replace = append(plan.Change.Replace, database.Replacement(before))
	plan.note(name, false, "%s with %s", was, phrase.Plural(int(before.Table.Rows), "row"))
	return before
}

// planOther plans for what has no rows: views, sequences, programs and events.
func (r *Readings) planOther(plan *Plan, differ database.TableChange) {
	i := slices.IndexFunc(r.from.Tables, func(t snapshot.Table) bool { return t.Name == differ.Name })
	switched := differ.Now.Kind == database.Event && differ.Fate == database.Written
	if i < 0 || switched && slices.Contains(r.s.Disabled, differ.Name) {
		return
	}
	was := map[database.Fate]string{
		database.Dropped: "was dropped by the update: back", database.Altered: "was changed by the update: back as it was",
		database.Written: "was changed by the update: back to what it was",
	}[differ.Fate]
	if switched {
		was = "was switched by the update: back to what it was"
	}
	if differ.Now.Kind == database.Sequence && differ.Fate == database.Written {
		plan.note(differ.Name, true, "was counted on, and stays so: numbers that visitors may have seen are not given again")
		return
	}
	table := r.from.Tables[i]
	old := database.Replacement{Table: table.Table, Rows: snapshot.Rows(r.s.Store, table)}
	plan.Change.Replace = append(plan.Change.Replace, old)
	plan.note(differ.Name, false, "%s", was)
}

// compare compares the rows of a table; nil where they are as before.
func (r *Readings) compare(ctx context.Context, differ database.TableChange, moment database.Moment) (*written, error) {
	before, certain := r.beforeOf(ctx, differ.Name)
	if differ.Fate == database.Written && sameRows(before.Table, differ.Now) {
		return nil, nil
	}
	settled, there, known := r.settledOf(ctx, differ.Name)
	if known && !there { // as if all of its rows were gone
		settled = database.State{Table: before.Table, Rows: noRows}
	}
	w := r.known[differ.Name]
	if w == nil {
		w = &written{s: r.s}
		r.known[differ.Name] = w
	}
	w.table = sharedOf(before.Table, differ.Now)
	if known {
		cut := sharedOf(w.table, settled.Table)
		known = len(cut.Columns) == len(w.table.Columns) && slices.Equal(cut.Key, w.table.Key)
	}
	if len(w.table.Key) == 0 {
		return nil, errNoKey
	}
	w.before, w.now, w.settledKnown, w.unread = before, differ.Now, known, r.before != nil && !certain
	w.restyled = differ.Fate == database.Altered
	w.setUp(r)
	present := func(ctx context.Context, each func(database.Row) error) error {
		return moment.Rows(ctx, differ.Now, each)
	}
	of := database.RowComparison{
		Table: w.table, Before: cutRows(before.Table, w.table, before.Rows), Now: cutRows(differ.Now, w.table, present),
	}
	if w.rebuilt { // it stands since we made it: what differs came later
		w.settledKnown, w.restyled, w.first = true, false, newTally(len(w.table.Columns))
		w.doubles, w.twins, w.moved, w.groups, w.copied = nil, nil, nil, nil, nil
		w.aliases, w.aliasKeys, w.shapes, w.sameAtOnce, w.sameLater = nil, nil, nil, nil, nil
		of.Also = database.State{Table: w.table, Rows: of.Before}
	} else if known {
		of.Also = database.State{Table: w.table, Rows: cutRows(settled.Table, w.table, settled.Rows)}
	}
	w.compared = of
	if err := w.compareAs(ctx, of); err != nil {
		return nil, err
	}
	if err := r.findUsual(ctx, w); err != nil {
		return nil, err
	}
	return w, w.examine(ctx, of.Before)
}

func noRows(context.Context, func(database.Row) error) error { return nil }

// sameRows tells whether two states of a table have the same rows.
func sameRows(a, b database.Table) bool { return a.Digest == b.Digest && a.Rows == b.Rows }

// compareAs compares the rows, and gives up what an earlier comparison found: none is held that is not read any more.
func (w *written) compareAs(ctx context.Context, of database.RowComparison) error {
	rows, err := CompareRows(ctx, w.s, of)
	if err != nil {
		return err
	}
	earlier := w.rows
	w.rows = rows
	return endComparison(w.s, earlier)
}

// errNoKey says that rows of a table cannot be told apart.
var errNoKey = errors.New("its key changed")

// setUp notes what is known of a table without its rows.
func (w *written) setUp(r *Readings) {
	w.settings = r.s.Site.CMS.Purpose(w.table.Name) == cms.Settings
	if r.private { // whatever came later is the update's, too
		w.settledKnown = false
	}
	w.alone = r.every && (w.settledKnown || r.private) || slices.Contains(r.alone, w.table.Name) && w.settledKnown
	w.copied, w.total, w.stored = r.Copied, w.before.Table.Rows, storesAnew(r.s, w.table)
	w.key, w.rest, w.name, w.counted = nil, nil, -1, nil
	counted := r.s.Site.CMS.Counted(w.table.Name)
	for i, column := range w.table.Columns {
		if slices.Contains(counted, column.Name) {
			w.counted = append(w.counted, i)
		}
		if slices.Contains(w.table.Key, column.Name) {
			w.key = append(w.key, i)
		} else {
			w.rest = append(w.rest, i)
		}
		if w.name < 0 && (strings.Contains(column.Type, "char") || strings.Contains(column.Type, "text")) {
			w.name = i
		}
	}
}

// findUsual finds the changes that were made, one by one, between the snapshot and the swap: visitors make such ones.
func (r *Readings) findUsual(ctx context.Context, w *written) error {
	i := slices.IndexFunc(r.from.Tables, func(t snapshot.Table) bool { return t.Name == w.table.Name })
	if w.single != nil || r.before == nil || r.before.copies[w.table.Name] == nil {
		return nil // or it was as in the snapshot
	}
	if i < 0 || r.from.Tables[i].Shape() != w.before.Table.Shape() {
		return nil
	}
	w.single = map[string]int64{}
	earlier := r.from.Tables[i]
	rows, err := CompareRows(ctx, r.s, database.RowComparison{
		Table: w.table, Before: cutRows(earlier.Table, w.table, snapshot.Rows(r.s.Store, earlier)),
		Now: cutRows(w.before.Table, w.table, w.before.Rows),
	})
	if err != nil {
		return err
	}
	usual := newTally(len(w.table.Columns))
	err = rows.Each(ctx, func(change database.RowChange) error {
		if !w.isOwn(change) {
			usual.add(w.step(change.Before, change.Now))
		}
		return nil
	})
	usual.weigh(earlier.Rows, true)
	usual.singles(w.single)
	return errors.Join(err, endComparison(r.s, rows))
}

// storesAnew is what tells of rows of a table that a release of the CMS stored in a form of its own; nil: none does, or
// the CMS itself is not what is replaced.
func storesAnew(s *session.Session, table database.Table) func(before, now database.Row) bool {
	core, can := s.Site.CMS.(cms.Replaceable)
	if !can || !slices.ContainsFunc(s.Run.Components, func(t *runs.Target) bool { return t.Kind == cms.Core }) {
		return nil
	}
	return core.StoredAnew(table)
}

// counts are what becomes of a table's rows.
type counts struct {
	back                    int   // rows that are as before again
	added, changed, removed int64 // by visitors
	fresh                   int   // of those that they added: under a new key
	doubts, own             int
}

// count counts what becomes of the rows, and of aliases that no change shows.
func (w *written) count(ctx context.Context) (c counts, err error) {
	seen := map[string]bool{}
	err = w.rows.Each(ctx, func(change database.RowChange) error {
		if w.isOwn(change) {
			c.own++
			return nil
		}
		b, n := change.Before, change.Now
		if b != nil && len(w.aliases) > 0 {
			seen[w.keyOf(b)] = true
		}
		o := w.outcomeOf(change)
		if !sameRow(o.row, n) || o.fresh != nil {
			c.back++
		}
		if o.doubt {
			c.doubts++
			return nil
		}
		if o.fresh != nil {
			c.fresh++
			c.added++
		}
		switch kind, _ := w.step(b, o.row); {
		case !o.theirs || kind == "":
		case kind[0] == 'a':
			c.added++
		case kind[0] == 'r':
			c.removed++
		default:
			c.changed++
		}
		return nil
	})
	w.unseen = nil
	for _, key := range slices.Sorted(maps.Keys(w.aliases)) {
		if !seen[key] {
			w.unseen = append(w.unseen, key)
			c.changed++
		}
	}
	return c, err
}

func (w *written) outcomeOf(change database.RowChange) outcome {
	s := change.Also
	if !w.settledKnown {
		s = change.Now
	}
	o := w.outcome(change.Before, s, change.Now)
	if o.fresh != nil && w.tied {
		return outcome{row: o.fresh, old: o.row, theirs: true, doubt: true}
	}
	return o
}

// plan plans what becomes of the rows.
func (w *written) plan(ctx context.Context, plan *Plan) error {
	c, err := w.count(ctx)
	if err != nil {
		return err
	}
	name := w.table.Name
	if w.restyled {
		plan.restyled = append(plan.restyled, w)
	} else if c.back > 0 || len(w.unseen) > 0 {
		plan.Change.Patches = append(plan.Change.Patches, w.patch())
		plan.patched = append(plan.patched, w)
		if w.said == nil {
			rows := phrase.Plural(c.back+len(w.unseen), "row") + map[bool]string{true: " of settings"}[w.settings]
			w.said = &runs.TableNote{Table: name, What: fmt.Sprintf("%s as before again: %s", rows, w.how())}
		}
	}
	if text := rowWords(c.added, c.changed, c.removed); text != "" {
		whose := "visitors' writes, kept"
		if w.undecided > 0 {
			whose = fmt.Sprintf("kept; %d of them undecided, the others visitors' writes", w.undecided)
		}
		plan.note(name, true, "%s meanwhile: %s", text, whose)
	}
	if w.unread && !w.again {
		plan.notes = append(plan.notes, runs.TableNote{Table: name, Unsure: true,
			What: "how it was right before the swap could not be read any more:" +
				" what was written between the snapshot and then may be missing"})
	}
	if c.fresh > 0 {
		plan.note(name, false, "%s that visitors added %s under a new key: an old row has its own again",
			phrase.Plural(c.fresh, "row"), phrase.IsAre(c.fresh))
	}
	if c.own > 0 && w.settings {
		what := fmt.Sprintf("left alone: %s that the CMS rewrites by itself", phrase.Plural(c.own, "row"))
		plan.notes = append(plan.notes, runs.TableNote{Table: name, Left: true, Own: true, What: what})
	}
	if c.doubts > 0 && !w.again {
		doubt := Doubt{of: w, Table: w.table, Rows: c.doubts, each: w.eachDoubt}
		if w.restyled {
			doubt.Table, doubt.each = w.before.Table, w.eachWholeDoubt
		}
		plan.doubts = append(plan.doubts, doubt)
	}
	return err
}

// how says how it is known that the rows that go back are the update's.
func (w *written) how() string {
	var ways []string
	say := func(is bool, what string) {
		if is {
			ways = append(ways, what)
		}
	}
	say(w.alone, "nobody else could write")
	say(w.copied != nil, "the rehearsal did the same")
	say(w.first.bulkRemoved || w.then.bulkRemoved, "they were deleted in bulk")
	say(w.first.isRewritten() || w.then.isRewritten(), "they were rewritten in bulk")
	say(len(w.doubles) > 0 && !w.first.bulkRemoved, "they were doubled")
	say(len(w.moved) > 0, "they were moved here in bulk")
	say(len(w.groups) > 0, "all of a kind were rewritten or deleted")
	say(len(ways) == 0 && w.stored != nil, "stored in another release's form")
	say(len(ways) == 0 && w.settings, "settings that were written while the new version settled")
	if len(ways) == 0 {
		return "written while the new version settled"
	}
	return strings.Join(ways, ", ")
}

// patch puts the rows back that are not as they are to be.
func (w *written) patch() database.Patch {
	pick := func(choose func(o outcome, n database.Row) database.Row, alias func(one *alias) database.Row) database.Rows {
		return func(ctx context.Context, each func(database.Row) error) error {
			err := w.rows.Each(ctx, func(change database.RowChange) error {
				if w.isOwn(change) {
					return nil
				}
				if row := choose(w.outcomeOf(change), change.Now); row != nil {
					return each(row)
				}
				return nil
			})
			for _, key := range w.unseen {
				if err == nil && alias != nil {
					err = each(alias(w.aliases[key]))
				}
			}
			return err
		}
	}
	patch := database.Patch{Table: w.table, Strict: true}
	patch.Remove = pick(func(o outcome, n database.Row) database.Row {
		if sameRow(o.row, n) && o.fresh == nil {
			return nil
		}
		return n
	}, func(one *alias) database.Row { return one.before })
	patch.Put = pick(func(o outcome, n database.Row) database.Row {
		if sameRow(o.row, n) && o.fresh == nil {
			return nil
		}
		return o.row
	}, func(one *alias) database.Row { return w.withAlias(one.before) })
	if w.table.FreshKeys() {
		patch.Add = pick(func(o outcome, _ database.Row) database.Row { return o.fresh }, nil)
	}
	return patch
}

// PutBackTables brings the database back to how it was right before the swap, as far as the update changed it, and
// proves that nothing is left to do.
func PutBackTables(ctx context.Context, s *session.Session, r *Readings) error {
	if s.NoDatabase != nil {
		s.Report.End(progress.Doubt, "database", "not in Wetland's hands: nothing is put back there")
		return nil
	}
	if s.DB == nil {
		return nil
	}
	return s.Step("database", 0, "", func() (progress.Mark, string, error) {
		var first *Plan
		for n := 1; ; n++ {
			plan, err := r.PlanTables(ctx)
			if err != nil {
				return progress.Bad, "", err
			}
			if plan.Change.Empty() {
				return r.tellBack(ctx, first, plan)
			}
			if n > mostTries {
				return progress.Bad, "", fmt.Errorf("%s still differ from %s after they were put back", plan.tables(), r.from.Name)
			}
			if first == nil {
				first = plan
			}
			err = r.apply(ctx, plan)
			if errors.Is(err, database.ErrWritten) { // a visitor was faster
				if err = s.Clock.Wait(ctx, time.Duration(n)*triesApart); err != nil {
					return progress.Bad, "", err
				}
				continue
			}
			if err != nil {
				return progress.Bad, "", err
			}
		}
	})
}

// How often rows are put back that visitors write to meanwhile, and how much longer is waited each time.
const (
	mostTries  = 8
	triesApart = 50 * time.Millisecond
)

// tellBack tells what was put back; left is what is not as before, and why.
func (r *Readings) tellBack(ctx context.Context, first, left *Plan) (progress.Mark, string, error) {
	s, total := r.s, phrase.Plural(len(r.from.Tables), "table")
	s.Run.Note(left.notes...)
	if err := r.keepDoubts(ctx, left.doubts, nil); err != nil {
		return progress.Bad, "", err
	}
	mark, text := progress.Good, ""
	if len(r.doubts) > 0 {
		mark, text = progress.Doubt, "; not known whose they are, and left as they are: "+doubtWords(r.doubts)
	}
	if first == nil {
		return mark, fmt.Sprintf("%s as before the swap%s%s", total, LeftText(left.notes), text), nil
	}
	emptied, objects := caches.EmptyObjects(ctx, s, s.Site.CMS.Layout())
	if emptied != progress.Good {
		mark = emptied
	}
	return mark, fmt.Sprintf("%s put back, proved%s%s%s", first.tables(), LeftText(left.notes), text, objects), nil
}

// apply carries out a plan. It returns database.ErrWritten where visitors were faster with some rows.
func (r *Readings) apply(ctx context.Context, plan *Plan) (err error) {
	patches := plan.Change.Patches
	plan.Change.Patches = nil
	if err := ApplyTables(ctx, r.s, plan); err != nil {
		return err
	}
	for _, w := range plan.restyled {
		if err := r.keepDoubts(ctx, plan.doubts, w); err != nil {
			return err
		}
	}
	r.madeAnew(plan.Change.Replace)
	unfit, err := PutKept(ctx, r.s, plan.keep)
	r.s.Run.Note(unfit...)
	if err != nil {
		return err
	}
	for i, patch := range patches {
		w := plan.patched[i]
		if w.said.Saved == "" {
			saved := &Plan{Save: []database.Table{w.now}, notes: []runs.TableNote{*w.said}}
			if err := saveRows(ctx, r.s, saved); err != nil {
				return fmt.Errorf("save the current rows: %w", err)
			}
			*w.said = saved.notes[0]
		}
		applied, failed := r.s.DB.Apply(ctx, database.Change{Tag: plan.Change.Tag, Patches: []database.Patch{patch}})
		if failed == nil {
			failed = applied.Finish(ctx)
		}
		switch {
		case errors.Is(failed, database.ErrWritten):
			err = errors.Join(failed, w.notePut(ctx))
		case failed != nil:
			return failed
		default:
			if err := r.keepDoubts(ctx, plan.doubts, w); err != nil {
				return err
			}
			w.again = true
			r.s.Run.Note(*w.said)
		}
	}
	return err
}

// madeAnew notes the tables that were made anew: whatever differs in them from now on, others write.
func (r *Readings) madeAnew(all []database.Replacement) {
	for _, one := range all {
		w := r.known[one.Table.Name]
		if w == nil {
			w = &written{s: r.s}
			r.known[one.Table.Name] = w
		}
		w.again, w.rebuilt = true, true
	}
}

// tables names those that the plan changes.
func (p *Plan) tables() string {
	var names []string
	for _, one := range p.Change.Replace {
		names = append(names, one.Table.Name)
	}
	names = append(names, p.Change.Aside...)
	for _, w := range p.patched {
		names = append(names, w.table.Name)
	}
	slices.Sort(names)
	return phrase.List(slices.Compact(names), 3)
}

// ApplyTables saves the present rows of what will be put back, then carries out the plan.
func ApplyTables(ctx context.Context, s *session.Session, plan *Plan) error {
	err := saveRows(ctx, s, plan)
	var done []runs.TableNote
	for _, note := range plan.notes {
		if !note.Left { // what stays is told once all else is back
			done = append(done, note)
		}
	}
	s.Run.Note(done...)
	if err != nil {
		return fmt.Errorf("save the current rows: %w", err)
	}
	if plan.Change.Empty() {
		return nil
	}
	applied, err := s.DB.Apply(ctx, plan.Change)
	if err != nil {
		return err
	}
	for _, w := range plan.restyled {
		if err := w.readLate(ctx, applied); err != nil {
			return err
		}
		if plan.keep[w.table.Name], err = w.keepOver(ctx); err != nil {
			return err
		}
	}
	err = applied.Finish(ctx)
	s.Run.Note(NoteDefiners(s, applied)...)
	return err
}

// readLate takes for the present rows of a table that is made anew those that it had at the very end: visitors wrote on
// while it was made.
func (w *written) readLate(ctx context.Context, applied database.Applied) error {
	of := w.compared
	of.Now = cutRows(w.now, w.table, func(ctx context.Context, each func(database.Row) error) error {
		return applied.Replaced(ctx, w.now, each)
	})
	err := w.compareAs(ctx, of)
	if errors.Is(err, errors.ErrUnsupported) {
		return nil // they are those that were read
	}
	return err
}
