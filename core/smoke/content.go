package smoke

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
	"golang.org/x/net/html"
)

// What a page says comes from the database, and an update of its frame leaves it: words,
// what stands under each heading, the rows of tables.

// Table is one table of a page.
type Table struct {
	Name   string   `json:"name"`           // its id, the first of its classes in the alphabet, or its number
	Within string   `json:"within"`         // the landmark it is in
	Says   []string `json:"says,omitempty"` // its first words
	Rows   int      `json:"rows"`           // with data in them
	// Columns are the cells of its longest row.
	Columns int `json:"columns,omitempty"`
}

// embedded matches what comes from elsewhere: maps, films, players.
const embedded = "iframe[src], video, audio, object[data], embed[src]"

// mostWords bounds how many different words of a page are kept.
const mostWords = 3000

// readContent notes what the page says. Scripts and styles must be gone from the document.
func readContent(facts *Facts, document *goquery.Document) {
	text := mainText(document)
	facts.Words, facts.Prices = words(text), readPrices(text)
	facts.Passages = passages(document)
	readGroups(facts, document)
	facts.Sections = sections(document)
	facts.Embeds = document.Find(embedded).Length()
	first(document.Find("table")).Each(func(i int, s *goquery.Selection) {
		table := Table{Name: nameOf(s, i), Within: within(s), Says: opening(shownText(s.Get(0)))}
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
	if inside := document.Find(landmarks["main part"]); inside.Length() > 0 {
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
		if text := strings.Join(said[:min(len(said), longestPassage)], " "); len(words(text)) >= leastPassage && !slices.Contains(found, text) {
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

// words counts the words of a text, without what numbers are part of: dates and counters
// move by themselves.
func words(text string) map[string]int {
	count := map[string]int{}
	for _, word := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) }) {
		if strings.ContainsFunc(word, unicode.IsDigit) || (len(count) >= mostWords && count[word] == 0) {
			continue
		}
		count[word]++
	}
	return count
}

// sections counts what stands under each heading, up to the next one that is no lower or the
// end of the landmark. What is seen and not read counts as a word.
func sections(document *goquery.Document) map[string]int {
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
			o.add(countText(child.Data))
		case child.Type != html.ElementNode:
		case len(child.Data) == 2 && child.Data[0] == 'h' && child.Data[1] >= '1' && child.Data[1] <= '6':
			level, text := int(child.Data[1]-'1'), readable(goquery.NewDocumentFromNode(child).Text())
			o.close(level)
			o.add(countText(text))
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
				o.add(leastSection)
			}
			o.walk(child)
		}
	}
}

// boundary matches the landmarks: nothing in another one stands under a heading.
var boundary = cascadia.MustCompile(strings.Join(slices.Sorted(maps.Values(landmarks)), ", "))

// nameOf names an element by its id, the first of its classes in the alphabet, or its number.
func nameOf(s *goquery.Selection, number int) string {
	if id := s.AttrOr("id", ""); id != "" {
		return id
	}
	if classes := strings.Fields(s.AttrOr("class", "")); len(classes) > 0 {
		return slices.Min(classes)
	}
	return fmt.Sprintf("%s%d", numbered, number+1)
}

// numbered begins the names of elements that have none.
const numbered = "number "

// leastSection is the number of letters from which on something stood under a heading.
const leastSection = 8

// loseWords finds content that was exchanged or is gone while its frame stands.
func loseWords(found *collector, was, now Facts) {
	loseSections(found, was, now)
	loseRows(found, was, now)
	losePassages(found, was, now)
	if was.Embeds > 0 && now.Embeds == 0 {
		found.add(Doubtful, "images", fmt.Sprintf("what was embedded in the page is gone: %s", plural(was.Embeds, "map, film or player")), "")
	}
	if now.Words == nil || slices.ContainsFunc(*found, func(f Finding) bool { return f.Check == "text" || f.Check == "list" }) {
		return // which says it better
	}
	total, lost := lostLetters(was, now)
	twice := 0
	var gone []string
	for _, word := range slices.Sorted(maps.Keys(was.Words)) {
		letters := utf8.RuneCountInString(word)
		missing := max(0, was.Words[word]-now.Words[word])
		if now.Words[word] >= 2*was.Words[word] {
			twice += letters * was.Words[word]
		}
		if missing > 0 && letters > 3 {
			gone = append(gone, word)
		}
	}
	if total >= 60 && 4*twice >= 3*total {
		found.add(Doubtful, "text", "the page says everything twice", "")
	}
	if total < 60 || 2*lost < total {
		return
	}
	verdict := Doubtful
	if 5*lost > 4*total {
		verdict = Broken
	}
	found.add(verdict, "text", fmt.Sprintf("the page says something else: %d of 100 words in its main part are gone", lost*100/total), strings.Join(gone[:min(6, len(gone))], ", "))
}

// lostLetters counts the letters of the words in the main part, and of those that are gone.
func lostLetters(was, now Facts) (total, lost int) {
	for word, n := range was.Words {
		letters := utf8.RuneCountInString(word)
		total += letters * n
		if !unread(word, now.Words) {
			lost += letters * max(0, n-now.Words[word])
		}
	}
	return total, lost
}

// unread tells of a word that may be one of those that are not kept.
func unread(word string, kept map[string]int) bool { return len(kept) >= mostWords && kept[word] == 0 }

// What an author wrote is missed however long the page is, from so many passages on, or so
// many letters.
const (
	manyPassages = 3
	longPassages = 200
)

// losePassages finds texts of which most words are gone. Words that stand in another passage
// of before are that one's.
func losePassages(found *collector, was, now Facts) {
	if now.Words == nil || hasOwnWords(was) {
		return
	}
	left := maps.Clone(now.Words)
	for _, passage := range both(was.Passages, now.Passages) {
		for word, n := range words(passage) {
			left[word] = max(0, left[word]-n)
		}
	}
	all, lost, whole, begins := 0, 0, 0, ""
	for _, passage := range was.Passages {
		letters, gone := 0, 0
		for word, n := range words(passage) {
			if unread(word, was.Words) || unread(word, now.Words) {
				continue
			}
			letters += n * utf8.RuneCountInString(word)
			if !slices.Contains(now.Passages, passage) {
				gone += max(0, n-left[word]) * utf8.RuneCountInString(word)
			}
		}
		all += letters
		if 2*gone > letters {
			lost, whole = lost+letters, whole+1
			if begins == "" {
				begins = passage
			}
		}
	}
	switch {
	case lost < 30 || slices.ContainsFunc(*found, func(f Finding) bool { return f.Verdict == Broken && (f.Check == "text" || f.Check == "list") }):
	case lost == all:
		found.add(Broken, "text", "the text of the page is gone", readable(begins))
	case 2*lost >= all:
		found.add(Doubtful, "text", fmt.Sprintf("%d of 100 letters of the page's text are gone", lost*100/all), readable(begins))
	case whole >= manyPassages || lost >= longPassages:
		found.add(Doubtful, "text", fmt.Sprintf("%s of the page's text %s gone", plural(whole, "passage"), areOrIs(whole)), readable(begins))
	}
}

// hasOwnWords tells of pages whose words are their theme's: those that answer with an error,
// and a search that found nothing.
func hasOwnWords(f Facts) bool {
	if f.Status >= 400 {
		return true
	}
	at, err := url.Parse(f.Path)
	return err == nil && f.Entries == 0 && slices.ContainsFunc(f.Forms, func(form Form) bool {
		return slices.ContainsFunc(form.Fields, at.Query().Has)
	})
}

func loseSections(found *collector, was, now Facts) {
	for _, heading := range slices.Sorted(maps.Keys(was.Sections)) {
		letters, stands := now.Sections[heading]
		if stands && letters == 0 && was.Sections[heading] >= leastSection {
			found.add(Doubtful, "text", fmt.Sprintf("nothing stands under the heading %q any more", heading), plural(was.Sections[heading], "letter")+" before")
		}
	}
}

// likeTable tells how alike two tables are. One without a name may have had another number.
func likeTable(a, b Table) float64 {
	nameless := strings.HasPrefix(a.Name, numbered) && strings.HasPrefix(b.Name, numbered)
	if a.Within != b.Within || (a.Name != b.Name && !nameless) {
		return 0
	}
	return 0.5 + points(a.Name == b.Name, 1) + 2*share(a.Says, b.Says) + points(a.Rows == b.Rows, 0.5) + points(a.Columns == b.Columns, 0.5)
}

func sameTables(a, b []Table) []int {
	return pairs(len(a), len(b), func(i, j int) float64 { return likeTable(a[i], b[j]) })
}

func loseRows(found *collector, was, now Facts) {
	for i, j := range sameTables(was.Tables, now.Tables) {
		if j < 0 {
			continue
		}
		before, after := was.Tables[i], now.Tables[j]
		if after.Rows > 0 && after.Columns < before.Columns {
			found.lose(Doubtful, "list", before.Name, fmt.Sprintf("the table %q has %s, was %d", before.Name, plural(after.Columns, "column"), before.Columns), "")
		}
		if after.Rows > 0 || before.Rows < 2 {
			continue
		}
		verdict := Doubtful
		if before.Within == "main part" || before.Within == "page" {
			verdict = Broken
		}
		found.lose(verdict, "list", before.Name, fmt.Sprintf("the table %q has no rows any more, was %d", before.Name, before.Rows), "")
	}
}

// mergeContent keeps what stood still.
func mergeContent(a *Facts, b Facts) {
	a.Words, a.Sections = least(a.Words, b.Words), least(a.Sections, b.Sections)
	var tables []Table
	for i, j := range sameTables(a.Tables, b.Tables) {
		if j < 0 {
			continue
		}
		table, other := a.Tables[i], b.Tables[j]
		table.Rows, table.Columns, table.Says = min(table.Rows, other.Rows), min(table.Columns, other.Columns), both(table.Says, other.Says)
		tables = append(tables, table)
	}
	a.Tables, a.Embeds = tables, min(a.Embeds, b.Embeds)
	a.Passages = both(a.Passages, b.Passages)
}

// least keeps what both have, at its lower count.
func least(a, b map[string]int) map[string]int {
	kept := map[string]int{}
	for name, n := range a {
		if m, ok := b[name]; ok {
			kept[name] = min(n, m)
		}
	}
	return kept
}
