package update

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/progress"
	"wetland/core/smoke"
)

// secondLook is the wait before pages that failed are fetched again: a cache may
// still have answered with a mixture. Pages that were sound are glanced at again after
// it, for what the first visits set off may have come to its end.
const secondLook = time.Second

// glancedAt is how many pages that is; the first ones are the front page and the sign-in.
const glancedAt = 3

// purge empties the CMS's caches: those of pages, and what it remembers of its themes and
// plugins. It returns how many files and rows went, in words. What stays is told at the end of
// the run, unless a later call clears it.
func (s *session) purge(ctx context.Context) (string, error) {
	count, err := s.purgePages(ctx)
	gone, rows := plural(count, "file"), 0
	if s.db != nil {
		var stays error
		rows, stays = s.site.CMS.ForgetCaches(ctx, s.db)
		err = errors.Join(err, stays)
	}
	if rows > 0 {
		gone += " and " + plural(rows, "row")
	}
	s.unpurged = errors.Join(err, s.purgeElsewhere(ctx)) // one cache that stays is no reason to leave the others
	return gone, s.unpurged
}

func (s *session) purgePages(ctx context.Context) (int, error) {
	purged := 0
	for _, folder := range s.site.CMS.Layout().Caches {
		if entry, err := s.site.Files.Lstat(ctx, folder); err == nil && entry.Kind == files.Link && len(s.site.Workspace.Config.Caches.Commands) > 0 {
			continue // what a link leads to is no folder of the site: the owner's command clears it
		}
		gone, err := files.Clear(ctx, s.site.Files, folder)
		purged += gone
		if err != nil {
			return purged, err
		}
	}
	return purged, nil
}

// visitUpgrades lets the CMS run its upgrades. What the visits answer is judged with the
// pages; here they only have to happen.
func (s *session) visitUpgrades(ctx context.Context) {
	for _, visit := range s.site.CMS.UpgradeVisits() {
		_, _, _ = s.fetcher.Fetch(ctx, visit)
	}
}

// settle waits until old compiled code has gone, lets the CMS run its upgrades unless they
// were visited already, and empties its caches.
func (m *motion) settle(ctx context.Context, visited bool) error {
	return m.step("settling", 0, "", func() (progress.Mark, string, error) {
		wait := m.site.SettleTime()
		if err := m.waitSettled(ctx, m.exposed); err != nil {
			return progress.Bad, "", err
		}
		if !visited {
			m.visitUpgrades(ctx)
		}
		purged, err := m.purge(ctx)
		if err != nil {
			return progress.Doubt, fmt.Sprintf("the caches could not be cleared: %v", err), nil
		}
		if wait > 0 {
			return progress.Good, fmt.Sprintf("waited %s for compiled code, upgrades visited, caches cleared (%s)", wait, purged), nil
		}
		return progress.Good, fmt.Sprintf("upgrades visited, caches cleared (%s)", purged), nil
	})
}

// look fetches all pages, unless that was done just now, and judges them; what is not sound
// gets the quick remedies, and is looked at again. The browser comes last: what is broken needs
// none to be known. The pages go to a file of the run, and their pictures to a folder of that
// name.
func (s *session) look(ctx context.Context, name, file string, baseline, fetched *smoke.Take, judge judge) (*smoke.Judgement, error) {
	var judgement *smoke.Judgement
	tried := len(s.run.Remedies)
	s.fetcher.Before = baseline
	s.fetcher.Pictures = filepath.Join(s.run.Folder, picturesFolder, strings.TrimSuffix(strings.TrimPrefix(file, "pages-"), ".json"))
	err := s.step(name, int64(len(s.pages)), "pages", func() (progress.Mark, string, error) {
		take, err := s.read(ctx, fetched)
		if err != nil {
			return progress.Bad, "", err
		}
		if take, judgement, err = s.mend(ctx, take, judge, s.fetcher.Read); err != nil {
			return progress.Bad, "", err
		}
		if judgement.Verdict != smoke.Broken {
			if err := s.fetcher.See(ctx, take, judgement.NotBroken, s.Report); err != nil {
				return progress.Bad, "", err
			}
			failing := judgement.Failing()
			if judgement = judge(take); !slices.Equal(judgement.Failing(), failing) { // the browser found more
				take, judgement, err = s.mend(ctx, take, judge, s.fetcher.Take)
			}
			if err != nil {
				return progress.Bad, "", err
			}
		}
		if err := take.Save(filepath.Join(s.run.Folder, file)); err != nil {
			return progress.Bad, "", err
		}
		again := ""
		if judgement.Verdict != smoke.Sound && len(s.run.Remedies) > tried {
			again = "; clearing caches and rebuilding links did not help"
		}
		switch judgement.Verdict {
		case smoke.Sound:
			return progress.Good, fmt.Sprintf("%s, all sound%s", plural(len(s.pages), "page"), helped(s.run.Remedies[tried:])), nil
		case smoke.Doubtful:
			return progress.Doubt, fmt.Sprintf("%d of %s doubtful%s", judgement.Count(smoke.Doubtful), plural(len(s.pages), "page"), again), nil
		}
		broken := fmt.Sprintf("%d of %s broken", judgement.Count(smoke.Broken), plural(len(s.pages), "page"))
		if doubtful := judgement.Count(smoke.Doubtful); doubtful > 0 {
			broken += fmt.Sprintf(", %d doubtful", doubtful)
		}
		return progress.Bad, broken + again, nil
	})
	return judgement, err
}

// read fetches the pages, or completes what was fetched of them.
func (s *session) read(ctx context.Context, fetched *smoke.Take) (*smoke.Take, error) {
	if fetched == nil {
		return s.fetcher.Read(ctx, s.pages, s.Report)
	}
	s.Report.Advance(int64(len(fetched.Pages)))
	return fetched, s.fetcher.Follow(ctx, fetched)
}

// stillSound glances at a few pages a little later. CMSs that need no time to settle do
// nothing after an answer.
func (s *session) stillSound(ctx context.Context, judge judge) (still bool, err error) {
	if s.site.SettleTime() == 0 {
		return true, nil
	}
	err = s.step("second look", 0, "", func() (progress.Mark, string, error) {
		if err := s.Clock.Wait(ctx, secondLook); err != nil {
			return progress.Bad, "", err
		}
		pages := s.pages[:min(glancedAt, len(s.pages))]
		take, err := s.fetcher.Glance(ctx, pages)
		if err != nil {
			return progress.Bad, "", err
		}
		judgement := judge(take)
		if still = judgement.Verdict == smoke.Sound; still {
			return progress.Good, fmt.Sprintf("%s a little later, still sound", plural(len(pages), "page")), nil
		}
		return progress.Doubt, fmt.Sprintf("%s a little later, not sound any more (%s): all are looked at again", plural(len(pages), "page"), firstFinding(judgement)), nil
	})
	return still, err
}

// helped names the remedies without which the pages would not be sound.
func helped(remedies []Remedy) string {
	var names []string
	for _, remedy := range remedies {
		if len(remedy.Helped) > 0 && !slices.Contains(names, remedy.What) {
			names = append(names, remedy.What)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return " (" + list(names, 3) + " helped)"
}

// judge tells how pages are.
type judge func(*smoke.Take) *smoke.Judgement

// against judges pages by how they were.
func (s *session) against(before *smoke.Take) judge {
	return func(take *smoke.Take) *smoke.Judgement { return s.weigh(smoke.Judge(before, take)) }
}

// weigh judges by the site's own rules.
func (s *session) weigh(judgement *smoke.Judgement) *smoke.Judgement {
	s.rules.Apply(judgement)
	return judgement
}

// served are the endings of files that web servers hand out as they are.
var served = []string{".css", ".js", ".svg", ".txt", ".md", ".json"}

// evidence looks for proof that the address answers with the wanted tree: it
// fetches files that differ between the trees. It returns a finding if the old
// ones still come, and a line for people.
func (s *session) evidence(ctx context.Context, t *Target, old, wanted files.Tree) (*smoke.Finding, string) {
	asked := 0
	for _, differ := range files.Content.Compare(old, wanted) {
		i := slices.IndexFunc(wanted, func(item files.Item) bool { return item.Path == differ.Path && item.Kind == files.File })
		if i < 0 || !slices.Contains(served, path.Ext(differ.Path)) || asked == 3 {
			continue
		}
		asked++
		at := path.Join(s.site.PublicPath(t.Kind, t.Folder), differ.Path)
		body, status, err := s.fetcher.Fetch(ctx, at)
		if err != nil || status != http.StatusOK {
			continue
		}
		hash, _, _ := files.Hash(bytes.NewReader(body)) // reading from memory does not fail
		if hash == wanted[i].Hash {
			return nil, "the address serves the new " + differ.Path
		}
		if j := slices.IndexFunc(old, func(item files.Item) bool { return item.Path == differ.Path }); j >= 0 && old[j].Hash == hash {
			return &smoke.Finding{
				Page: at, Check: "new files", Verdict: smoke.Doubtful,
				What: "the address still serves the old file: a cache in front of the site, or another server, answers",
			}, ""
		}
	}
	return nil, ""
}

// reread returns a source for the files of a tree on the site's disk.
func reread(ctx context.Context, fsys files.FS, top string) files.Source {
	return func(item files.Item) (io.ReadCloser, error) { return fsys.Open(ctx, path.Join(top, item.Path), 0) }
}
