// Package progress is how long work tells what it is doing, without knowing who
// listens.
package progress

// Mark says how a step ended.
type Mark string

// The marks of steps.
const (
	Good  Mark = "good"
	Bad   Mark = "bad"
	Doubt Mark = "doubt"
	Note  Mark = "note"
)

// Reporter is told of the steps of a piece of work, one after the other. Advance
// may be called from several goroutines.
type Reporter interface {
	// Begin starts a step. total is how much Advance will count up to, in unit;
	// 0 if nobody knows.
	Begin(step string, total int64, unit string)
	Advance(n int64)
	// End ends the step with what came of it.
	End(mark Mark, step, detail string)
}

// Silent listens to nothing.
type Silent struct{}

// Begin does nothing.
func (Silent) Begin(string, int64, string) {}

// Advance does nothing.
func (Silent) Advance(int64) {}

// End does nothing.
func (Silent) End(Mark, string, string) {}
