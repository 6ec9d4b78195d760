package smoke

import (
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"golang.org/x/net/html"
)

// Part is one landmark of a page, or its main heading, and what style sheets make of it.
type Part struct {
	Name   string   `json:"name"`
	Within string   `json:"within"`
	Says   []string `json:"says,omitempty"` // its first words, by which it is known again
	// Layout is how it arranges what is in it, by the width of the screen; Hidden, at
	// which widths it does not show.
	Layout map[string]string `json:"layout,omitempty"`
	Hidden []string          `json:"hidden,omitempty"`
}

// likePart tells how alike two parts are. Of those that say the same, the one that looks the
// same is meant: a menu for phones often stands beside the one for desktops.
func likePart(a, b Part) float64 {
	if a.Name != b.Name {
		return 0
	}
	looks := 0.0
	for _, width := range widths {
		looks += points(a.Layout[width.name] == b.Layout[width.name] && slices.Contains(a.Hidden, width.name) == slices.Contains(b.Hidden, width.name), 0.5)
	}
	return 0.5 + 4*share(a.Says, b.Says) + points(a.Within == b.Within, 1) + looks
}

func sameParts(a, b []Part) []int {
	return pairs(len(a), len(b), func(i, j int) float64 { return likePart(a[i], b[j]) })
}

// readParts lists the landmarks with what the rules make of them at each width; of holds the
// winning declarations of an element at that width.
func readParts(facts *Facts, document *goquery.Document, looks []look) {
	for _, name := range styled {
		found := document.Find(landmarkSelector(name))
		found.Slice(0, min(mostParts, found.Length())).Each(func(_ int, s *goquery.Selection) {
			part := Part{Name: name, Within: within(s), Says: opening(shownText(s.Get(0))), Layout: map[string]string{}}
			for _, look := range looks {
				part.note(s.Get(0), look)
			}
			facts.Parts = append(facts.Parts, part)
		})
	}
}

// mostParts bounds how many landmarks of one kind are read.
const mostParts = 40

// look is how style sheets show elements on a screen of one width.
type look struct {
	width string
	of    func(*html.Node) map[string]string
	set   map[string]string // custom properties
}

func (p *Part) note(node *html.Node, look look) {
	if hidden(node, look.of) || invisible(node, look.of, look.set) {
		p.Hidden = append(p.Hidden, look.width)
	}
	words := []string{arrangement(look.of(node))}
	if above := node.Parent; above != nil && above.Type == html.ElementNode {
		words = append(words, "in "+arrangement(look.of(above)))
	}
	p.Layout[look.width] = strings.TrimSuffix(strings.Join(words, " "), " in ")
}

// shownText is the text of an element without its scripts and styles.
func shownText(node *html.Node) string {
	var b strings.Builder
	var write func(*html.Node)
	write = func(n *html.Node) {
		for child := range n.ChildNodes() {
			switch {
			case b.Len() > 2000: // enough to know it again
				return
			case child.Type == html.TextNode:
				b.WriteString(child.Data + " ")
			case child.Type == html.ElementNode && !slices.Contains([]string{"script", "style", "noscript", "template"}, child.Data):
				write(child)
			}
		}
	}
	write(node)
	return b.String()
}

// mergeParts keeps the parts that both takes have, and of their layout what stood still.
func mergeParts(a, b []Part) []Part {
	var merged []Part
	for i, j := range sameParts(a, b) {
		if j < 0 {
			continue
		}
		part := a[i]
		part.Says, part.Hidden = both(part.Says, b[j].Says), either(part.Hidden, b[j].Hidden)
		part.Layout = map[string]string{}
		for width, how := range a[i].Layout {
			if b[j].Layout[width] == how {
				part.Layout[width] = how
			}
		}
		merged = append(merged, part)
	}
	return merged
}
