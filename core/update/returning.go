package update

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"

	"wetland/core/advice"
	"wetland/core/deploy"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/version"
	"wetland/core/workspace"
)

// A return to an older version on purpose is the way out of trouble: a broken site does not
// stand against it, and its pages are judged by their health, not by how they were with the
// version that is left.

// returning is such a return under way.
type returning struct {
	record *smoke.Take // the pages of when the version was last here and sound; nil: none
	words  string      // which version, when it was last here, and how its pages were
}

// isReturn tells whether one component alone goes back to an older version, or is brought
// back by name.
func (m *motion) isReturn() bool {
	if len(deploy.Leaders(m.changes)) != 1 || m.changes[0].Target.New {
		return false
	}
	t := m.changes[0].Target
	return m.options.Return || version.Between(t.From, t.To) == version.Backward
}

// findReturn looks for the record of the version that is wanted back.
func (m *motion) findReturn() error {
	if !m.isReturn() {
		return nil
	}
	t := m.changes[0].Target
	found, err := lastHere(m.Site.Workspace, t.Kind, t.Folder, t.To)
	if err != nil {
		return err
	}
	m.returning = &returning{words: fmt.Sprintf("no run has looked at pages with %s %s: they are judged by their health"+
		" alone", t.Folder, phrase.Version(t.To))}
	if found == nil {
		return nil
	}
	judgement := pagecheck.Weigh(m.Session, judging.Judge(nil, found.pages))
	how := "its pages were sound then"
	if judgement.Verdict == smoke.Sound {
		m.returning.record = found.pages
	} else {
		how = fmt.Sprintf("%d of its %s were %s then", len(judgement.Failing()), phrase.Plural(len(judgement.Pages), "page"),
			judgement.Verdict)
	}
	m.returning.words = fmt.Sprintf("%s %s was last here on %s (%s): %s", t.Folder, phrase.Version(t.To),
		found.pages.At.Local().Format("2 January 2006, 15:04"), found.run, how)
	return nil
}

// sighting is the pages as they were with a version in place.
type sighting struct {
	run   string
	pages *smoke.Take
}

// lastHere returns the newest look at the pages with this version of a component in place;
// nil if no run took one.
func lastHere(w *workspace.Workspace, kind cms.Kind, folder, wanted string) (*sighting, error) {
	all, err := runs.Readable(w)
	if err != nil {
		return nil, err
	}
	for i := len(all) - 1; i >= 0; i-- {
		run := all[i]
		t := run.Component(kind, folder)
		if t == nil || run.State == runs.UnderWay {
			continue
		}
		file := ""
		switch {
		case t.To == wanted && t.Fate == runs.FateKept:
			file = run.PagesFile
		case t.From == wanted:
			file = runs.BaselineFile
		}
		if file == "" {
			continue
		}
		if pages, err := smoke.LoadTake(filepath.Join(run.Folder, file)); err == nil { // else an older one serves
			return &sighting{run.Name, pages}, nil
		}
	}
	return nil, nil
}

// judgeNew judges pages with the new versions in place.
func (m *motion) judgeNew(take *smoke.Take) *smoke.Judgement {
	if m.returning == nil {
		return pagecheck.Weigh(m.Session, judging.JudgeUpdate(m.baseline, take, m.foreignFolders()))
	}
	return pagecheck.Weigh(m.Session, judging.JudgeReturn(m.baseline, m.returning.record, take))
}

// foreignFolders are the folders, as paths of addresses, of what the group leaves as it is: other
// components, and the uploads.
func (m *motion) foreignFolders() []string {
	var folders []string
	add := func(public string) { folders = append(folders, m.Fetcher.Resolve(public).Path) }
	for _, c := range m.Components {
		ours := func(one *deploy.Change) bool { return one.Target.Kind == c.Kind && one.Target.Folder == c.Folder }
		if !slices.ContainsFunc(m.group, ours) {
			for _, place := range c.Places {
				if place.Public != "" {
					add(place.Public)
				}
			}
		}
	}
	add(path.Join("/", m.Site.CMS.Layout().PublicUploads))
	return folders
}

// betterWords says which pages were broken and are not any more.
func betterWords(j *smoke.Judgement) string {
	if j == nil || len(j.Better) == 0 {
		return ""
	}
	return fmt.Sprintf(" %s that %s broken %s sound now: %s.", phrase.Plural(len(j.Better), "page"),
		phrase.WasWere(len(j.Better)), phrase.IsAre(len(j.Better)), phrase.List(j.Better, 4))
}

// takeAnyway takes a version though its pages are broken.
func (m *motion) takeAnyway() advice.Step {
	if named := m.options.Packages; len(named) == 1 && !m.options.Return { // it may not be on the shelf
		return advice.Run("brings it in anyway", advice.UpdateBroken, named[0])
	}
	t := m.changes[0].Target
	return advice.Run("brings it in anyway", advice.TakeBroken, t.Folder+"@"+t.To)
}
