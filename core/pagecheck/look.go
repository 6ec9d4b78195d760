// Package pagecheck looks at a site's pages for an operation: before anything is touched (LookBefore),
// and after it (Look), with the quick remedies for what can be mended without going back. It also
// chooses the pages, and reads what PHP has logged meanwhile.
//
// How pages are fetched and judged is package smoke's.
package pagecheck

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
)

// SecondLook is the wait before pages that failed are fetched again: a cache may
// still have answered with a mixture. Pages that were sound are glanced at again after
// it, for what the first visits set off may have come to its end.
const SecondLook = time.Second

// glancedAt is how many pages that is; the first ones are the front page and the sign-in.
const glancedAt = 3

// Look fetches all pages, unless that was done just now, and judges them; what is not sound
// gets the quick remedies, and is looked at again. The browser comes last: what is broken needs
// none to be known. The pages that were judged are returned; they go to a file of the run, too, and
// their pictures to a folder of that name.
func Look(ctx context.Context, s *session.Session, name, file string, baseline, fetched *smoke.Take, judge Judge) (take *smoke.Take, judgement *smoke.Judgement, err error) {
	tried := len(s.Run.Remedies)
	s.Fetcher.Before = baseline
	s.Fetcher.Pictures = filepath.Join(s.Run.Folder, runs.PicturesFolder, strings.TrimSuffix(strings.TrimPrefix(file, "pages-"), ".json"))
	err = s.Step(name, int64(len(s.Pages)), "pages", func() (progress.Mark, string, error) {
		var err error
		if take, err = read(ctx, s, fetched); err != nil {
			return progress.Bad, "", err
		}
		if take, judgement, err = mend(ctx, s, take, judge, s.Fetcher.Read); err != nil {
			return progress.Bad, "", err
		}
		if judgement.Verdict != smoke.Broken {
			if err := s.Fetcher.See(ctx, take, judgement.NotBroken, s.Report); err != nil {
				return progress.Bad, "", err
			}
			failing := judgement.Failing()
			if judgement = judge(take); !slices.Equal(judgement.Failing(), failing) { // the browser found more
				take, judgement, err = mend(ctx, s, take, judge, s.Fetcher.Take)
			}
			if err != nil {
				return progress.Bad, "", err
			}
		}
		if err := take.Save(filepath.Join(s.Run.Folder, file)); err != nil {
			return progress.Bad, "", err
		}
		again := ""
		if judgement.Verdict != smoke.Sound && len(s.Run.Remedies) > tried {
			again = "; clearing caches and rebuilding links did not help"
		}
		switch judgement.Verdict {
		case smoke.Sound:
			return progress.Good, fmt.Sprintf("%s, all sound%s", phrase.Plural(len(s.Pages), "page"), helped(s.Run.Remedies[tried:])), nil
		case smoke.Doubtful:
			return progress.Doubt, fmt.Sprintf("%d of %s doubtful%s", judgement.Count(smoke.Doubtful), phrase.Plural(len(s.Pages), "page"), again), nil
		}
		broken := fmt.Sprintf("%d of %s broken", judgement.Count(smoke.Broken), phrase.Plural(len(s.Pages), "page"))
		if doubtful := judgement.Count(smoke.Doubtful); doubtful > 0 {
			broken += fmt.Sprintf(", %d doubtful", doubtful)
		}
		return progress.Bad, broken + again, nil
	})
	return take, judgement, err
}

// read fetches the pages, or completes what was fetched of them.
func read(ctx context.Context, s *session.Session, fetched *smoke.Take) (*smoke.Take, error) {
	if fetched == nil {
		return s.Fetcher.Read(ctx, s.Pages, s.Report)
	}
	s.Report.Advance(int64(len(fetched.Pages)))
	return fetched, s.Fetcher.Follow(ctx, fetched)
}

// StillSound glances at a few pages a little later. CMSs that need no time to settle, by themselves or by what
// wetland.toml says, do nothing after an answer.
func StillSound(ctx context.Context, s *session.Session, judge Judge) (still bool, err error) {
	if s.Site.CMS.SettleTime() == 0 && s.Site.SettleTime() == 0 {
		return true, nil
	}
	err = s.Step("second look", 0, "", func() (progress.Mark, string, error) {
		if err := s.Clock.Wait(ctx, SecondLook); err != nil {
			return progress.Bad, "", err
		}
		pages := s.Pages[:min(glancedAt, len(s.Pages))]
		take, err := s.Fetcher.Glance(ctx, pages)
		if err != nil {
			return progress.Bad, "", err
		}
		judgement := judge(take)
		if still = judgement.Verdict == smoke.Sound; still {
			return progress.Good, fmt.Sprintf("%s a little later, still sound", phrase.Plural(len(pages), "page")), nil
		}
		return progress.Doubt, fmt.Sprintf("%s a little later, not sound any more (%s): all are looked at again", phrase.Plural(len(pages), "page"), FirstFinding(judgement)), nil
	})
	return still, err
}

// helped names the remedies without which the pages would not be sound.
func helped(remedies []runs.Remedy) string {
	var names []string
	for _, remedy := range remedies {
		if len(remedy.Helped) > 0 && !slices.Contains(names, remedy.What) {
			names = append(names, remedy.What)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return " (" + phrase.List(names, 3) + " helped)"
}

// judge tells how pages are.
type Judge func(*smoke.Take) *smoke.Judgement

// Against judges pages by how they were.
func Against(s *session.Session, before *smoke.Take) Judge {
	return func(take *smoke.Take) *smoke.Judgement { return Weigh(s, judging.Judge(before, take)) }
}

// Weigh judges by the site's own rules.
func Weigh(s *session.Session, judgement *smoke.Judgement) *smoke.Judgement {
	s.Rules.Apply(judgement)
	return judgement
}

// served are the endings of files that web servers hand out as they are.
var served = []string{".css", ".js", ".svg", ".txt", ".md", ".json"}

// Evidence looks for proof that the address answers with the wanted tree: it
// fetches files that differ between the trees. It returns a finding if the old
// ones still come, and a line for people.
func Evidence(ctx context.Context, s *session.Session, t *runs.Target, old, wanted files.Tree) (*smoke.Finding, string) {
	public, ok := publicOf(s, t)
	if !ok {
		return nil, ""
	}
	asked := 0
	for _, differ := range files.Content.Compare(old, wanted) {
		i := slices.IndexFunc(wanted, func(item files.Item) bool { return item.Path == differ.Path && item.Kind == files.File })
		if i < 0 || !slices.Contains(served, path.Ext(differ.Path)) || asked == 3 {
			continue
		}
		asked++
		at := path.Join(public, differ.Path)
		body, status, err := s.Fetcher.Fetch(ctx, at)
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

// publicOf is at which path visitors fetch files of a component.
func publicOf(s *session.Session, t *runs.Target) (string, bool) {
	if folder, err := s.Site.CMS.Layout().Folder(t.Kind, t.Folder); err == nil {
		return folder.Public, true
	}
	installed, ok := site.Component(s.Components, t.Kind, t.Folder)
	if !ok || len(installed.Places) == 0 {
		return "", false
	}
	return path.Dir(installed.Places[0].Public), true
}

// FirstFinding says the first finding that counts.
func FirstFinding(j *smoke.Judgement) string { return FirstFindingOn(j, "") }

// FirstFindingOn says the first finding that counts on a page; "": on any.
func FirstFindingOn(j *smoke.Judgement, path string) string {
	for _, page := range j.Pages {
		if path != "" && page.Path != path {
			continue
		}
		for _, finding := range page.Findings {
			if finding.Counts() {
				return finding.What
			}
		}
	}
	return "no finding"
}
