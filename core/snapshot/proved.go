package snapshot

import (
	"context"
	"fmt"
	"path"
	"slices"
	"time"

	"wetland/core/files"
	"wetland/core/packs"
	"wetland/core/phrase"
	"wetland/core/progress"
)

// listsOf are the pieces that list what else a snapshot needs.
func (m *Manifest) listsOf() (ids []packs.ID) {
	for _, area := range m.Areas {
		ids = append(ids, area.Lists...)
	}
	for _, table := range m.Tables {
		ids = append(ids, table.Lists...)
	}
	return ids
}

// contentsOf are the pieces of all rows, and of the files that are wanted.
func (m *Manifest) contentsOf(
	ctx context.Context, s *packs.Store, wanted func(name string) bool,
) (ids []packs.ID, err error) {
	for _, area := range m.Areas {
		for _, item := range area.Items {
			if item.Kind == files.File && wanted(path.Join(area.Path, item.Path)) {
				ids = append(ids, item.Pieces...)
			}
		}
	}
	for _, table := range m.Tables {
		if err := rowPieces(ctx, s, table, func(id packs.ID) error { ids = append(ids, id); return nil }); err != nil {
			return nil, fmt.Errorf("the table %s: %w", table.Name, err)
		}
	}
	return ids, nil
}

func anyFile(string) bool { return true }

// ProveNeeded reads back what going back to a snapshot would need: its lists, the rows of its tables, and the files in
// some places. What this process read or wrote already is not read again. It returns how many pieces are not to be had:
// the next snapshot stores them anew, as far as the site has them.
func ProveNeeded(
	ctx context.Context, s *packs.Store, m *Manifest, places []string, report progress.Reporter,
) (missing int, err error) {
	if missing, err = s.Prove(ctx, m.listsOf(), report); err != nil || missing > 0 {
		return missing, err
	}
	within := func(name string) bool {
		return slices.ContainsFunc(places, func(place string) bool { return files.Within(name, place) })
	}
	ids, err := m.contentsOf(ctx, s, within)
	if err != nil {
		return 0, err
	}
	return s.Prove(ctx, ids, report)
}

// ProvedOn is the day since which each byte that a snapshot needs was read back; zero: it is not known of all. An error
// says that some is not to be had, as far as the store knows without reading.
func ProvedOn(ctx context.Context, s *packs.Store, m *Manifest) (time.Time, error) {
	lists := m.listsOf()
	on, missing := s.ProvedOn(lists)
	if missing == 0 {
		contents, err := m.contentsOf(ctx, s, anyFile)
		if err != nil {
			return time.Time{}, err
		}
		on, missing = s.ProvedOn(append(contents, lists...))
	}
	if missing > 0 {
		return time.Time{}, fmt.Errorf("%s of it cannot be read back as written: verify it to see what is still whole",
			phrase.Plural(missing, "piece"))
	}
	return on, nil
}
