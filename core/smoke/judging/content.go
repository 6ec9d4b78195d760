package judging

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"wetland/core/phrase"
	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

// LoseWords finds content that was exchanged or is gone while its frame stands.
func LoseWords(found *Collector, was, now smoke.Facts) {
	loseSections(found, was, now)
	loseRows(found, was, now)
	losePassages(found, was, now)
	if was.Embeds > 0 && now.Embeds == 0 {
		found.add(smoke.Doubtful, "images", fmt.Sprintf("what was embedded in the page is gone: %s", phrase.Plural(was.Embeds, "map, film or player")), "")
	}
	if now.Words == nil || slices.ContainsFunc(*found, func(f smoke.Finding) bool { return f.Check == "text" || f.Check == "list" }) {
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
		found.add(smoke.Doubtful, "text", "the page says everything twice", "")
	}
	if total < 60 || 2*lost < total {
		return
	}
	verdict := smoke.Doubtful
	if 5*lost > 4*total {
		verdict = smoke.Broken
	}
	found.add(verdict, "text", fmt.Sprintf("the page says something else: %d of 100 words in its main part are gone", lost*100/total), strings.Join(gone[:min(6, len(gone))], ", "))
}

// lostLetters counts the letters of the words in the main part, and of those that are gone.
func lostLetters(was, now smoke.Facts) (total, lost int) {
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
func unread(word string, kept map[string]int) bool {
	return len(kept) >= reading.MostWords && kept[word] == 0
}

// What an author wrote is missed however long the page is, from so many passages on, or so
// many letters.
const (
	manyPassages = 3
	longPassages = 200
)

// losePassages finds texts of which most words are gone. Words that stand in another passage
// of before are that one's.
func losePassages(found *Collector, was, now smoke.Facts) {
	if now.Words == nil || hasOwnWords(was) {
		return
	}
	left := maps.Clone(now.Words)
	for _, passage := range both(was.Passages, now.Passages) {
		for word, n := range reading.Words(passage) {
			left[word] = max(0, left[word]-n)
		}
	}
	all, lost, whole, begins := 0, 0, 0, ""
	for _, passage := range was.Passages {
		letters, gone := 0, 0
		for word, n := range reading.Words(passage) {
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
	case lost < 30 || slices.ContainsFunc(*found, func(f smoke.Finding) bool {
		return f.Verdict == smoke.Broken && (f.Check == "text" || f.Check == "list")
	}):
	case lost == all:
		found.add(smoke.Broken, "text", "the text of the page is gone", reading.Readable(begins))
	case 2*lost >= all:
		found.add(smoke.Doubtful, "text", fmt.Sprintf("%d of 100 letters of the page's text are gone", lost*100/all), reading.Readable(begins))
	case whole >= manyPassages || lost >= longPassages:
		found.add(smoke.Doubtful, "text", fmt.Sprintf("%s of the page's text %s gone", phrase.Plural(whole, "passage"), areOrIs(whole)), reading.Readable(begins))
	}
}

// hasOwnWords tells of pages whose words are their theme's: those that answer with an error,
// and a search that found nothing.
func hasOwnWords(f smoke.Facts) bool {
	if f.Status >= 400 {
		return true
	}
	at, err := url.Parse(f.Path)
	return err == nil && f.Entries == 0 && slices.ContainsFunc(f.Forms, func(form smoke.Form) bool {
		return slices.ContainsFunc(form.Fields, at.Query().Has)
	})
}

func loseSections(found *Collector, was, now smoke.Facts) {
	for _, heading := range slices.Sorted(maps.Keys(was.Sections)) {
		letters, stands := now.Sections[heading]
		if stands && letters == 0 && was.Sections[heading] >= reading.LeastSection {
			found.add(smoke.Doubtful, "text", fmt.Sprintf("nothing stands under the heading %q any more", heading), phrase.Plural(was.Sections[heading], "letter")+" before")
		}
	}
}

// likeTable tells how alike two tables are. One without a name may have had another number.
func likeTable(a, b smoke.Table) float64 {
	nameless := strings.HasPrefix(a.Name, reading.Numbered) && strings.HasPrefix(b.Name, reading.Numbered)
	if a.Within != b.Within || (a.Name != b.Name && !nameless) {
		return 0
	}
	return 0.5 + points(a.Name == b.Name, 1) + 2*share(a.Says, b.Says) + points(a.Rows == b.Rows, 0.5) + points(a.Columns == b.Columns, 0.5)
}

func sameTables(a, b []smoke.Table) []int {
	return pairs(len(a), len(b), func(i, j int) float64 { return likeTable(a[i], b[j]) })
}

func loseRows(found *Collector, was, now smoke.Facts) {
	for i, j := range sameTables(was.Tables, now.Tables) {
		if j < 0 {
			continue
		}
		before, after := was.Tables[i], now.Tables[j]
		if after.Rows > 0 && after.Columns < before.Columns {
			found.lose(smoke.Doubtful, "list", before.Name, fmt.Sprintf("the table %q has %s, was %d", before.Name, phrase.Plural(after.Columns, "column"), before.Columns), "")
		}
		if after.Rows > 0 || before.Rows < 2 {
			continue
		}
		verdict := smoke.Doubtful
		if before.Within == "main part" || before.Within == "page" {
			verdict = smoke.Broken
		}
		found.lose(verdict, "list", before.Name, fmt.Sprintf("the table %q has no rows any more, was %d", before.Name, before.Rows), "")
	}
}

// mergeContent keeps what stood still.
func mergeContent(a *smoke.Facts, b smoke.Facts) {
	a.Words, a.Sections = reading.Least(a.Words, b.Words), reading.Least(a.Sections, b.Sections)
	var tables []smoke.Table
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
