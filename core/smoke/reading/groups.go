package reading

import (
	"hash/fnv"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"

	"wetland/core/smoke"
)

const (
	LeastGroup  = 3
	mostGroups  = 60
	mostMembers = 60
	MostMarks   = 3000
	markWords   = 6 // of a text
	// What one of them is known by, beside its pictures.
	mostOfMember = 8
)

var (
	groupedParts = cascadia.MustCompile("li, div, article, section, figure, details, a, img, picture, dd, button")
	markedParts  = cascadia.MustCompile("li, div, article, section, figure, details, dd, dt, summary, button, p, td, figcaption, span, label, caption, cite, q, blockquote, time, strong, em, b, h1, h2, h3, h4, h5, h6, a")
	headingParts = cascadia.MustCompile("h1, h2, h3, h4, h5, h6, summary")
	linkParts    = cascadia.MustCompile("a")
	notEntries   = cascadia.MustCompile("form, nav, header, footer, aside")
	imageParts   = cascadia.MustCompile("img, source")
)

// mark shortens a text to what it is known by, without numbers and signs, which move by
// themselves. "" is none.
func mark(text string) string {
	said := slices.DeleteFunc(strings.Fields(strings.ToLower(text)), func(word string) bool {
		return strings.ContainsFunc(word, unicode.IsDigit) || !strings.ContainsFunc(word, unicode.IsLetter)
	})
	if len(said) == 0 {
		return ""
	}
	return shortened(strings.Join(said[:min(len(said), markWords)], " "))
}

func shortened(text string) string {
	hash := fnv.New32a()
	_, _ = hash.Write([]byte(text)) // never fails
	return strconv.FormatUint(uint64(hash.Sum32()), 36)
}

// pictureSize is what names of pictures in several sizes end in.
var pictureSize = regexp.MustCompile(`-\d+x\d+(\.\w+)$`)

// pictureMarks are the names of the files that a picture may come from.
func pictureMarks(s *goquery.Selection) (marks []string) {
	for _, source := range pictureSources(s) {
		if !strings.HasPrefix(source, "data:") {
			file, _, _ := strings.Cut(path.Base(source), "?")
			marks = append(marks, shortened(pictureSize.ReplaceAllString(file, "$1")))
		}
	}
	return marks
}

// AddMarks adds those that are not there yet.
func AddMarks(m *smoke.Member, marks ...string) {
	for _, one := range marks {
		if one != "" && !slices.Contains(*m, one) {
			*m = append(*m, one)
		}
	}
}

func readMember(s *goquery.Selection) (m smoke.Member) {
	AddMarks(&m, mark(s.Text()), mark(s.FindMatcher(headingParts).First().Text()), mark(s.FindMatcher(linkParts).First().Text()))
	s.FindMatcher(markedParts).EachWithBreak(func(_ int, part *goquery.Selection) bool {
		AddMarks(&m, mark(part.Text()))
		return len(m) < mostOfMember
	})
	s.FindMatcher(imageParts).AddSelection(s.FilterMatcher(imageParts)).EachWithBreak(func(_ int, image *goquery.Selection) bool {
		AddMarks(&m, pictureMarks(image)...)
		return len(m) < mostOfMember+3
	})
	return m
}

// readGroups lists the groups of the main part, and the marks of all that is in it.
func readGroups(facts *smoke.Facts, document *goquery.Document) {
	main := mainPart(document)
	parents := map[any]bool{}
	main.FindMatcher(groupedParts).EachWithBreak(func(_ int, s *goquery.Selection) bool {
		parent := s.Parent()
		if parents[parent.Get(0)] || s.ClosestMatcher(notEntries).Length() > 0 {
			return true
		}
		parents[parent.Get(0)] = true
		facts.Groups = append(facts.Groups, groupsIn(parent)...)
		return len(facts.Groups) < mostGroups
	})
	seen := map[string]bool{}
	note := func(marks ...string) {
		for _, one := range marks {
			if one != "" && !seen[one] && len(facts.Marks) < MostMarks {
				seen[one] = true
				facts.Marks = append(facts.Marks, one)
			}
		}
	}
	main.FindMatcher(markedParts).Each(func(_ int, s *goquery.Selection) { note(mark(s.Text())) })
	main.FindMatcher(imageParts).Each(func(_ int, s *goquery.Selection) { note(pictureMarks(s)...) })
}

// groupsIn gathers the children of an element by their kind.
func groupsIn(parent *goquery.Selection) []smoke.Group {
	var groups []smoke.Group
	parent.ChildrenMatcher(groupedParts).Each(func(_ int, s *goquery.Selection) {
		name := elementWithClasses(s.Get(0))
		i := slices.IndexFunc(groups, func(g smoke.Group) bool { return g.Name == name })
		if i < 0 {
			groups = append(groups, smoke.Group{Name: name})
			i = len(groups) - 1
		}
		known := func(m smoke.Member) bool {
			return slices.ContainsFunc(groups[i].Members, func(other smoke.Member) bool { return slices.Equal(m, other) })
		}
		if member := readMember(s); len(member) > 0 && len(groups[i].Members) < mostMembers && !known(member) {
			groups[i].Members = append(groups[i].Members, member)
		}
	})
	return slices.DeleteFunc(groups, func(g smoke.Group) bool { return len(g.Members) < LeastGroup })
}
