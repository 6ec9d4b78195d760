package runs

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"reflect"

	"wetland/core/journal"
	"wetland/core/smoke"
)

// ErrNothingToRecover says that no run is unsettled.
var ErrNothingToRecover = errors.New("every run has ended properly: there is nothing to recover")

// Event is one thing in a run's journal. What changes the site is written down before it is done.
type Event interface {
	// step names it in the file.
	step() string
	// tell adds it to what is known of the run.
	tell(t *Trace)
}

// Began is the first event.
type Began struct {
	// Of an update: its components; whether it goes back to an older version on purpose.
	Changes   []Change `json:"changes,omitempty"`
	Returning bool     `json:"returning,omitempty"`
	// Of a restore: the snapshot, the part of it, and whether what visitors wrote since is kept.
	Wanted  string `json:"wanted,omitempty"`
	Only    string `json:"only,omitempty"`
	KeepNew bool   `json:"keep_new,omitempty"`
	// WithoutDatabase says that the site's tables are not in our hands.
	WithoutDatabase bool `json:"without_database,omitempty"`
}

// Change is a component of an update, and the folder that it stands in.
type Change struct {
	Target Target `json:"target"`
	Live   string `json:"live"`
}

// SnapshotTaken tells that the state before is safe.
type SnapshotTaken struct {
	Snapshot string `json:"snapshot"`
}

// GroupChosen names the components, as kind/folder, that are tried next.
type GroupChosen struct {
	Group []string `json:"group"`
}

// TreesStaged tells where the new trees wait, by component.
type TreesStaged struct {
	Staged map[string]string `json:"staged"`
}

// Swapping comes before the folders are exchanged, Swapped after it.
type Swapping struct{}

// Swapped comes after the folders were exchanged. Undisturbed are the tables to which nobody had written since the
// snapshot when the CMS itself was exchanged, behind the gate.
type Swapped struct {
	Undisturbed []string `json:"undisturbed,omitempty"`
}

// Judged tells how the pages are with the new versions.
type Judged struct {
	Verdict smoke.Verdict `json:"verdict"`
}

// GoingBack comes before anything is put back.
type GoingBack struct {
	Reason string `json:"reason"`
}

// IsBack tells that what was before the group is back, and proved.
type IsBack struct{}

// GroupKept names the components that stay.
type GroupKept struct {
	Group []string `json:"group"`
}

// Restoring comes before a restore changes anything.
type Restoring struct {
	Plan any `json:"plan"` // for people
}

// Ended is the last event.
type Ended struct {
	State State `json:"state"`
}

func (Began) step() string         { return "begin" }
func (SnapshotTaken) step() string { return "snapshot taken" }
func (GroupChosen) step() string   { return "group" }
func (TreesStaged) step() string   { return "staging" }
func (Swapping) step() string      { return "swapping" }
func (Swapped) step() string       { return "swapped" }
func (Judged) step() string        { return "judged" }
func (GoingBack) step() string     { return "going back" }
func (IsBack) step() string        { return "is back" }
func (GroupKept) step() string     { return "kept" }
func (Restoring) step() string     { return "restoring" }
func (Ended) step() string         { return "end" }

// kinds are those of events, by their steps.
var kinds = map[string]reflect.Type{}

func init() {
	for _, one := range []Event{
		Began{}, SnapshotTaken{}, GroupChosen{}, TreesStaged{}, Swapping{}, Swapped{}, Judged{}, GoingBack{}, IsBack{}, GroupKept{}, Restoring{}, Ended{},
	} {
		kinds[one.step()] = reflect.TypeOf(one)
	}
}

// Journal is that of one run.
type Journal struct{ file *journal.Journal }

// OpenJournal opens the run's journal to go on with it, or begins it.
func (r *Run) OpenJournal() (*Journal, error) {
	name := filepath.Join(r.Folder, journalFile)
	open := journal.Append
	if _, err := os.Stat(name); errors.Is(err, fs.ErrNotExist) {
		open = journal.Create
	}
	file, err := open(name)
	if err != nil {
		return nil, err
	}
	return &Journal{file}, nil
}

// Write adds an event. When it returns nil, the event survives a loss of power.
func (j *Journal) Write(e Event) error { return j.file.Write(e.step(), e) }

// Close closes the file.
func (j *Journal) Close() error { return j.file.Close() }

// Trace is what the journal of an interrupted run tells.
type Trace struct {
	Began
	Snapshot string            // the last one
	Group    []string          // of components, whose turn it was
	Staged   map[string]string // by component
	Kept     []string          // components that are settled already
	Last     []string          // of those, the ones after which nothing came any more
	Swapping bool              // the swap may have happened
	Backs    []string          // components that were put back before
	Verdict  smoke.Verdict
	// Undisturbed are tables to which nobody but the update wrote between its snapshot and that of what it left.
	Undisturbed []string
	Touching    bool // a restore had begun to change things
}

func (e Began) tell(t *Trace)         { t.Began = e }
func (e SnapshotTaken) tell(t *Trace) { t.Snapshot, t.Group, t.Last = e.Snapshot, nil, nil }
func (e GroupChosen) tell(t *Trace)   { t.Group, t.Swapping, t.Verdict = e.Group, false, "" }
func (e TreesStaged) tell(t *Trace)   { maps.Copy(t.Staged, e.Staged) }
func (Swapping) tell(t *Trace)        { t.Swapping = true }
func (e Swapped) tell(t *Trace)       { t.Undisturbed = e.Undisturbed }
func (e Judged) tell(t *Trace)        { t.Verdict = e.Verdict }
func (GoingBack) tell(t *Trace)       { t.Verdict = "" }
func (IsBack) tell(t *Trace)          { t.Backs, t.Group = append(t.Backs, t.Group...), nil }
func (e GroupKept) tell(t *Trace)     { t.Kept, t.Last, t.Group = append(t.Kept, e.Group...), e.Group, nil }
func (Restoring) tell(t *Trace)       { t.Touching = true }
func (Ended) tell(*Trace)             {}

// ReadTrace reads the run's journal. There may be none yet. Entries that cannot be read, or that
// another version wrote, did not tell anything.
func (r *Run) ReadTrace() (Trace, error) {
	t := Trace{Staged: map[string]string{}}
	entries, err := journal.Read(filepath.Join(r.Folder, journalFile))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return t, fmt.Errorf("read the journal of %s: %w", r.Name, err)
	}
	for _, entry := range entries {
		kind := kinds[entry.Step]
		if kind == nil {
			continue
		}
		event := reflect.New(kind)
		if len(entry.Facts) > 0 && json.Unmarshal(entry.Facts, event.Interface()) != nil {
			continue
		}
		event.Interface().(Event).tell(&t)
	}
	return t, nil
}
