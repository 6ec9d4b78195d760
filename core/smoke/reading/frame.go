package reading

import (
	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"

	"wetland/core/smoke"
)

const (
	LeastBlock = 20 // letters
	mostBlocks = 40
)

var (
	anyLandmark = cascadia.MustCompile(Landmarks["header"] + ", " + Landmarks["navigation"] + ", " + Landmarks["main part"] + ", " + Landmarks["side column"] + ", " + Landmarks["footer"])
	mainMatcher = cascadia.MustCompile(Landmarks["main part"])
	dialogs     = cascadia.MustCompile(`[role="dialog"], [aria-modal]`)
)

// readFrame lists the blocks around the landmarks, and the marks of all that stands outside of the
// main part.
func readFrame(facts *smoke.Facts, document *goquery.Document) {
	main := document.Find(Landmarks["main part"])
	if main.Length() == 0 {
		return // then all of it is taken for the main part
	}
	seen := map[string]bool{}
	document.Find("body").FindMatcher(markedParts).EachWithBreak(func(_ int, s *goquery.Selection) bool {
		if one := mark(s.Text()); one != "" && !seen[one] && s.ClosestMatcher(mainMatcher).Length() == 0 {
			seen[one] = true
			facts.FrameMarks = append(facts.FrameMarks, one)
		}
		return len(facts.FrameMarks) < MostMarks
	})
	var descend func(s *goquery.Selection)
	descend = func(s *goquery.Selection) {
		s.Children().Each(func(_ int, child *goquery.Selection) {
			switch {
			case len(facts.Blocks) >= mostBlocks, child.IsMatcher(anyLandmark), child.IsMatcher(dialogs):
			case child.FindMatcher(anyLandmark).Length() > 0:
				descend(child)
			default:
				noteBlock(facts, child)
			}
		})
	}
	descend(document.Find("body"))
}

func noteBlock(f *smoke.Facts, s *goquery.Selection) {
	block := smoke.Block{Name: elementWithClasses(s.Get(0)), Letters: CountText(s.Text())}
	AddMarks(&block.Marks, mark(s.Text()))
	s.FindMatcher(markedParts).EachWithBreak(func(_ int, part *goquery.Selection) bool {
		AddMarks(&block.Marks, mark(part.Text()))
		return len(block.Marks) < 12
	})
	if block.Letters >= LeastBlock && len(block.Marks) > 0 {
		f.Blocks = append(f.Blocks, block)
	}
}
