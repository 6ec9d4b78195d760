package session

import (
	"path"

	"wetland/core/runs"
	"wetland/core/site"
)

// StagingFolders lists where the run's trees may wait: outside the web root if possible,
// for what lies inside can be fetched or run by visitors.
func (s *Session) StagingFolders() []string { return foldersOfStaging(s.Site, s.Run) }

// waitingOf lists the staging folders of runs that did not end as they should: what may wait
// in them is no part of the site. A run whose record cannot be read names none: that is told
// where it matters.
func waitingOf(of *site.Site) []string {
	var waiting []string
	_ = runs.Each(of.Workspace, func(_ string, run *runs.Run, err error) error {
		if err == nil && !run.State.IsSettled() && run.NamesStaging() {
			waiting = append(waiting, foldersOfStaging(of, run)...)
		}
		return nil
	})
	return waiting
}

func foldersOfStaging(of *site.Site, run *runs.Run) []string {
	layout := of.CMS.Layout()
	return []string{path.Join(path.Dir(layout.Areas[0].Path), run.Staging), path.Join(path.Dir(layout.Themes), run.Staging)}
}
