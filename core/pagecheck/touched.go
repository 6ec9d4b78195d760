package pagecheck

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/smoke"
)

// Touched are the pages of a site that a component has a part in: those whose content holds what
// a plugin puts into pages, and one for each template of a theme that differs.
type Touched struct {
	Folder  string   `json:"folder"`
	Pages   []string `json:"pages"`
	Further int      `json:"further,omitempty"` // pages that use it, too, and are not tested for it
	// Loads counts the pages among those of the workspace on which its files load, when they were
	// last recorded.
	Loads int `json:"loads,omitempty"`
}

// String names the pages, such as "/timetable and /fares (its files load on 3 pages of
// wetland.toml)".
func (t Touched) String() string {
	words := phrase.List(t.Pages, 3)
	if t.Further > 0 {
		words += fmt.Sprintf(", and %s that are not tested for it", phrase.Plural(t.Further, "further page"))
	}
	if t.Loads > 0 {
		words += fmt.Sprintf(" (its files load on %s of wetland.toml)", phrase.Plural(t.Loads, "page"))
	}
	return words
}

// mostTouched bounds how many pages join a run because a component has a part in them.
const mostTouched = 6

// FindTouched finds the pages that a component has a part in. What cannot be looked up costs the
// update nothing: the pages of the workspace are tested all the same.
func FindTouched(ctx context.Context, s *session.Session, t *runs.Target, p *packages.Package) (Touched, error) {
	found := Touched{Folder: t.Folder}
	installed, ok := site.Component(s.Components, t.Kind, t.Folder)
	if !ok || !installed.Active && !installed.ParentOfActive {
		return found, nil // no page is made with it
	}
	var samples []cms.Sample
	var err error
	switch t.Kind {
	case cms.Theme:
		samples, err = changedTemplates(ctx, s, installed, p)
	case cms.Plugin:
		samples, err = s.Site.CMS.UsedOn(ctx, s.DB, installed)
	}
	if err != nil {
		return found, err
	}
	found.Loads = loads(s, installed)
	for _, sample := range samples {
		if len(found.Pages) >= mostTouched {
			found.Further++
			continue
		}
		if at, ok := s.Fetcher.Shown(ctx, sample.Path); ok && !slices.Contains(found.Pages, at) {
			found.Pages = append(found.Pages, at)
		}
	}
	return found, ctx.Err()
}

// loads counts the recorded pages that load files of a plugin. Those of a theme load everywhere.
func loads(s *session.Session, installed cms.Component) (n int) {
	recorded, err := smoke.LoadTake(s.Site.Workspace.Baseline())
	place, whole := installed.OneFolder()
	if err != nil || !whole || installed.Kind == cms.Theme {
		return 0
	}
	folder := s.Fetcher.Resolve(place.Public).Path + "/"
	for _, facts := range recorded.Pages {
		if slices.ContainsFunc(facts.Assets, func(a smoke.Asset) bool { return strings.HasPrefix(a.Path, folder) }) {
			n++
		}
	}
	return n
}

// changedTemplates takes a page of each kind whose template differs between the installed theme
// and the package.
func changedTemplates(ctx context.Context, s *session.Session, installed cms.Component, p *packages.Package) ([]cms.Sample, error) {
	samples, err := s.Site.CMS.Samples(ctx, s.DB)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, sample := range samples {
		names = append(names, sample.Templates...)
	}
	slices.Sort(names)
	names = slices.Compact(names)
	comes, is := map[string]string{}, map[string]string{}
	for _, item := range p.Tree {
		comes[item.Path] = item.Hash
	}
	folder, _ := installed.OneFolder()
	err = files.HashFiles(ctx, s.Site.Files, folder.Path, names, func(i int, hash string, _ int64, err error) error {
		if err == nil { // most are not there
			is[names[i]] = hash
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(samples, func(sample cms.Sample) bool {
		for _, file := range sample.Templates { // the first that is there makes the page
			if is[file] != "" || comes[file] != "" {
				return is[file] == comes[file]
			}
		}
		return true
	}), nil
}

// AddTouched has the pages that the components have a part in tested, too.
func AddTouched(s *session.Session, touched []Touched) {
	room := mostTouched
	for _, one := range touched {
		for _, at := range one.Pages {
			if room > 0 && !slices.ContainsFunc(s.Pages, func(p smoke.Page) bool { return p.Path == at }) {
				s.Pages = append(s.Pages, smoke.Page{Path: at})
				room--
			}
		}
	}
}
