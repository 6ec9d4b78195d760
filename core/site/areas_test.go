package site

import (
	"slices"
	"testing"

	"wetland/core/site/cms"
	"wetland/core/workspace"
)

// Asking for the areas changes nothing that others hold; what waits for its swap is left out
// where it is, and nothing else for its name.
func TestAreasAreTheirOwn(t *testing.T) {
	leaveOut := append(make([]string, 0, 8), "cache")
	layout := cms.Layout{Areas: []cms.Area{{Name: "site", Path: "/srv/ferry", LeaveOut: leaveOut}, {Name: "content", Path: "/srv/assets"}}}
	own := &workspace.Workspace{}
	own.Config.Files.Exclude = []string{"logs"}
	s := &Site{CMS: cms.Remembered{Kept: layout}, Workspace: own, Waiting: []string{"/srv/.wetland-staging-a", "/srv/assets/.wetland-staging-a"}, search: func() []string { return []string{"inner"} }}
	for range 2 {
		areas := s.Areas()
		if !slices.Equal(areas[0].LeaveOut, []string{"cache", "logs", "inner"}) || !slices.Equal(areas[1].LeaveOut, []string{".wetland-staging-a"}) {
			t.Errorf("%+v", areas)
		}
		areas[0].LeaveOut[0] = "changed"
	}
	if spare := leaveOut[:3]; leaveOut[0] != "cache" || spare[1] != "" || len(layout.Areas[0].LeaveOut) != 1 {
		t.Errorf("the caller's own list is %q", spare)
	}
	if !ScopeOf(s.Areas()[1]).Has("uploads/.wetland-staging-a") || !ScopeOf(s.Areas()[0]).Has("uploads/.wetland-staging") {
		t.Error("something can hide by its name")
	}
}
