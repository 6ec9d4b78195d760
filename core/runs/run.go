// Package runs is the record of what was done to a site: an update or a restore is a run, with its
// steps, its judgement, its end and what to do next. Begin reading at Run. Beside the record each run
// has a journal, written before each thing is done, from which an interrupted one is settled (Trace);
// and everything that stood against one is a Refusal.
//
// It promises that a record is always whole: it is written anew beside the old one and then put in
// its place.
package runs

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"wetland/core/advice"
	"wetland/core/durable"
	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/workspace"
)

// State says how a run stands.
type State string

// The states of runs.
const (
	UnderWay  State = "under way"
	Kept      State = "kept"             // done and sound
	KeptDoubt State = "kept with doubts" // done, a person should look
	KeptPart  State = "kept in part"     // some packages were kept, the others put back, proved
	PutBack   State = "put back"         // what was before is back, proved
	// PutBackDoubt says that files and tables are proved to be back, and that pages still
	// differ or a cache could not be cleared.
	PutBackDoubt State = "put back with doubts"
	Restored     State = "restored"       // a restore, proved
	Stopped      State = "stopped"        // before anything was touched
	NeedsPerson  State = "needs a person" // the site is not in a proved state

	// Of rehearsals: how the packages did on a private copy.
	SoundOnCopy    State = "sound on a copy"
	PartOnCopy     State = "sound in part on a copy" // of several packages
	DoubtfulOnCopy State = "doubtful on a copy"
	BrokenOnCopy   State = "broken on a copy"
)

// Rehearsal is the kind of a run on a private copy of the site.
const Rehearsal = "rehearsal"

// Headline says a state in a word or two, as the beginning of a sentence.
func (s State) Headline() string {
	switch s {
	case KeptDoubt:
		return "Done, with doubts"
	case UnderWay:
		return "Interrupted"
	case NeedsPerson:
		return "A person is needed"
	case PutBackDoubt:
		return "Put back, with doubts"
	}
	return phrase.Capital(string(s))
}

// Tone is how good a state is: Sound where nothing is left to do, Broken where the site is
// not in a proved state.
func (s State) Tone() smoke.Verdict {
	switch s {
	case Kept, Restored, SoundOnCopy:
		return smoke.Sound
	case PartOnCopy, DoubtfulOnCopy, KeptDoubt, KeptPart, PutBack, PutBackDoubt, Stopped:
		return smoke.Doubtful
	}
	return smoke.Broken
}

// IsSettled tells whether nothing is left to be recovered.
func (s State) IsSettled() bool { return s != UnderWay && s != NeedsPerson }

// InDoubt is the same end for a run that leaves a person something to look at.
func (s State) InDoubt() State {
	switch s {
	case Kept:
		return KeptDoubt
	case PutBack:
		return PutBackDoubt
	}
	return s
}

// Step is one step of a run, as it was reported.
type Step struct {
	Name   string        `json:"name"`
	Mark   progress.Mark `json:"mark"`
	Detail string        `json:"detail,omitempty"`
	Took   time.Duration `json:"took_ns"`
}

// Run is the record of one guarded operation.
type Run struct {
	Name       string           `json:"name"` // run-3
	Kind       string           `json:"kind"` // update, restore, rehearsal
	State      State            `json:"state"`
	Started    time.Time        `json:"started"`
	Ended      time.Time        `json:"ended,omitzero"`
	Who        string           `json:"who"`
	Components []*Target        `json:"components,omitempty"`
	Wanted     string           `json:"wanted,omitempty"` // of a restore: the snapshot
	Only       string           `json:"only,omitempty"`   // of a restore: the part of it
	Snapshot   string           `json:"snapshot,omitempty"`
	Snapshots  []string         `json:"snapshots,omitempty"` // all that it took before it touched anything
	Settled    []string         `json:"settled,omitempty"`   // snapshots of what it left behind
	Steps      []Step           `json:"steps"`
	Judgement  *smoke.Judgement `json:"judgement,omitempty"`  // of the pages after the change
	PagesFile  string           `json:"pages_file,omitempty"` // in the folder: the pages that were judged
	// Again is the judgement of pages that stayed doubtful after everything was back; nil: they
	// were as before. Learnt is what of it is known to change by itself since.
	Again  *smoke.Judgement `json:"pages_after_return,omitempty"`
	Learnt []smoke.Finding  `json:"learnt,omitempty"`
	// Returning tells that one component went back to an older version on purpose.
	Returning bool `json:"returning,omitempty"`
	// Rest is what the update wrote outside of its components, and what became of it.
	Rest     []RestNote `json:"rest,omitempty"`
	Remedies []Remedy   `json:"remedies,omitempty"` // quick ones, tried before going back
	Probes   []Probe    `json:"probes,omitempty"`   // of the search for a culprit
	// what going back did with each changed table; of a rehearsal: what the packages changed
	Database []TableNote `json:"database,omitempty"`
	// Undecided are rows of which nobody can tell whether the update or a visitor changed them: recover settles them.
	Undecided []Undecided `json:"undecided,omitempty"`
	// how long the CMS and the new versions took for their upgrades, when asked for them
	Upgrades time.Duration `json:"upgrades_ns,omitempty"`
	Exposed  time.Duration `json:"exposed_ns,omitempty"` // how long visitors could see what was not kept
	// Gap is for how long a folder was absent at most, where it could not be exchanged in one step. On another machine
	// the way there and back is in it.
	Gap time.Duration `json:"gap_ns,omitempty"`
	// Gate is for how long visitors were told to come back in a moment, while the CMS itself was replaced, and Notice
	// for how long they saw its notice, while it brought its tables up to date.
	Gate   time.Duration `json:"gate_ns,omitempty"`
	Notice time.Duration `json:"notice_ns,omitempty"`
	// Lingered is for how long PHP may have answered with it after it was put back: its code stays
	// compiled where nobody could ask PHP to drop it.
	Lingered time.Duration `json:"lingered_ns,omitempty"`
	Reason   string        `json:"reason,omitempty"` // why it ended so, in a sentence
	Next     []advice.Step `json:"next,omitempty"`   // what to do
	Folder   string        `json:"folder"`
	// WithoutDatabase says that the site's tables were not in our hands.
	WithoutDatabase bool `json:"without_database,omitempty"`
	// Rehearsed names the rehearsal of an update that was made before it.
	Rehearsed string    `json:"rehearsed,omitempty"`
	Copy      *CopyNote `json:"copy,omitempty"` // of a rehearsal: the copy that it was made on
	// Staging is the name of the folders in which the run's new trees wait beside the live
	// ones: nobody can know it before they are made.
	Staging string `json:"staging,omitempty"`
}

// Target is the component that a run replaces.
type Target struct {
	Kind   cms.Kind `json:"kind"`
	Folder string   `json:"folder"`
	Name   string   `json:"name"`
	From   string   `json:"from"`
	New    bool     `json:"new,omitempty"` // nothing was installed in that folder
	// Parts are the names in the site's root that are the CMS's own, where that is replaced; none: it is a folder.
	Parts   []string `json:"parts,omitempty"`
	To      string   `json:"to"`
	Package string   `json:"package"`           // the archive's path
	Hash    string   `json:"hash"`              // of the archive
	Shelved string   `json:"shelved,omitempty"` // where the replaced version is on the shelf
	Fate    Fate     `json:"fate,omitempty"`
	Because []string `json:"because,omitempty"` // why it was not kept: the evidence
}

// Fate is what became of a component in a run.
type Fate string

// The fates. Without one, the component was not touched.
const (
	FateKept Fate = "kept"
	FateBack Fate = "put back"
	// On a private copy.
	FateSound    Fate = "sound"
	FateNotSound Fate = "not sound"
)

// The files in a run's folder. BaselineFile and AfterFile are the pages before and after
// the change; what they showed once more after going back is in againFile.
const (
	runFile      = "run.json"
	journalFile  = "journal.jsonl"
	BaselineFile = "pages-before.json"
	AfterFile    = "pages-after.json"
	AgainFile    = "pages-again.json"
	// AcceptedPagesFile has pages that were kept with doubts: the next step is compared
	// with them.
	AcceptedPagesFile = "pages-accepted.json"
	// PicturesFolder has the folders before and after.
	PicturesFolder = "pictures"
)

// PatchFile is where the edits by hand of a component are kept.
func PatchFile(t *Target) string {
	return "edited-by-hand-" + string(t.Kind) + "-" + FileName(t.Folder) + ".patch"
}

func runNumber(w *workspace.Workspace, name string) int {
	number, ours := strings.CutPrefix(name, w.RunPrefix())
	n, err := strconv.Atoi(number)
	if err != nil || !ours {
		return 0
	}
	return n
}

// Names lists the runs of a workspace, oldest first. Of none of them need there be a record.
func Names(w *workspace.Workspace) ([]string, error) {
	entries, err := os.ReadDir(w.Runs())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var names []string
	for _, entry := range entries {
		if runNumber(w, entry.Name()) > 0 {
			names = append(names, entry.Name())
		}
	}
	slices.SortFunc(names, func(a, b string) int { return runNumber(w, a) - runNumber(w, b) })
	return names, err
}

// ErrNoRun says that there is no run of this name.
var ErrNoRun = errors.New("there is no such run")

// Load reads the record of a run, or of a rehearsal. It wraps ErrNoRun if there is none.
func Load(w *workspace.Workspace, name string) (*Run, error) {
	if strings.HasPrefix(name, w.Rehearsals().RunPrefix()) {
		w = w.Rehearsals()
	}
	text, err := os.ReadFile(filepath.Join(w.Runs(), name, runFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", name, ErrNoRun)
	}
	if err != nil {
		return nil, err
	}
	var run Run
	if err := json.Unmarshal(text, &run); err != nil {
		return nil, fmt.Errorf("the record of %s is damaged: %w", name, err)
	}
	run.Folder = filepath.Join(w.Runs(), name)
	return &run, nil
}

// Each goes through the runs, oldest first. err tells why a record cannot be read; then run is nil.
// Runs that had not begun are passed over.
func Each(w *workspace.Workspace, do func(name string, run *Run, err error) error) error {
	names, err := Names(w)
	if err != nil {
		return err
	}
	for _, name := range names {
		run, err := Load(w, name)
		if errors.Is(err, ErrNoRun) {
			continue // interrupted while its folder was made
		}
		if err := do(name, run, err); err != nil {
			return err
		}
	}
	return nil
}

// All returns all runs, oldest first.
func All(w *workspace.Workspace) (all []*Run, err error) {
	return all, Each(w, func(_ string, run *Run, err error) error {
		if err == nil {
			all = append(all, run)
		}
		return err
	})
}

// Readable lists the runs, oldest first, whose records can be read: a damaged one takes its own story away, and no
// other.
func Readable(w *workspace.Workspace) (all []*Run, err error) {
	return all, Each(w, func(_ string, run *Run, err error) error {
		if err == nil {
			all = append(all, run)
		}
		return nil
	})
}

// InstalledTree returns what the newest run that kept this version installed: the
// tree that its folder must have. It is nil if no run did.
func InstalledTree(w *workspace.Workspace, kind cms.Kind, folder, version string) (files.Tree, error) {
	runs, err := Readable(w)
	if err != nil {
		return nil, err
	}
	for _, run := range slices.Backward(runs) {
		if t := run.Component(kind, folder); t != nil && t.To == version && t.Fate == FateKept {
			return durable.ReadJSON[files.Tree](t.TreeFile(run.Folder))
		}
	}
	return nil, nil
}

// LastVersion returns the version of a component that the newest run left in
// place, and the run's name; both empty if no run touched it.
func LastVersion(w *workspace.Workspace, kind cms.Kind, folder string) (version, by string, err error) {
	runs, err := Readable(w)
	for _, run := range runs {
		t := run.Component(kind, folder)
		switch {
		case t == nil && run.State == Restored:
			version, by = "", "" // a restore may have brought any version
		case t == nil:
		case t.Fate == FateKept:
			version, by = t.To, run.Name
		case t.Fate == FateBack && run.State != NeedsPerson:
			version, by = t.From, run.Name
		}
	}
	return version, by, err
}

// Component returns what the run did with a component; nil: nothing.
func (r *Run) Component(kind cms.Kind, folder string) *Target {
	for _, t := range r.Components {
		if t.Kind == kind && t.Folder == folder {
			return t
		}
	}
	return nil
}

// FailedReturn tells of a return to an older version that was put back because pages were
// broken with it.
func (r *Run) FailedReturn() bool {
	return r.Returning && (r.State == PutBack || r.State == PutBackDoubt) && r.Judgement != nil &&
		r.Judgement.Verdict == smoke.Broken
}

// Title says in a few words what the run was for.
func (r *Run) Title() string {
	switch len(r.Components) {
	case 0:
		return strings.TrimSpace(r.Kind + " " + r.Wanted + " " + r.Only)
	case 1:
		t := r.Components[0]
		if t.New {
			return fmt.Sprintf("%s %s, new", t.Name, phrase.Version(t.To))
		}
		return fmt.Sprintf("%s %s to %s", t.Name, phrase.Version(t.From), phrase.Version(t.To))
	}
	var names []string
	for _, t := range r.Components {
		names = append(names, t.Name+" "+phrase.Version(t.To))
	}
	return phrase.List(names, 3)
}

// Unsettled returns the newest run if it has not ended, else nil.
func Unsettled(w *workspace.Workspace) (*Run, error) {
	last, err := Last(w)
	if err != nil || last == nil || last.State.IsSettled() {
		return nil, err
	}
	return last, nil
}

// Last returns the newest run; nil if there is none.
func Last(w *workspace.Workspace) (*Run, error) {
	names, err := Names(w)
	for _, name := range slices.Backward(names) {
		run, err := Load(w, name)
		if !errors.Is(err, ErrNoRun) { // else it had not begun
			return run, err
		}
	}
	return nil, err
}

// UnsettledWords say why a run is not settled.
var UnsettledWords = map[State]string{
	UnderWay:    "was interrupted and is not settled",
	NeedsPerson: "left the site without proof that all is as it was",
}

// New makes the folder, the record and the journal of the next run.
func New(w *workspace.Workspace, kind string, began Began) (*Run, *Journal, error) {
	names, err := Names(w)
	if err != nil {
		return nil, nil, err
	}
	next := 1
	if len(names) > 0 {
		next = runNumber(w, names[len(names)-1]) + 1
	}
	run := &Run{Name: w.RunPrefix() + strconv.Itoa(next), Kind: kind, State: UnderWay, Started: time.Now().UTC(),
		Who: WhoAmI()}
	run.Wanted, run.Only, run.WithoutDatabase = began.Wanted, began.Only, began.WithoutDatabase
	run.Staging = NewStagingName()
	run.Folder = filepath.Join(w.Runs(), run.Name)
	if err := durable.MkdirAll(run.Folder); err != nil {
		return nil, nil, fmt.Errorf("make the folder of the run: %w", err)
	}
	if err := run.Save(); err != nil {
		return nil, nil, err
	}
	log, err := run.OpenJournal()
	if err != nil {
		return nil, nil, err
	}
	return run, log, log.Write(began)
}

// Save writes the record of the run.
func (r *Run) Save() error { return durable.SaveJSON(filepath.Join(r.Folder, runFile), r) }

// WhoAmI names the user and the machine.
func WhoAmI() string {
	name := "somebody"
	if me, err := user.Current(); err == nil {
		name = me.Username
	}
	host, err := os.Hostname()
	if err != nil {
		return name
	}
	return name + " on " + host
}

// TreeFile is where the run keeps what the new tree is.
func (t *Target) TreeFile(run string) string {
	return filepath.Join(run, "new-tree-"+string(t.Kind)+"-"+FileName(t.Folder)+".json")
}

// StagingPrefix begins the names of the folders in which trees wait.
const StagingPrefix = ".wetland-staging-"

// NewStagingName is a name that nobody can know beforehand.
func NewStagingName() string { return StagingPrefix + strings.ToLower(rand.Text()) }

// NamesStaging tells whether the record has a name that this program gave: what it names is
// removed in the end.
func (r *Run) NamesStaging() bool {
	return strings.HasPrefix(r.Staging, StagingPrefix) && !strings.ContainsAny(r.Staging, `/\`)
}
