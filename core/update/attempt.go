package update

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"wetland/core/caches"
	"wetland/core/deploy"
	"wetland/core/durable"
	"wetland/core/edits"
	"wetland/core/files"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/site"
	"wetland/core/smoke"
	"wetland/core/tables"
)

// attemptName tells the files of several attempts apart.
func attemptName(file string, attempt int) string {
	if attempt <= 1 {
		return file
	}
	ext := filepath.Ext(file)
	return fmt.Sprintf("%s-%d%s", strings.TrimSuffix(file, ext), attempt, ext)
}

// keepEvidence keeps in the run how everything was before.
func (m *motion) keepEvidence(ctx context.Context) error {
	if err := m.keepPictures(); err != nil {
		return err
	}
	if err := m.baseline.Save(filepath.Join(m.Run.Folder, runs.BaselineFile)); err != nil {
		return err
	}
	for _, c := range m.changes {
		if err := m.savePatch(ctx, c); err != nil {
			return err
		}
	}
	return nil
}

// try snapshots, stages, swaps and judges a group. ended tells that the run is over
// already, with its error: it could not be judged, and is put back.
func (m *motion) try(ctx context.Context, group []*deploy.Change) (judgement *smoke.Judgement, ended bool, err error) {
	m.group = group
	m.attempts++
	if err := m.untilSwap(ctx); err != nil {
		_, err = m.stop(ctx, err)
		return nil, true, err
	}
	judgement, err = m.judge(ctx)
	if err != nil {
		_, err = m.goBack(m.whyNotJudged(ctx, err), m.nextTry())
		return nil, true, err
	}
	if m.options.Trial && m.options.Rehearsed != nil {
		if err := m.options.Rehearsed.Watch(ctx, m.Session, m.manifest); err != nil {
			m.Report.End(progress.Note, "rows", fmt.Sprintf("what became of them on the copy is not known: %v", err))
		}
	}
	return judgement, false, nil
}

// untilSwap does everything up to and including the swap. After an error the site
// is as it was, or stop makes it so.
func (m *motion) untilSwap(ctx context.Context) error {
	m.Settled, m.shown = nil, nil
	began := time.Now()
	manifest, err := m.TakeSnapshot(ctx, "before "+deploy.Titles(m.group), deploy.Places(m.group))
	if err != nil {
		return err // an earlier group's snapshot stays the one to go back to
	}
	m.manifest = manifest
	if err := m.closeReadings(); err != nil {
		return err
	}
	m.readings = tables.NewReadings(m.Session, manifest, began)
	m.readings.Copied = m.options.Rehearsed
	if m.options.Trial {
		m.readings.Copied = nil
		m.readings.NobodyElseIsThere()
	}
	if err := m.Journal.Write(runs.GroupChosen{Group: deploy.Folders(m.group)}); err != nil {
		return err
	}
	if err := m.readOldTrees(); err != nil {
		return err
	}
	if err := deploy.StageAll(ctx, m.Session, m.group, m.options.AllowGap); err != nil {
		return err
	}
	if err := pagecheck.MarkLogs(ctx, m.Session); err != nil {
		return err
	}
	if err := deploy.PutUpNotice(ctx, m.Session); err != nil {
		return errors.Join(err, deploy.TakeDownNotice(context.WithoutCancel(ctx), m.Session))
	}
	return m.swap(ctx)
}

// keepPictures moves the pictures of the baseline into the run.
func (m *motion) keepPictures() error {
	from, to := m.Fetcher.Pictures, filepath.Join(m.Run.Folder, runs.PicturesFolder, "before")
	if _, err := os.Stat(from); err != nil {
		return nil // no browser looked
	}
	if err := os.CopyFS(to, os.DirFS(from)); err != nil {
		return fmt.Errorf("keep the pictures: %w", err)
	}
	for i := range m.baseline.Pages {
		for width, sight := range m.baseline.Pages[i].Sights {
			for _, picture := range []*string{&sight.Picture, &sight.Again} {
				if *picture != "" {
					*picture = filepath.Join(to, filepath.Base(*picture))
				}
			}
			m.baseline.Pages[i].Sights[width] = sight
		}
	}
	return nil
}

// savePatch keeps what was edited by hand as a patch in the run, before it is
// overwritten.
func (m *motion) savePatch(ctx context.Context, c *deploy.Change) error {
	installed, _ := site.Component(m.Components, c.Target.Kind, c.Target.Folder)
	shelf, err := m.Shelf().List()
	if err != nil {
		return err
	}
	patch, err := edits.EditsPatch(ctx, m.Site, installed, shelf)
	if errors.Is(err, edits.ErrNoOriginal) || (err == nil && patch == "") {
		return nil
	}
	if err != nil {
		return fmt.Errorf("save what was edited by hand: %w", err)
	}
	return durable.WriteFile(filepath.Join(m.Run.Folder, runs.PatchFile(c.Target)), []byte(patch))
}

// readOldTrees takes the trees that are to be replaced from the snapshot. Of a new
// component there is none.
func (m *motion) readOldTrees() error {
	for _, c := range m.group {
		if c.Target.New {
			continue
		}
		var err error
		if c.OldTree, err = c.TreeIn(m.manifest); err != nil {
			return err
		}
	}
	return nil
}

// checkUnchanged makes sure that what is to be replaced is what the snapshot has.
func (m *motion) checkUnchanged(ctx context.Context) error {
	for _, c := range m.group {
		present, err := deploy.Present(ctx, m.Session, c)
		if err != nil {
			return err
		}
		if differ := files.Exact.Compare(c.OldTree, present); len(differ) > 0 {
			return fmt.Errorf("somebody changed %s since the snapshot (%s: %s). Try again when nobody works on it", c.Live, differ[0].Path, differ[0].What)
		}
	}
	return ctx.Err()
}

// swap puts the group in place, one right after the other.
func (m *motion) swap(ctx context.Context) error {
	if core := m.core(); core != nil {
		return m.swapCore(ctx, core)
	}
	return m.Step("swap", 0, "", func() (progress.Mark, string, error) {
		if err := m.checkUnchanged(ctx); err != nil {
			return progress.Bad, "", err
		}
		if err := deploy.BorrowTimes(ctx, m.Session, m.group); err != nil {
			return progress.Bad, "", err
		}
		if err := m.readings.OpenBefore(ctx); err != nil {
			return progress.Bad, "", err
		}
		if err := m.Journal.Write(runs.Swapping{}); err != nil {
			return progress.Bad, "", err
		}
		var words []string
		for _, c := range m.group {
			if m.exposed.IsZero() && !m.options.Trial {
				m.exposed = time.Now()
			}
			done, err := c.Put(ctx, m.Session, m.options.AllowGap)
			if err != nil {
				return progress.Bad, "", err
			}
			if text := c.PutText(done); !slices.Contains(words, text) {
				words = append(words, text)
			}
		}
		return progress.Good, strings.Join(words, "; "), m.Journal.Write(runs.Swapped{})
	})
}

// judge looks at the pages with the new versions in place.
func (m *motion) judge(ctx context.Context) (*smoke.Judgement, error) {
	m.looked = attemptName(runs.AfterFile, m.attempts)
	judgement, fetched, err := m.judgeFirst(ctx)
	if err != nil {
		return nil, err
	}
	if judgement == nil {
		judgement, err = m.judgeWhole(ctx, fetched)
	} else {
		err = pagecheck.ReadLogs(ctx, m.Session, judgement, deploy.TargetsOf(m.group))
	}
	if err != nil {
		return nil, err
	}
	return judgement, m.Journal.Write(runs.Judged{Verdict: judgement.Verdict})
}

// judgeWhole looks with all that there is. fetched are the pages where they were fetched just
// now; nil: they were not.
func (m *motion) judgeWhole(ctx context.Context, fetched *smoke.Take) (*smoke.Judgement, error) {
	if err := m.readings.OpenSettled(ctx, false); err != nil {
		return nil, err
	}
	if err := m.takeMigrated(ctx); err != nil {
		return nil, err
	}
	look := func(fetched *smoke.Take) (judgement *smoke.Judgement, err error) {
		m.seen, judgement, err = pagecheck.Look(ctx, m.Session, "pages after", m.looked, m.baseline, fetched, m.judgeNew)
		return judgement, err
	}
	judgement, err := look(fetched)
	if err == nil && judgement.Verdict == smoke.Sound {
		var still bool
		if still, err = pagecheck.StillSound(ctx, m.Session, m.judgeNew); err == nil && !still {
			judgement, err = look(nil)
		}
	}
	if err != nil {
		return nil, err
	}
	var listed error
	var apart sync.WaitGroup
	apart.Go(func() { m.shown, listed = m.Site.CMS.Components(ctx, m.DB) })
	defer apart.Wait()
	if err := pagecheck.ReadLogs(ctx, m.Session, judgement, deploy.TargetsOf(m.group)); err != nil {
		return nil, err
	}
	if err := m.findEvidence(ctx, judgement); err != nil {
		return nil, err
	}
	if err := pagecheck.JudgeVitals(ctx, m.Session, m.vitals, judgement); err != nil {
		return nil, err
	}
	apart.Wait()
	m.checkActive(listed, judgement)
	pagecheck.Weigh(m.Session, judgement) // with what was found besides the pages
	return judgement, nil
}

// findEvidence looks for proof that the new files are what the address serves.
func (m *motion) findEvidence(ctx context.Context, judgement *smoke.Judgement) error {
	return m.Step("evidence", 0, "", func() (progress.Mark, string, error) {
		var proofs []string
		for _, c := range m.group {
			finding, words := pagecheck.Evidence(ctx, m.Session, c.Target, c.OldTree, c.NewTree)
			if finding != nil {
				judgement.Add(*finding)
				return progress.Doubt, finding.What, nil
			}
			if words != "" {
				proofs = append(proofs, words)
			}
		}
		if len(proofs) == 0 {
			return progress.Note, "this update changes only " + m.unseenFiles() + "; the pages alone can tell", nil
		}
		return progress.Good, phrase.List(proofs, 2), nil
	})
}

// unseenFiles names the files that a group changes and browsers do not fetch.
func (m *motion) unseenFiles() string {
	for _, c := range m.group {
		folders := slices.Concat(c.OldTree, c.NewTree).Folders()
		for _, differ := range files.Content.Compare(c.OldTree, c.NewTree) {
			if path.Ext(differ.Path) != ".php" && !folders[differ.Path] {
				return "files that browsers do not fetch"
			}
		}
	}
	return "PHP files"
}

// checkActive adds what the CMS has to say of the group; listed is why it could not be asked.
func (m *motion) checkActive(listed error, judgement *smoke.Judgement) {
	finding := smoke.Finding{Page: "(the CMS)", Check: "active", Verdict: smoke.Broken}
	if listed != nil {
		m.shown = nil
		finding.What = fmt.Sprintf("the CMS cannot be asked what is active: %v", listed)
		judgement.Add(finding)
		return
	}
	for _, c := range m.group {
		if finding.What = deploy.StillActive(m.Session, c, m.shown); finding.What != "" {
			finding.Evidence = c.Places()[0]
			if len(c.Target.Parts) == 0 {
				finding.Evidence += "/"
			}
			judgement.Add(finding)
		}
	}
}

// settle waits until old compiled code has gone, lets the CMS run its upgrades unless they
// were visited already, and empties its caches.
func (m *motion) settle(ctx context.Context, visited bool) error {
	return m.Step("settling", 0, "", func() (progress.Mark, string, error) {
		wait := m.Site.SettleTime()
		if err := deploy.WaitSettled(ctx, m.Session, m.exposed); err != nil {
			return progress.Bad, "", err
		}
		upgrades := "upgrades visited"
		if !visited {
			began := time.Now()
			deploy.VisitUpgrades(ctx, m.Session)
			m.Run.Upgrades += time.Since(began)
			upgrades += " in " + phrase.Live(time.Since(began))
		}
		purged, err := caches.Purge(ctx, m.Session)
		if err != nil {
			return progress.Doubt, fmt.Sprintf("the caches could not be cleared: %v", err), nil
		}
		if wait > 0 {
			return progress.Good, fmt.Sprintf("waited %s for compiled code, %s, caches cleared (%s)", wait, upgrades, purged), nil
		}
		return progress.Good, fmt.Sprintf("%s, caches cleared (%s)", upgrades, purged), nil
	})
}
