// Package advice is what a person can do next, as data: whoever shows it knows how the program is
// told to do so. Begin reading at Step.
package advice

import (
	"encoding/json"
	"strings"
)

// Operation is something that Wetland does.
type Operation string

// The operations that are advised, with what their Command's With is.
const (
	Accept           Operation = "accept what a run found"                 // the run
	AddPage          Operation = "add a page"                              // nothing
	AdoptSite        Operation = "adopt a site"                            // its root
	ExaminePicked    Operation = "examine one of a bundle"                 // the packages, then the folder
	ExamineDiff      Operation = "show how a file changes"                 // the package, then the file
	ListPages        Operation = "list the pages"                          // nothing
	ListShelf        Operation = "list the shelf"                          // nothing
	ListSnapshots    Operation = "list the snapshots"                      // nothing
	LookAgain        Operation = "look at the pages"                       // nothing
	Moved            Operation = "take note that a site moved"             // its root, or nothing
	MovedSurely      Operation = "insist that a site moved"                // its root
	RecordPages      Operation = "record the pages"                        // nothing
	Recover          Operation = "recover"                                 // nothing
	RecoverBack      Operation = "put undecided rows back"                 // nothing
	RecoverKeep      Operation = "keep undecided rows as they are"         // nothing
	Rehearse         Operation = "rehearse"                                // the packages
	Restore          Operation = "restore a snapshot"                      // the snapshot
	RestoreElsewhere Operation = "restore into another folder"             // the snapshot
	RestoreForeign   Operation = "restore to other folders"                // the snapshot
	RestoreTables    Operation = "restore the tables of a snapshot"        // the snapshot
	SealStore        Operation = "seal the store"                          // where its secret is
	Shelve           Operation = "put packages on the shelf"               // the packages, or nothing
	TakeSnapshot     Operation = "take a snapshot"                         // nothing
	TakeBroken       Operation = "restore a version with its broken pages" // FOLDER@VERSION
	Tidy             Operation = "tidy"                                    // nothing
	Update           Operation = "update"                                  // the packages
	UpdateBroken     Operation = "update to an older, broken version"      // the package
	UpdateAll        Operation = "update all"                              // nothing
	UpdatePicked     Operation = "update with one of a bundle"             // the package, then the folder
)

// Command is one operation and what it is done to.
type Command struct {
	Do   Operation `json:"do"`
	With []string  `json:"with,omitempty"`
	Line string    `json:"line,omitempty"` // how a person types it, where whoever shows it filled that in
}

// Step is one thing to do: what a person does, something that Wetland does, or a line for the shell.
type Step struct {
	Say     string   `json:"say,omitempty"` // what a person does; before a command, what leads to it
	Command *Command `json:"command,omitempty"`
	Shell   string   `json:"shell,omitempty"` // to be copied as it is
	Does    string   `json:"does,omitempty"`  // what the command does
}

// Do advises what a person does.
func Do(say string) Step { return Step{Say: say} }

// Run advises an operation, and says what it does.
func Run(does string, do Operation, with ...string) Step {
	return Step{Command: &Command{Do: do, With: with}, Does: does}
}

// Lead advises an operation by a sentence that ends with it.
func Lead(say string, do Operation, with ...string) Step {
	return Step{Say: say, Command: &Command{Do: do, With: with}}
}

// Steps is what a person does, as steps; of nothing there are none.
func Steps(say string) []Step {
	if say == "" {
		return nil
	}
	return []Step{Do(say)}
}

// Advised is an error with what to do about it.
type Advised struct {
	Err  error
	Step Step
}

// With adds to an error what to do about it.
func With(err error, step Step) error { return &Advised{err, step} }

// Error is that of the error alone.
func (a *Advised) Error() string { return a.Err.Error() }

// Unwrap is the error.
func (a *Advised) Unwrap() error { return a.Err }

// Of collects the advice in an error and in those that it wraps.
func Of(err error) (steps []Step) {
	if advised, ok := err.(*Advised); ok {
		steps = append(steps, advised.Step)
	}
	switch wraps := err.(type) {
	case interface{ Unwrap() error }:
		steps = append(steps, Of(wraps.Unwrap())...)
	case interface{ Unwrap() []error }:
		for _, one := range wraps.Unwrap() {
			steps = append(steps, Of(one)...)
		}
	}
	return steps
}

// UnmarshalJSON reads a step, and the line of text that older records have in its place.
func (s *Step) UnmarshalJSON(text []byte) error {
	if strings.HasPrefix(string(text), `"`) {
		*s = Step{}
		return json.Unmarshal(text, &s.Say)
	}
	type plain Step
	return json.Unmarshal(text, (*plain)(s))
}
