package smoke

import (
	"fmt"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
)

// Around the landmarks of a page stands what the site's own code puts there: a band above the
// page, a note below it.

// Block is one of these.
type Block struct {
	Name    string `json:"name"` // its element and classes
	Letters int    `json:"letters"`
	Marks   Member `json:"marks"`
}

const (
	leastBlock = 20 // letters
	mostBlocks = 40
)

var (
	anyLandmark = cascadia.MustCompile(landmarks["header"] + ", " + landmarks["navigation"] + ", " + landmarks["main part"] + ", " + landmarks["side column"] + ", " + landmarks["footer"])
	mainMatcher = cascadia.MustCompile(landmarks["main part"])
	dialogs     = cascadia.MustCompile(`[role="dialog"], [aria-modal]`)
)

// readFrame lists the blocks around the landmarks, and the marks of all that stands outside of the
// main part.
func readFrame(facts *Facts, document *goquery.Document) {
	main := document.Find(landmarks["main part"])
	if main.Length() == 0 {
		return // then all of it is taken for the main part
	}
	seen := map[string]bool{}
	document.Find("body").FindMatcher(markedParts).EachWithBreak(func(_ int, s *goquery.Selection) bool {
		if one := mark(s.Text()); one != "" && !seen[one] && s.ClosestMatcher(mainMatcher).Length() == 0 {
			seen[one] = true
			facts.FrameMarks = append(facts.FrameMarks, one)
		}
		return len(facts.FrameMarks) < mostMarks
	})
	var descend func(s *goquery.Selection)
	descend = func(s *goquery.Selection) {
		s.Children().Each(func(_ int, child *goquery.Selection) {
			switch {
			case len(facts.Blocks) >= mostBlocks, child.IsMatcher(anyLandmark), child.IsMatcher(dialogs):
			case child.FindMatcher(anyLandmark).Length() > 0:
				descend(child)
			default:
				facts.noteBlock(child)
			}
		})
	}
	descend(document.Find("body"))
}

func (f *Facts) noteBlock(s *goquery.Selection) {
	block := Block{Name: elementWithClasses(s.Get(0)), Letters: countText(s.Text())}
	block.Marks.add(mark(s.Text()))
	s.FindMatcher(markedParts).EachWithBreak(func(_ int, part *goquery.Selection) bool {
		block.Marks.add(mark(part.Text()))
		return len(block.Marks) < 12
	})
	if block.Letters >= leastBlock && len(block.Marks) > 0 {
		f.Blocks = append(f.Blocks, block)
	}
}

func loseFrame(found *collector, was, now Facts) {
	if now.Marks == nil || len(now.FrameMarks) >= mostMarks || now.Landmarks["main part"] == 0 {
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
			found.lose(Doubtful, "text", block.Name, fmt.Sprintf("a block outside of the main part is gone: %s", block.Name), plural(block.Letters, "letter"))
		}
	}
}

// mergeFrame keeps the blocks of which something stood still.
func mergeFrame(a *Facts, b Facts) {
	a.FrameMarks = both(a.FrameMarks, b.FrameMarks)
	stands := counted(b.FrameMarks)
	var kept []Block
	for _, block := range a.Blocks {
		var steady Member
		for _, one := range block.Marks {
			if stands[one] > 0 {
				steady.add(one)
			}
		}
		if len(steady) > 0 {
			block.Marks = steady
			kept = append(kept, block)
		}
	}
	a.Blocks = kept
}
