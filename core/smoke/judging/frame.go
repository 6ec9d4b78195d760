package judging

import (
	"fmt"

	"wetland/core/phrase"
	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

func loseFrame(found *Collector, was, now smoke.Facts) {
	if now.Marks == nil || len(now.FrameMarks) >= reading.MostMarks || now.Landmarks["main part"] == 0 {
		return
	}
	stands := counted(append(append([]string{}, now.Marks...), now.FrameMarks...))
	for _, block := range was.Blocks {
		left := false
		for _, one := range block.Marks {
			left = left || stands[one] > 0
		}
		for _, other := range now.Blocks {
			left = left || other.Name == block.Name && 2*other.Letters >= block.Letters // in other words
		}
		if !left {
			found.lose(smoke.Doubtful, "text", block.Name, fmt.Sprintf("a block outside of the main part is gone: %s", block.Name), phrase.Plural(block.Letters, "letter"))
		}
	}
}

// mergeFrame keeps the blocks of which something stood still.
func mergeFrame(a *smoke.Facts, b smoke.Facts) {
	a.FrameMarks = both(a.FrameMarks, b.FrameMarks)
	stands := counted(b.FrameMarks)
	var kept []smoke.Block
	for _, block := range a.Blocks {
		var steady smoke.Member
		for _, one := range block.Marks {
			if stands[one] > 0 {
				reading.AddMarks(&steady, one)
			}
		}
		if len(steady) > 0 {
			block.Marks = steady
			kept = append(kept, block)
		}
	}
	a.Blocks = kept
}
