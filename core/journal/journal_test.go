package journal

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestJournalSurvivesACutOffLine(t *testing.T) {
	name := filepath.Join(t.TempDir(), "journal.jsonl")
	j, err := Create(name)
	if err != nil {
		t.Fatal(err)
	}
	for _, step := range []string{"begin", "swapping"} {
		if err := j.Write(step, map[string]string{"of": step}); err != nil {
			t.Fatal(err)
		}
	}
	if err := j.Close(); err != nil {
		t.Fatal(err)
	}
	whole, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	for cut := range len(whole) + 1 {
		if err := os.WriteFile(name, whole[:cut], 0o600); err != nil {
			t.Fatal(err)
		}
		entries, err := Read(name)
		if err != nil || len(entries) != strings.Count(string(whole[:cut]), "\n") {
			t.Fatalf("cut after %d bytes: %d entries, %v", cut, len(entries), err)
		}
		// Going on after the crash leaves a journal that can be read again.
		goOn, err := Append(name)
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(goOn.Write("after", nil), goOn.Close()); err != nil {
			t.Fatal(err)
		}
		again, err := Read(name)
		if err != nil || len(again) != len(entries)+1 || again[len(entries)].Step != "after" {
			t.Fatalf("cut after %d bytes, then gone on: %d entries, %v", cut, len(again), err)
		}
	}
	if err := os.WriteFile(name, whole, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Create(name); err == nil {
		t.Error("a journal was written over")
	}
	if j, err = Append(name); err != nil {
		t.Fatal(err)
	}
	if err := j.Write("end", nil); err != nil {
		t.Fatal(err)
	}
	entries, err := Read(name)
	if err != nil || len(entries) != 3 || entries[2].Step != "end" {
		t.Errorf("%v %v", entries, err)
	}
	if err := j.Close(); err != nil {
		t.Error(err)
	}
	if err := os.WriteFile(name, []byte("not JSON\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Read(name); err == nil || !strings.Contains(err.Error(), "damaged in line 1") {
		t.Errorf("a damaged line: %v", err)
	}
}
