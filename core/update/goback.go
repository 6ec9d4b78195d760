package update

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/progress"
	"wetland/core/smoke"
	"wetland/core/snapshot"
)

// areaOf finds the area of the snapshot that the absolute path is in.
func areaOf(manifest *snapshot.Manifest, at string) (snapshot.Area, string, error) {
	best := -1
	for i, area := range manifest.Areas {
		if area.Only == "" && strings.HasPrefix(at, area.Path+"/") && (best < 0 || len(area.Path) > len(manifest.Areas[best].Path)) {
			best = i
		}
	}
	if best < 0 {
		return snapshot.Area{}, "", fmt.Errorf("%s is in no part of the site that %s holds", at, manifest.Name)
	}
	area := manifest.Areas[best]
	return area, strings.TrimPrefix(at, area.Path+"/"), nil
}

// goBack puts back what was before the update, and proves it. It goes by what it
// finds, not by what was done. next is what to do once all is back.
func (m *motion) goBack(reason string, next ...string) (*Run, error) {
	ctx := m.Abandon
	// A journal that cannot be written, on a full disk say, must not keep the old
	// version from coming back: recover goes by what it finds.
	logged := m.log.Write(stepBack, map[string]string{"reason": reason})
	if err := m.returnTree(ctx); err != nil {
		return m.needsPerson(err)
	}
	if !m.exposed.IsZero() {
		m.run.Exposed = time.Since(m.exposed)
	}
	if err := m.putBackTables(ctx, m.manifest); err != nil {
		return m.needsPerson(err)
	}
	if err := m.settleQuietly(ctx); err != nil {
		return m.needsPerson(err)
	}
	judgement, err := m.look(ctx, pagesAgain, m.baseline)
	if err != nil {
		return m.needsPerson(err)
	}
	if judgement.Verdict != smoke.Sound {
		return m.needsPerson(fmt.Errorf("files and database are back, but %s not as before: %s", list(judgement.Failing(), 3), firstFinding(judgement)))
	}
	// The pages' visits may have let the CMS write once more.
	if err := m.proveTables(ctx); err != nil {
		return m.needsPerson(err)
	}
	if err := errors.Join(m.closeStaging(ctx), m.sweepTables(ctx, m.manifest)); err != nil {
		return m.needsPerson(err)
	}
	shown := ""
	if m.run.Exposed > 0 {
		shown = fmt.Sprintf(" Visitors could meet the new one for %s.", m.run.Exposed.Round(100*time.Millisecond))
	}
	back := fmt.Sprintf("Version %s is back", versionText(m.target.From))
	if m.target.New {
		back = "It is gone again"
	}
	run, err := m.end(PutBack, fmt.Sprintf("%s. %s, and proved: files, tables and pages are as before.%s", capital(reason), back, shown), next...)
	return run, errors.Join(logged, err)
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func firstFinding(j *smoke.Judgement) string {
	for _, page := range j.Pages {
		for _, finding := range page.Findings {
			if !finding.Known {
				return finding.What
			}
		}
	}
	return "no finding"
}

// returnTree makes the live folder equal to the snapshot again: by swapping back
// the old tree where it waits, else from the snapshot's own bytes.
func (m *motion) returnTree(ctx context.Context) error {
	if m.target.New {
		return m.takeAway(ctx)
	}
	return m.step("put back", 0, "", func() (progress.Mark, string, error) {
		count, _ := m.oldTree.Total()
		proved := fmt.Sprintf("%s of version %s equal to %s", plural(count, "file"), versionText(m.target.From), m.manifest.Name)
		if m.holds(ctx, m.live, m.oldTree) {
			return goodMark, proved, nil
		}
		from, err := m.findOld(ctx)
		if err != nil {
			return badMark, "", err
		}
		done, err := files.Swap(m.site.Place, m.live, from, true)
		if err != nil {
			return badMark, "", err
		}
		if !m.holds(ctx, m.live, m.oldTree) {
			return badMark, "", fmt.Errorf("%s is not as in %s after it was put back", m.live, m.manifest.Name)
		}
		return goodMark, proved + ", " + swapText(done), nil
	})
}

// takeAway takes a component away that was not installed before.
func (m *motion) takeAway(ctx context.Context) error {
	return m.step("put back", 0, "", func() (progress.Mark, string, error) {
		if m.untouched(ctx) {
			return goodMark, m.target.Folder + " is not installed, as before", nil
		}
		place, err := m.openStaging(m.live, true)
		if err != nil {
			return badMark, "", err
		}
		if err := m.site.Place.Rename(m.live, path.Join(place.folder, m.run.Name+"-taken-away")); err != nil {
			return badMark, "", err
		}
		return goodMark, m.target.Folder + " is taken away again", m.site.Place.SyncFolder(path.Dir(m.live))
	})
}

// findOld returns where the old tree waits, making it from the snapshot if it is
// nowhere whole.
func (m *motion) findOld(ctx context.Context) (string, error) {
	for _, folder := range m.stagingFolders() {
		entries, err := m.site.Place.List(folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		for _, entry := range entries {
			if at := path.Join(folder, entry.Name); m.holds(ctx, at, m.oldTree) {
				return at, nil
			}
		}
	}
	return m.stageFromSnapshot(ctx)
}

func (m *motion) stageFromSnapshot(ctx context.Context) (string, error) {
	place, err := m.openStaging(m.live, true)
	if err != nil {
		return "", err
	}
	area, below, err := areaOf(m.manifest, m.live)
	if err != nil {
		return "", err
	}
	staged := path.Join(place.folder, m.run.Name+"-old-"+path.Base(m.live))
	if err := files.RemoveAll(ctx, m.site.Place, staged); err != nil {
		return "", err
	}
	return staged, files.WriteTree(ctx, m.site.Place, staged, m.oldTree, m.store.Source(itemsBelow(area.Items, below)), nil)
}

// itemsBelow returns the items at folder with their paths relative to it.
func itemsBelow(items []snapshot.Item, folder string) []snapshot.Item {
	var part []snapshot.Item
	for _, item := range items {
		if rel, ok := strings.CutPrefix(item.Path, folder+"/"); ok {
			item.Path = rel
			part = append(part, item)
		}
	}
	return part
}

func (m *motion) holds(ctx context.Context, at string, tree files.Tree) bool {
	present, err := files.ReadTree(ctx, m.site.Place, at, nil)
	return err == nil && len(files.Exact.Compare(tree, present)) == 0
}

// settleQuietly settles without letting the CMS run upgrades: old code is in place.
func (s *session) settleQuietly(ctx context.Context) error {
	return s.step("settling", 0, "", func() (progress.Mark, string, error) {
		if err := s.Clock.Wait(ctx, s.site.SettleTime()); err != nil {
			return badMark, "", err
		}
		purged, err := s.purge(ctx)
		if err != nil {
			return doubtMark, fmt.Sprintf("the page cache could not be emptied: %v", err), nil
		}
		return goodMark, fmt.Sprintf("page cache emptied (%s)", plural(purged, "file")), nil
	})
}

// proveTables makes sure that nothing of the update is left in the database. What
// came in again while the pages were looked at is put back once more.
func (m *motion) proveTables(ctx context.Context) error {
	plan, err := m.planTables(ctx, m.manifest)
	if err != nil {
		return err
	}
	if plan.change.Empty() {
		return nil
	}
	return m.putBackTables(ctx, m.manifest)
}

// needsPerson ends a run whose outcome is not proved, with the steps by hand.
func (m *motion) needsPerson(cause error) (*Run, error) {
	if m.Abandon.Err() != nil {
		// The record stays under way, so that recover takes it up.
		m.run.Reason = "Interrupted while going back."
		return m.run, errors.Join(ErrAbandoned, m.run.save())
	}
	run, err := m.end(NeedsPerson, "The site is not in a proved state: "+cause.Error(), m.byHand()...)
	return run, errors.Join(cause, err)
}

// ErrAbandoned says that a person stopped even the going back.
var ErrAbandoned = errors.New("stopped while going back: run wetland recover to settle the site")

// byHand gives the exact steps for going back without Wetland's help.
func (m *motion) byHand() []string {
	var steps []string
	if m.manifest != nil {
		steps = append(steps, "wetland restore "+m.manifest.Name+"    puts files and database back as they were before")
	}
	if m.staged == "" {
		return steps
	}
	return append(steps,
		"Or by hand, the files alone: the version before is whole in one of these two folders; look at the version in each, and move the old one to the second path:",
		"  "+m.staged, "  "+m.live)
}
