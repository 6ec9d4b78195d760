package tables

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/snapshot"
)

// NoteEnd replaces what each going back did with the tables by how they stand at the end. It
// is for runs that went back several times, or kept a part: there the single steps add up to
// nothing that anybody wants to know.
func NoteEnd(ctx context.Context, s *session.Session, keptSome bool) error {
	if s.DB == nil || len(s.Run.Database) == 0 || len(s.Run.Probes) == 0 && !keptSome {
		return nil
	}
	from, err := snapshot.Load(ctx, s.Store, s.Run.Snapshot)
	if err != nil {
		return err
	}
	moment, err := s.DB.Read(ctx)
	if err != nil {
		return fmt.Errorf("read the database: %w", err)
	}
	now, err := database.Survey(ctx, moment, nil)
	if err = errors.Join(err, moment.Close()); err != nil {
		return err
	}
	s.Run.Database = endNotes(s.Run.Database, from, now, keptSome)
	return nil
}

// endNotes says how each table stands that was noted, or that differs from the snapshot.
func endNotes(notes []runs.TableNote, from *snapshot.Manifest, now []database.Table, kept bool) []runs.TableNote {
	before := from.Described()
	end := map[string]runs.TableNote{}
	for _, differ := range database.CompareTables(before, now) {
		end[differ.Name] = runs.TableNote{Table: differ.Name, Left: true, What: endWords(differ, from.Name, kept)}
	}
	var others []runs.TableNote
	for _, note := range notes {
		named := func(t database.Table) bool { return t.Name == note.Table }
		aside := !slices.ContainsFunc(before, named) && !slices.ContainsFunc(now, named)
		if note.Unsure || aside {
			others = append(others, note)
			continue
		}
		ended, ok := end[note.Table]
		if !ok {
			ended = runs.TableNote{Table: note.Table, What: "as in " + from.Name}
		}
		ended.Saved = savedWith(ended.Saved, note.Saved)
		end[note.Table] = ended
	}
	all := append(slices.Collect(maps.Values(end)), others...)
	slices.SortStableFunc(all, func(a, b runs.TableNote) int { return strings.Compare(a.Table, b.Table) })
	return all
}

// savedWith is where what was saved several times lies: the file, or the folder of all.
func savedWith(first, second string) string {
	switch {
	case first == "":
		return second
	case second == "" || first == second || first == filepath.Dir(second):
		return first
	}
	return filepath.Dir(second)
}

func endWords(differ database.TableChange, from string, kept bool) string {
	writers := "visitors or the CMS"
	if kept {
		writers = "what was kept, visitors or the CMS"
	}
	rows := phrase.Plural(int(differ.Now.Rows), "row")
	switch differ.Fate {
	case database.Created:
		return fmt.Sprintf("new since %s, with %s", from, rows)
	case database.Dropped:
		return "gone since " + from
	case database.Altered:
		return fmt.Sprintf("structure changed since %s; %s now", from, rows)
	}
	if differ.Now.Kind == database.Event {
		return "is switched otherwise than in " + from
	}
	if differ.Before.Rows == differ.Now.Rows {
		return fmt.Sprintf("some of its %s changed since %s, by %s", rows, from, writers)
	}
	return fmt.Sprintf("%s now, %d in %s: written by %s", rows, differ.Before.Rows, from, writers)
}
