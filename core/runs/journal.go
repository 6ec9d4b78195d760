package runs

import (
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"os"

	"wetland/core/journal"
	"wetland/core/smoke"
)

// ErrNothingToRecover says that no run is unsettled.
var ErrNothingToRecover = errors.New("every run has ended properly: there is nothing to recover")

// OpenJournal opens a journal to go on with, or begins it.
func OpenJournal(name string) (*journal.Journal, error) {
	if _, err := os.Stat(name); errors.Is(err, fs.ErrNotExist) {
		return journal.Create(name)
	}
	return journal.Append(name)
}

// Trace is what the journal of an interrupted run tells.
type Trace struct {
	Begin    UpdateFacts
	Restore  RestoreFacts
	Snapshot string            // the last one
	Group    []string          // of components, whose turn it was
	Staged   map[string]string // by component
	Kept     []string          // components that are settled already
	Last     []string          // of those, the ones after which nothing came any more
	Swapping bool              // the swap may have happened
	Backs    []string          // components that were put back before
	Verdict  smoke.Verdict
	Touching bool // a restore had begun to change things
}

// ReadTrace reads a journal. Entries that cannot be read did not tell anything.
func ReadTrace(entries []journal.Entry) Trace {
	t := Trace{Staged: map[string]string{}}
	for _, entry := range entries {
		var facts struct {
			UpdateFacts
			RestoreFacts
			Snapshot string            `json:"snapshot"`
			Group    []string          `json:"group"`
			Staged   map[string]string `json:"staged"`
			Verdict  smoke.Verdict     `json:"verdict"`
		}
		if len(entry.Facts) > 0 && json.Unmarshal(entry.Facts, &facts) != nil {
			continue // what cannot be read did not tell anything
		}
		switch entry.Step {
		case StepBegin:
			t.Begin, t.Restore = facts.UpdateFacts, facts.RestoreFacts
		case StepSnapshot:
			t.Snapshot, t.Group, t.Last = facts.Snapshot, nil, nil
		case StepGroup:
			t.Group, t.Swapping, t.Verdict = facts.Group, false, ""
		case StepStage:
			maps.Copy(t.Staged, facts.Staged)
		case StepSwap:
			t.Swapping = true
		case StepJudged:
			t.Verdict = facts.Verdict
		case StepBack:
			t.Verdict = ""
		case StepIsBack:
			t.Backs, t.Group = append(t.Backs, t.Group...), nil
		case StepKept:
			t.Kept, t.Last, t.Group = append(t.Kept, facts.Group...), facts.Group, nil
		case StepRestore:
			t.Touching = true
		}
	}
	return t
}

// UpdateFacts is what recover needs to know of an update.
type UpdateFacts struct {
	Changes   []UpdateChange `json:"changes"`
	Returning bool           `json:"returning,omitempty"`
}

// UpdateChange is a component of an update, and the folder that it stands in.
type UpdateChange struct {
	Target Target `json:"target"`
	Live   string `json:"live"`
}

// RestoreFacts is what recover needs to know of a restore.
type RestoreFacts struct {
	Wanted  string `json:"wanted"`
	Only    string `json:"only,omitempty"`
	KeepNew bool   `json:"keep_new,omitempty"`
}
