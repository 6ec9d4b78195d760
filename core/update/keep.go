package update

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"wetland/core/deploy"
	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/snapshot"
)

// keepGroup proves the new trees and removes the old ones, which by then are in the
// snapshot and on the shelf.
func (m *motion) keepGroup(ctx context.Context, judgement *smoke.Judgement) error {
	ctx = context.WithoutCancel(ctx) // the new versions are proved: finishing is the safest
	err := m.Step("kept", 0, "", func() (progress.Mark, string, error) {
		count, details := 0, []string(nil)
		for _, c := range m.group {
			present, err := deploy.Present(ctx, m.Session, c)
			if err != nil {
				return progress.Bad, "", err
			}
			if differ := files.Exact.Compare(c.NewTree, present); len(differ) > 0 {
				return progress.Bad, "", fmt.Errorf("%s is not what the package holds any more: %d paths differ, the first is %s"+
					" (%s)", c.Live, len(differ), differ[0].Path, differ[0].What)
			}
			n, _ := c.NewTree.Total()
			count += n
			if !m.options.Trial {
				details = append(details, deploy.Shelve(ctx, m.Session, c, m.manifest))
			}
			c.Target.Fate, c.Target.Because = runs.FateKept, nil
		}
		words := phrase.Plural(count, "file") + " equal to the package"
		if len(details) > 0 {
			words += "; " + phrase.List(details, 2)
		}
		return progress.Good, words, nil
	})
	if err != nil {
		return err
	}
	if m.Settled == nil {
		if err := m.takeSettled(ctx); err != nil {
			m.Report.End(progress.Note, "after", fmt.Sprintf("the state after the update was not kept: %v. A later restore"+
				" takes all that changed since for visitors' writes", err))
		}
	}
	if m.Settled != nil {
		m.Run.Settled = append(m.Run.Settled, m.Settled.Name)
	}
	m.exposed = time.Time{}
	m.kept = append(m.kept, m.group...)
	if judgement.Verdict != smoke.Sound {
		m.doubts = true
		// Accepted: the next step is compared with it.
		m.baseline = m.seen
		if err := m.baseline.Save(filepath.Join(m.Run.Folder, runs.AcceptedPagesFile)); err != nil {
			return err
		}
	} else if !m.doubts && !m.options.Trial {
		m.unrecorded = m.recordPages(ctx)
	}
	if len(m.kept) < len(m.changes) { // else all is cleared away at once
		for _, c := range m.group {
			if err := m.Site.Files.RemoveAll(ctx, c.Staged); err != nil {
				return fmt.Errorf("clear %s: %w", c.Staged, err)
			}
		}
	}
	return m.Journal.Write(runs.GroupKept{Group: deploy.Folders(m.group)})
}

// takeMigrated keeps the state after the update had settled, if it changed the structure
// of a table: without it nobody could tell what visitors wrote there meanwhile.
func (m *motion) takeMigrated(ctx context.Context) error {
	if m.Settled != nil || !m.readings.Restyled() {
		return nil
	}
	return m.takeSettled(ctx)
}

// takeSettled keeps the state after the update, so that a later restore can tell what
// the update changed from what visitors wrote since. What did not change costs nothing.
func (m *motion) takeSettled(ctx context.Context) error {
	components, err := m.shown, error(nil)
	if components == nil {
		components, err = m.Site.CMS.Components(ctx, m.DB)
	}
	if err != nil {
		return err
	}
	m.Settled, err = m.TakeAs(ctx, "after", snapshot.Subject{Reason: "after " + deploy.Titles(m.group),
		Settles: m.manifest.Name, Components: components, Brought: brought(m.group)})
	return err
}

// brought are the trees that the group brought to the site.
func brought(group []*deploy.Change) (all []snapshot.Brought) {
	for _, c := range group {
		if c.Pkg == nil {
			continue
		}
		all = append(all, snapshot.Brought{Place: c.Live, Tree: c.NewTree, Source: c.Pkg.Source})
	}
	return all
}

// recordPages makes what the pages show today what they are compared with later. They are
// fetched once more, so that what changes by itself is known.
func (m *motion) recordPages(ctx context.Context) error {
	again, err := m.Fetcher.Glance(ctx, m.Pages)
	if err != nil {
		return err
	}
	recorded := judging.Steady(m.Rules, m.seen, again)
	recorded.Moving = append(recorded.Moving, m.baseline.Moving...)
	return recorded.Save(m.Site.Workspace.Baseline())
}
