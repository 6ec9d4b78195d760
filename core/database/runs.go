package database

import (
	"context"
	"math"
)

// The rows of a table are cut into short runs, so that a changed row makes little anew, in a store and
// on a line. Where a run ends depends on the row alone, so that an added row shifts no cut; but rows are
// worked through in batches, and the end of a batch is that of a run.
const (
	runSize    = 8 << 10   // bytes, on average
	longestRun = 128 << 10 // bytes, unless one row is longer
	// RunBatch is how many bytes of runs are worked through together.
	RunBatch = 1 << 20
)

// MostOfRuns is how many bytes the runs of a batch have at most, beside those of its last row.
const MostOfRuns = RunBatch + longestRun

// RunCutter cuts the rows of one table into runs. Its zero value begins.
type RunCutter struct{ run, batch int }

// Add takes the next row, by its length as AppendRow encodes it and by its mark (Digest.Add), and tells
// whether a run ends after it, and with it a batch.
func (c *RunCutter) Add(length int, mark uint64) (run, batch bool) {
	c.run, c.batch = c.run+length, c.batch+length
	batch = c.batch >= RunBatch
	run = batch || c.run >= longestRun || endsRun(length, mark)
	if run {
		c.run = 0
	}
	if batch {
		c.batch = 0
	}
	return run, batch
}

// endsRun tells whether a run ends after a row: the longer the row, the likelier, so
// that runs have the same size on average whatever the rows are like.
func endsRun(length int, mark uint64) bool {
	return length >= runSize || mark < math.MaxUint64/runSize*uint64(length)
}

// Known are runs of rows that are at hand here, by the BLAKE3 hash of their bytes.
type Known interface {
	Has(hash [32]byte) bool
	// Rows returns the bytes of a run that Has tells of. They are not changed.
	Rows(ctx context.Context, hash [32]byte) ([]byte, error)
}

// Recaller is a Database on another machine: runs of rows that are known here do not travel.
type Recaller interface {
	Recall(known Known)
}

// Surveyor is a Moment that is read on another machine, and can be surveyed there.
type Surveyor interface {
	// Survey is Survey without a sink.
	Survey(ctx context.Context) ([]Table, error)
}
