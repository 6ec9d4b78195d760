package runs

import (
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"wetland/core/smoke"
)

// What is written is read back, event by event; what another version wrote, or a crash cut off, tells
// nothing and keeps nothing else from being read.
func TestTraceTellsWhatWasWritten(t *testing.T) {
	run := &Run{Name: "run-7", Folder: t.TempDir()}
	log, err := run.OpenJournal()
	if err != nil {
		t.Fatal(err)
	}
	began := Began{Changes: []Change{{Target: Target{Kind: "theme", Folder: "harbourlight", To: "2.5.2"}, Live: "/srv/themes/harbourlight"}}, Returning: true}
	for _, event := range []Event{
		began, SnapshotTaken{"snap-1"}, GroupChosen{[]string{"plugin/tidetable"}}, TreesStaged{map[string]string{"plugin/tidetable": "/srv/a"}}, Swapping{}, Swapped{},
		Judged{smoke.Broken}, GoingBack{"2 pages broke"}, IsBack{}, SnapshotTaken{"snap-2"}, GroupChosen{[]string{"theme/harbourlight"}},
		TreesStaged{map[string]string{"theme/harbourlight": "/srv/b"}}, Swapping{}, Swapped{}, Judged{smoke.Sound}, GroupKept{[]string{"theme/harbourlight"}},
	} {
		if err := log.Write(event); err != nil {
			t.Fatal(err)
		}
		if kinds[event.step()] != reflect.TypeOf(event) {
			t.Errorf("%T is read as another event", event)
		}
	}
	if err := log.Close(); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(run.Folder, journalFile)
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	text = append(text, `{"step":"of another version","facts":{"group":["theme/x"]}}`+"\n"+`{"step":"kept","facts":7}`+"\n"+`{"step":"kept","fac`...)
	if err := os.WriteFile(file, text, 0o600); err != nil {
		t.Fatal(err)
	}
	got, err := run.ReadTrace()
	if err != nil {
		t.Fatal(err)
	}
	want := Trace{
		Began: began, Snapshot: "snap-2", Staged: map[string]string{"plugin/tidetable": "/srv/a", "theme/harbourlight": "/srv/b"},
		Kept: []string{"theme/harbourlight"}, Last: []string{"theme/harbourlight"}, Swapping: true, Backs: []string{"plugin/tidetable"}, Verdict: smoke.Sound,
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%+v\nwant\n%+v", got, want)
	}
	if none, err := (&Run{Folder: t.TempDir()}).ReadTrace(); err != nil || none.Snapshot != "" {
		t.Errorf("of no journal: %+v %v", none, err)
	}
}

// Each kind of event has a step of its own.
func TestEventsHaveTheirOwnSteps(t *testing.T) {
	if len(kinds) != 12 {
		t.Errorf("%d kinds of events: two share a step", len(kinds))
	}
}
