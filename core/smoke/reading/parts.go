package reading

import (
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"golang.org/x/net/html"

	"wetland/core/smoke"
)

// readParts lists the landmarks with what the rules make of them at each width; of holds the
// winning declarations of an element at that width.
func readParts(facts *smoke.Facts, document *goquery.Document, looks []look) {
	for _, name := range styled {
		found := document.Find(landmarkSelector(name))
		found.Slice(0, min(mostParts, found.Length())).Each(func(_ int, s *goquery.Selection) {
			part := smoke.Part{Name: name, Within: within(s), Says: opening(shownText(s.Get(0))), Layout: map[string]string{}}
			for _, look := range looks {
				note(&part, s.Get(0), look)
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

func note(p *smoke.Part, node *html.Node, look look) {
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
