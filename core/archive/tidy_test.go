package archive

import (
	"errors"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/core/durable"
	"wetland/core/runs"
	"wetland/core/workspace"
)

// record writes the record of a run into a workspace.
func record(t *testing.T, w *workspace.Workspace, run runs.Run) {
	t.Helper()
	run.Folder = filepath.Join(w.Runs(), run.Name)
	if err := errors.Join(durable.MkdirAll(run.Folder), run.Save()); err != nil {
		t.Fatal(err)
	}
}

// A snapshot stays that a run still needs: of each component the one from before the last update that
// was kept, and all of a run that is not settled. Of a record that cannot be read nobody knows what it
// needs: then nothing is deleted.
func TestWhatRunsNeedStays(t *testing.T) {
	w := &workspace.Workspace{Dir: t.TempDir()}
	theme := func(fate runs.Fate) []*runs.Target {
		return []*runs.Target{{Kind: "theme", Folder: "harbourlight", Fate: fate}}
	}
	record(t, w, runs.Run{Name: "run-1", Kind: "update", State: runs.Kept, Snapshot: "snap-1", Components: theme(runs.FateKept)})
	record(t, w, runs.Run{Name: "run-2", Kind: "update", State: runs.Kept, Snapshot: "snap-2", Components: theme(runs.FateKept)})
	record(t, w, runs.Run{Name: "run-3", Kind: "update", State: runs.PutBack, Snapshot: "snap-3", Components: theme(runs.FateBack)})
	record(t, w, runs.Run{Name: "run-4", Kind: "update", State: runs.NeedsPerson, Snapshot: "snap-4"}) // settled since, else run-5 could not have begun
	record(t, w, runs.Run{Name: "run-5", Kind: "restore", State: runs.UnderWay, Wanted: "snap-0", Snapshot: "snap-5", Snapshots: []string{"snap-5", "snap-6"}})
	needed := map[string]string{"snap-9": "pinned"}
	if err := neededByRuns(w, needed); err != nil {
		t.Fatal(err)
	}
	want := map[string]string{
		"snap-9": "pinned", "snap-2": "from before run-2, the last update of harbourlight",
		"snap-0": "run-5 needs it", "snap-5": "run-5 needs it", "snap-6": "run-5 needs it",
	}
	if !maps.Equal(needed, want) {
		t.Errorf("needed are %v, want %v", needed, want)
	}
	if err := os.WriteFile(filepath.Join(w.Runs(), "run-2", "run.json"), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := neededByRuns(w, map[string]string{}); err == nil || !strings.Contains(err.Error(), "nothing is deleted") {
		t.Errorf("with a damaged record: %v", err)
	}
}
