package smoke

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
	"golang.org/x/net/html"
)

// Columns of a row, cards, pictures of a gallery stand side by side. That they stand one below the
// other now is seen at a glance, and in no text.

// Row is an element with several parts, and on which screens they stand side by side.
type Row struct {
	Name string   `json:"name"`           // its element and classes
	Says string   `json:"says,omitempty"` // a mark of its first words
	Side []string `json:"side,omitempty"` // names of widths
}

const mostRows = 1000

var notRows = cascadia.MustCompile("nav, svg, select, p, h1, h2, h3, h4, h5, h6, table")

// readRows lists the elements with several parts, but for those around the main part: how that
// stands beside others is told with it.
func readRows(facts *Facts, document *goquery.Document, looks []look) {
	around := map[*html.Node]bool{}
	for _, node := range document.FindMatcher(mainMatcher).Parents().Nodes {
		around[node] = true
	}
	document.Find("body *").EachWithBreak(func(_ int, s *goquery.Selection) bool {
		if around[s.Get(0)] || s.Children().Length() < 2 || s.ClosestMatcher(notRows).Length() > 0 {
			return true
		}
		row := Row{Name: elementWithClasses(s.Get(0)), Says: mark(s.Text())}
		for _, look := range looks {
			if sideBySide(s.Get(0), look.of) {
				row.Side = append(row.Side, look.width)
			}
		}
		facts.Rows = append(facts.Rows, row)
		return len(facts.Rows) < mostRows
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

// standing lists the rows that are meant by one of before: those that say the same, or else are
// called the same.
func standing(rows []Row, was Row) []Row {
	same := slices.DeleteFunc(slices.Clone(rows), func(r Row) bool { return r.Says == "" || r.Says != was.Says })
	if len(same) == 0 {
		same = slices.DeleteFunc(slices.Clone(rows), func(r Row) bool { return r.Name != was.Name })
	}
	return same
}

// loseRowsOf finds rows whose parts stand one below the other. Where a browser looked, it tells
// it better.
func loseRowsOf(found *collector, was, now Facts) {
	if len(was.Sights) > 0 && len(now.Sights) > 0 || len(now.Rows) >= mostRows {
		return
	}
	for _, width := range widths {
		var lost []string
		for _, row := range was.Rows {
			if !slices.Contains(row.Side, width.name) {
				continue
			}
			same := standing(now.Rows, row)
			if len(same) > 0 && !slices.ContainsFunc(same, func(r Row) bool { return slices.Contains(r.Side, width.name) }) && !slices.Contains(lost, row.Name) {
				lost = append(lost, row.Name)
			}
		}
		sayStacked(found, width.name, lost)
	}
}

func sayStacked(found *collector, width string, lost []string) {
	if len(lost) > 0 {
		found.lose(Doubtful, "layout", "rows on a "+width, fmt.Sprintf("on a %s, columns are stacked that stood side by side, in %s", width, plural(len(lost), "row")), strings.Join(lost[:min(3, len(lost))], ", "))
	}
}

// loseSeenRows finds rows that the browser laid out side by side, and one below the other now.
func loseSeenRows(found *collector, width string, was, now map[string]int) {
	var lost []string
	for _, says := range slices.Sorted(maps.Keys(was)) {
		if after, stands := now[says]; was[says] >= 2 && stands && after == 1 {
			lost = append(lost, says)
		}
	}
	sayStacked(found, width, lost)
}

// mergeRows keeps the rows that stood side by side in both takes.
func mergeRows(a, b []Row) []Row {
	var kept []Row
	for _, row := range a {
		row.Side = slices.DeleteFunc(slices.Clone(row.Side), func(width string) bool {
			return !slices.ContainsFunc(standing(b, row), func(r Row) bool { return slices.Contains(r.Side, width) })
		})
		if len(row.Side) > 0 {
			kept = append(kept, row)
		}
	}
	return kept
}
