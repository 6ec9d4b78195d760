package reading

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
	"golang.org/x/net/html"

	"wetland/core/smoke"
)

// embedded matches what comes from elsewhere: maps, films, players.
const embedded = "iframe[src], video, audio, object[data], embed[src]"

// MostWords bounds how many different words of a page are kept.
const MostWords = 3000

// readContent notes what the page says. Scripts and styles must be gone from the document.
func readContent(facts *smoke.Facts, document *goquery.Document) {
	text := mainText(document)
	facts.Words, facts.Prices = Words(text), readPrices(text)
	facts.Passages = passages(document)
	readGroups(facts, document)
	facts.Sections = Sections(document)
	facts.Embeds = document.Find(embedded).Length()
	first(document.Find("table")).Each(func(i int, s *goquery.Selection) {
		table := smoke.Table{Name: nameOf(s, i), Within: within(s), Says: opening(shownText(s.Get(0)))}
		s.Find("tr").Each(func(_ int, row *goquery.Selection) {
			table.Columns = max(table.Columns, row.Find("td, th").Length())
		})
		table.Rows = s.Find("tr:has(td)").Length()
		facts.Tables = append(facts.Tables, table)
	})
}

// mainText is the text of the main part, or of the page without its frame.
func mainText(document *goquery.Document) string {
	var b strings.Builder
	for _, node := range mainPart(document).Nodes {
		writeText(&b, node)
	}
	return b.String()
}

// mainPart is the main part of a page, or all of one that names none.
func mainPart(document *goquery.Document) *goquery.Selection {
	if inside := document.Find(Landmarks["main part"]); inside.Length() > 0 {
		return inside
	}
	return document.Find("body")
}

// Bounds of what is kept of a page's passages. One of fewer words may be a label.
const (
	leastPassage   = 6 // words
	mostPassages   = 200
	longestPassage = 60 // words
)

var (
	passageText = cascadia.MustCompile("p, li, dd, td, blockquote, figcaption, pre, div")
	// A text stands together if nothing of these is in it.
	passageParts = cascadia.MustCompile("p, li, dd, td, th, blockquote, figcaption, pre, h1, h2, h3, h4, h5, h6, div, section, article, main")
	notAuthors   = cascadia.MustCompile("form, nav, header, footer, aside, " + ofComments)
)

// passages lists what a reader reads in the main part: the texts that stand together. What
// belongs to forms, comments and footers of entries says the theme, not the author.
func passages(document *goquery.Document) []string {
	var found []string
	mainPart(document).FindMatcher(passageText).EachWithBreak(func(_ int, s *goquery.Selection) bool {
		if cascadia.Query(s.Get(0), passageParts) != nil || s.ClosestMatcher(notAuthors).Length() > 0 {
			return true
		}
		said := strings.Fields(strings.ToLower(s.Text()))
		if text := strings.Join(said[:min(len(said), longestPassage)], " "); len(Words(text)) >= leastPassage && !slices.Contains(found, text) {
			found = append(found, text)
		}
		return len(found) < mostPassages
	})
	return found
}

// framed are the elements around what a page says.
var framed = []string{"header", "nav", "aside", "footer"}

// writeText writes the words of a node, those of different elements apart.
func writeText(b *strings.Builder, node *html.Node) {
	for child := range node.ChildNodes() {
		switch {
		case child.Type == html.TextNode:
			b.WriteString(child.Data + " ")
		case child.Type == html.ElementNode && !(node.Data == "body" && slices.Contains(framed, child.Data)):
			writeText(b, child)
		}
	}
}

// Words counts the words of a text, without what numbers are part of: dates and counters
// move by themselves.
func Words(text string) map[string]int {
	count := map[string]int{}
	for _, word := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) }) {
		if strings.ContainsFunc(word, unicode.IsDigit) || (len(count) >= MostWords && count[word] == 0) {
			continue
		}
		count[word]++
	}
	return count
}

// Sections counts what stands under each heading, up to the next one that is no lower or the
// end of the landmark. What is seen and not read counts as a word.
func Sections(document *goquery.Document) map[string]int {
	o := &outline{found: map[string]int{}}
	for _, body := range document.Find("body").Nodes {
		o.walk(body)
	}
	return o.found
}

// outline is the headings that are open while a page is read.
type outline struct {
	found map[string]int
	open  [6]string // by level
}

func (o *outline) add(letters int) {
	for _, heading := range o.open {
		if heading != "" {
			o.found[heading] += letters
		}
	}
}

func (o *outline) close(from int) { clear(o.open[from:]) }

func (o *outline) walk(node *html.Node) {
	for child := range node.ChildNodes() {
		switch {
		case child.Type == html.TextNode:
			o.add(CountText(child.Data))
		case child.Type != html.ElementNode:
		case len(child.Data) == 2 && child.Data[0] == 'h' && child.Data[1] >= '1' && child.Data[1] <= '6':
			level, text := int(child.Data[1]-'1'), Readable(goquery.NewDocumentFromNode(child).Text())
			o.close(level)
			o.add(CountText(text))
			if text != "" && !slices.Contains(o.open[:], text) {
				o.open[level] = text
				o.found[text] += 0
			}
		case boundary.Match(child):
			o.close(0)
			o.walk(child)
			o.close(0)
		case child.Data == "article" || child.Data == "section": // a heading in it ends with it
			around := o.open
			o.walk(child)
			o.open = around
		default:
			if slices.Contains([]string{"img", "svg", "video", "audio", "iframe", "canvas", "input", "textarea", "select"}, child.Data) {
				o.add(LeastSection)
			}
			o.walk(child)
		}
	}
}

// boundary matches the landmarks: nothing in another one stands under a heading.
var boundary = cascadia.MustCompile(strings.Join(slices.Sorted(maps.Values(Landmarks)), ", "))

// nameOf names an element by its id, the first of its classes in the alphabet, or its number.
func nameOf(s *goquery.Selection, number int) string {
	if id := s.AttrOr("id", ""); id != "" {
		return id
	}
	if classes := strings.Fields(s.AttrOr("class", "")); len(classes) > 0 {
		return slices.Min(classes)
	}
	return fmt.Sprintf("%s%d", Numbered, number+1)
}

// Numbered begins the names of elements that have none.
const Numbered = "number "

// LeastSection is the number of letters from which on something stood under a heading.
const LeastSection = 8

// Least keeps what both have, at its lower count.
func Least(a, b map[string]int) map[string]int {
	kept := map[string]int{}
	for name, n := range a {
		if m, ok := b[name]; ok {
			kept[name] = min(n, m)
		}
	}
	return kept
}
