package judging

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"wetland/core/phrase"
	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

// vital landmarks are those without which a page is of no use to visitors.
var vital = []string{"page", "main part", "main heading", "header"}

// loseStyle finds what the style sheets now make of the page.
func loseStyle(found *Collector, was, now smoke.Facts) {
	loseParts(found, was, now)
	switch {
	case was.Rules >= 10 && now.Rules*5 < was.Rules:
		found.add(smoke.Broken, "style sheet", fmt.Sprintf("the style sheets lost most of their rules: %d, was %d", now.Rules, was.Rules), "")
	case was.Rules >= 10 && now.Rules*2 < was.Rules:
		found.add(smoke.Doubtful, "style sheet", fmt.Sprintf("the style sheets lost many rules: %d, was %d", now.Rules, was.Rules), "")
	}
	if before, after := turned(was), turned(now); now.RightToLeft && after < before {
		found.add(smoke.Doubtful, "style sheet", fmt.Sprintf("its text runs from right to left, and it lost %d of its %s for that direction", before-after, phrase.Plural(before, "style sheet")), "")
	}
	loseSettings(found, was, now)
	loseFonts(found, was, now)
	if was.FitsPhones && !now.FitsPhones {
		found.add(smoke.Doubtful, "layout", "the page does not ask for the width of the screen any more: phones show it small, as on a desktop", "")
	}
}

// turnedSheet matches the names that sheets for the other direction have by custom.
var turnedSheet = regexp.MustCompile(`(?:^|[-_./])rtl(?:\.min)?\.css$`)

// turned counts the style sheets of a page that are for text from right to left.
func turned(f smoke.Facts) (n int) {
	for _, asset := range f.Assets {
		if asset.Kind == "style sheet" && turnedSheet.MatchString(asset.Path) {
			n++
		}
	}
	return n
}

// loseParts finds landmarks that do not show any more, or are laid out in another way. Where
// a browser looked, it tells both better.
func loseParts(found *Collector, was, now smoke.Facts) {
	if len(was.Sights) > 0 && len(now.Sights) > 0 {
		return
	}
	for i, j := range sameParts(was.Parts, now.Parts) {
		if j >= 0 {
			loseShow(found, was.Parts[i], now.Parts[j])
			loseArrangement(found, was.Parts[i], now.Parts[j])
		}
	}
}

func loseShow(found *Collector, was, now smoke.Part) {
	for _, width := range now.Hidden {
		if _, stood := was.Layout[width]; !stood || slices.Contains(was.Hidden, width) {
			continue
		}
		verdict := smoke.Doubtful
		if slices.Contains(vital, now.Name) {
			verdict = smoke.Broken
		}
		found.lose(verdict, "hidden", now.Name, fmt.Sprintf("the %s does not show any more on a %s: a style sheet hides it", now.Name, width), "")
	}
}

// loseSettings finds what style sheets use and nothing sets any more: browsers drop every
// line with it.
func loseSettings(found *Collector, was, now smoke.Facts) {
	lost := slices.DeleteFunc(slices.Clone(now.Unset), func(s string) bool { return !slices.Contains(was.Settings, s) })
	if len(lost) == 0 {
		return
	}
	found.add(smoke.Doubtful, "style sheet", fmt.Sprintf("%s that the style sheets use %s not set any more", phrase.Plural(len(lost), "value"), areOrIs(len(lost))), strings.Join(lost[:min(4, len(lost))], ", "))
}

// loseFonts finds pages that are no more set in letters of their own: where no style sheet
// says a font, browsers take one of theirs.
func loseFonts(found *Collector, was, now smoke.Facts) {
	if was.HasFont && !now.HasFont {
		found.add(smoke.Doubtful, "style sheet", "no style sheet says any more in which letters the page is set: browsers take their own", "")
	}
}

// loseArrangement finds a landmark that is laid out in another way.
func loseArrangement(found *Collector, was, now smoke.Part) {
	screens := map[string][]string{}
	for _, width := range smoke.Widths {
		before, stood := was.Layout[width.Name]
		after, stands := now.Layout[width.Name]
		if stood && stands && before != after && !slices.Contains(now.Hidden, width.Name) {
			words := orPlain(after) + ", was " + orPlain(before)
			screens[words] = append(screens[words], width.Name)
		}
	}
	for _, words := range slices.Sorted(maps.Keys(screens)) {
		found.lose(smoke.Doubtful, "layout", now.Name, fmt.Sprintf("the %s is laid out in another way on a %s: %s", now.Name, strings.Join(screens[words], " and a "), words), "")
	}
}

func orPlain(arrangement string) string {
	if arrangement == "" {
		return "one thing below the other"
	}
	return strings.Replace(arrangement, "in grid", "in a grid", 1) // as baselines have it
}

// loseMeta finds what search engines and screen readers lose.
func loseMeta(found *Collector, was, now smoke.Facts) {
	if was.Language != "" && was.Language != now.Language {
		verdict := smoke.Doubtful
		if gone := goneHeadings(was, now); 2*len(gone) >= len(was.Headings) && len(gone) > 0 {
			verdict = smoke.Broken
		}
		found.lose(verdict, "language", "language", fmt.Sprintf("the page says that its language is %q, was %q", now.Language, was.Language), "")
	}
	if now.RightToLeft != was.RightToLeft {
		found.add(smoke.Doubtful, "language", "its text runs in the other direction", "")
	}
	if now.Canonical != was.Canonical && now.Canonical != "" {
		verdict := smoke.Doubtful
		if smoke.HostOf(now.Canonical) != smoke.HostOf(was.Canonical) && was.Canonical != "" {
			verdict = smoke.Broken
		}
		found.lose(verdict, "canonical", "canonical address", "search engines are told that the page is another one: "+now.Canonical, "")
	}
	for _, kind := range was.Data {
		if !slices.Contains(now.Data, kind) {
			found.add(smoke.Doubtful, "structured data", "the structured data of the kind "+kind+" is gone", "")
		}
	}
	if now.Damaged > was.Damaged+2 {
		found.add(smoke.Broken, "letters", fmt.Sprintf("%d letters came through the wrong character set", now.Damaged), "")
	}
	if len(now.Mixed) > len(was.Mixed) {
		found.add(smoke.Doubtful, "mixed content", fmt.Sprintf("%s over plain HTTP, which browsers block", phrase.Plural(len(now.Mixed), "file")), now.Mixed[0])
	}
}

// loseScripts finds scripts that browsers cannot read any more.
func loseScripts(found *Collector, now smoke.Facts) {
	for _, script := range now.Scripts {
		found.add(smoke.Doubtful, "script", "a script cannot be read: nothing that it does works", script)
	}
	for _, asset := range now.Assets {
		if asset.Syntax != "" {
			found.add(smoke.Doubtful, "script", fmt.Sprintf("the script %s cannot be read: nothing that it does works", asset.Path), asset.Syntax)
		}
	}
}

// loseInside finds landmarks that are still there, but as good as empty.
func loseInside(found *Collector, was, now smoke.Facts) {
	for _, name := range []string{"header", "navigation", "main part", "side column", "footer"} {
		before, after := was.Inside[name], now.Inside[name]
		if now.Landmarks[name] > 0 && before >= 20 && after*5 < before {
			found.lose(smoke.Doubtful, "text", name, fmt.Sprintf("the %s is nearly empty: %s, was %d", name, phrase.Plural(after, "letter"), before), "")
		}
	}
}

// Slower than before counts from here on: a person notices, a busy machine does not
// do it by itself.
const (
	slowBy    = 3 * time.Second
	slowTimes = 4
)

// Slower tells of a page that takes much longer than before.
func Slower(was, now time.Duration) bool { return was > 0 && now > slowTimes*was+slowBy }

func loseSpeed(found *Collector, was, now smoke.Facts) {
	if Slower(was.Took, now.Took) {
		found.lose(smoke.Doubtful, "speed", "speed", fmt.Sprintf("it takes %s, was %s", now.Took.Round(100*time.Millisecond), was.Took.Round(100*time.Millisecond)), "")
	}
}

// goneHeadings lists the headings that have no counterpart: a mended word is none.
func goneHeadings(was, now smoke.Facts) []string {
	if len(now.Headings) >= reading.MostOfAKind {
		return nil // there may be more than were read
	}
	// Most are as they were: only the rest is compared one with one.
	gone, fresh := minus(was.Headings, now.Headings), minus(now.Headings, was.Headings)
	words := func(heading string) string {
		_, text, _ := strings.Cut(heading, " ")
		return text
	}
	partners := pairs(len(gone), len(fresh), func(i, j int) float64 {
		a, b := words(gone[i]), words(fresh[j])
		return points(a == b, 2) + points(alike(a, b), 1)
	})
	var lost []string
	for i, j := range partners {
		if j < 0 {
			lost = append(lost, gone[i])
		}
	}
	return lost
}

// mended tells of two lines that differ by a letter or two.
func mended(a, b string) bool {
	return a == b || (min(len(a), len(b)) >= 4 && distance([]rune(a), []rune(b)) <= 2)
}

// alike tells of two lines that differ by a letter or two, or by a few of many words.
func alike(a, b string) bool {
	left, right := strings.Fields(strings.ToLower(a)), strings.Fields(strings.ToLower(b))
	common := len(both(left, right))
	if longer := max(len(left), len(right)); longer > 1 && 2*common >= longer {
		return true
	}
	return mended(a, b)
}

// distance is how many letters must be changed, added or taken away (Levenshtein).
func distance(a, b []rune) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i, x := range a {
		before := row[0]
		row[0] = i + 1
		for j, y := range b {
			cost := before
			if x != y {
				cost = 1 + min(before, row[j], row[j+1])
			}
			before, row[j+1] = row[j+1], cost
		}
	}
	return row[len(b)]
}
