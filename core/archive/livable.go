package archive

import (
	"path/filepath"
	"time"

	"wetland/core/durable"
	"wetland/core/smoke"
	"wetland/core/workspace"
)

// Livable is what came of bringing a snapshot up: whether the site can live by it, not only whether it can
// be read.
type Livable struct {
	At      time.Time     `json:"at"`
	Verdict smoke.Verdict `json:"verdict"`
	Pages   int           `json:"pages"` // that were looked at
	// Against says what they were compared with.
	Against string `json:"against"`
}

func livableFile(w *workspace.Workspace) string { return filepath.Join(w.Dir, "brought-up.json") }

// BroughtUp tells what came of it, by the snapshots' names.
func BroughtUp(w *workspace.Workspace) (map[string]Livable, error) {
	return durable.ReadJSONIfAny[map[string]Livable](livableFile(w))
}

// NoteBroughtUp notes what came of bringing a snapshot up.
func NoteBroughtUp(w *workspace.Workspace, name string, as Livable) error {
	all, err := BroughtUp(w)
	if err != nil {
		return err
	}
	if all == nil {
		all = map[string]Livable{}
	}
	all[name] = as
	return durable.SaveJSON(livableFile(w), all)
}
