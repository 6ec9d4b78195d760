package reading

import (
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
	"golang.org/x/net/html"

	"wetland/core/smoke"
)

const MostRows = 1000

var notRows = cascadia.MustCompile("nav, svg, select, p, h1, h2, h3, h4, h5, h6, table")

// readRows lists the elements with several parts, but for those around the main part: how that
// stands beside others is told with it.
func readRows(facts *smoke.Facts, document *goquery.Document, looks []look) {
	around := map[*html.Node]bool{}
	for _, node := range document.FindMatcher(mainMatcher).Parents().Nodes {
		around[node] = true
	}
	document.Find("body *").EachWithBreak(func(_ int, s *goquery.Selection) bool {
		if around[s.Get(0)] || s.Children().Length() < 2 || s.ClosestMatcher(notRows).Length() > 0 {
			return true
		}
		row := smoke.Row{Name: elementWithClasses(s.Get(0)), Says: mark(s.Text())}
		for _, look := range looks {
			if sideBySide(s.Get(0), look.of) {
				row.Side = append(row.Side, look.width)
			}
		}
		facts.Rows = append(facts.Rows, row)
		return len(facts.Rows) < MostRows
	})
}

// sideBySide tells whether style sheets put the parts of an element beside each other.
func sideBySide(node *html.Node, of func(*html.Node) map[string]string) bool {
	values := of(node)
	switch display := values["display"]; {
	case strings.Contains(display, "grid"):
		columns := values["grid-template-columns"] + " " + values["grid-template"]
		return strings.Contains(columns, "auto-fi") || strings.HasPrefix(values["grid-auto-flow"], "column") || tracks(columns) > 1
	case strings.Contains(display, "flex"):
		return !strings.HasPrefix(values["flex-direction"], "column")
	}
	if textColumns(values) > 1 {
		return true
	}
	beside := 0
	for child := range node.ChildNodes() {
		if child.Type != html.ElementNode || !slices.Contains([]string{"div", "li", "section", "article", "figure", "aside"}, child.Data) {
			continue
		}
		if part := of(child); part["float"] == "left" || part["float"] == "right" || part["display"] == "inline-block" || part["display"] == "table-cell" {
			beside++
		}
	}
	return beside >= 2
}

// Standing lists the rows that are meant by one of before: those that say the same, or else are
// called the same.
func Standing(rows []smoke.Row, was smoke.Row) []smoke.Row {
	same := slices.DeleteFunc(slices.Clone(rows), func(r smoke.Row) bool { return r.Says == "" || r.Says != was.Says })
	if len(same) == 0 {
		same = slices.DeleteFunc(slices.Clone(rows), func(r smoke.Row) bool { return r.Name != was.Name })
	}
	return same
}
