package smoke

import (
	"fmt"
	"hash/fnv"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
)

// Cards, pictures of a gallery, answers that unfold, slides: whatever stands there several times
// side by side is a list, whatever elements it is made of. That most of it is gone is missed
// however long the page is.

// Group is some siblings of one kind.
type Group struct {
	Name    string   `json:"name"`    // the element and its classes
	Members []Member `json:"members"` // of which something is known
}

// Member is what one of them is known by: marks of its first words, its heading, its link and
// its picture. One that is there in another form has one of them still.
type Member []string

const (
	leastGroup  = 3
	mostGroups  = 60
	mostMembers = 60
	mostMarks   = 3000
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

func (m *Member) add(marks ...string) {
	for _, one := range marks {
		if one != "" && !slices.Contains(*m, one) {
			*m = append(*m, one)
		}
	}
}

func readMember(s *goquery.Selection) (m Member) {
	m.add(mark(s.Text()), mark(s.FindMatcher(headingParts).First().Text()), mark(s.FindMatcher(linkParts).First().Text()))
	s.FindMatcher(markedParts).EachWithBreak(func(_ int, part *goquery.Selection) bool {
		m.add(mark(part.Text()))
		return len(m) < mostOfMember
	})
	s.FindMatcher(imageParts).AddSelection(s.FilterMatcher(imageParts)).EachWithBreak(func(_ int, image *goquery.Selection) bool {
		m.add(pictureMarks(image)...)
		return len(m) < mostOfMember+3
	})
	return m
}

// readGroups lists the groups of the main part, and the marks of all that is in it.
func readGroups(facts *Facts, document *goquery.Document) {
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
			if one != "" && !seen[one] && len(facts.Marks) < mostMarks {
				seen[one] = true
				facts.Marks = append(facts.Marks, one)
			}
		}
	}
	main.FindMatcher(markedParts).Each(func(_ int, s *goquery.Selection) { note(mark(s.Text())) })
	main.FindMatcher(imageParts).Each(func(_ int, s *goquery.Selection) { note(pictureMarks(s)...) })
}

// groupsIn gathers the children of an element by their kind.
func groupsIn(parent *goquery.Selection) []Group {
	var groups []Group
	parent.ChildrenMatcher(groupedParts).Each(func(_ int, s *goquery.Selection) {
		name := elementWithClasses(s.Get(0))
		i := slices.IndexFunc(groups, func(g Group) bool { return g.Name == name })
		if i < 0 {
			groups = append(groups, Group{Name: name})
			i = len(groups) - 1
		}
		known := func(m Member) bool {
			return slices.ContainsFunc(groups[i].Members, func(other Member) bool { return slices.Equal(m, other) })
		}
		if member := readMember(s); len(member) > 0 && len(groups[i].Members) < mostMembers && !known(member) {
			groups[i].Members = append(groups[i].Members, member)
		}
	})
	return slices.DeleteFunc(groups, func(g Group) bool { return len(g.Members) < leastGroup })
}

func loseGroups(found *collector, was, now Facts) {
	if now.Marks == nil || len(now.Marks) >= mostMarks || hasOwnWords(was) ||
		slices.ContainsFunc(*found, func(f Finding) bool { return slices.Contains([]string{"text", "list", "images"}, f.Check) }) {
		return // which is said already
	}
	stands := counted(now.Marks)
	for _, group := range was.Groups {
		lost := 0
		for _, member := range group.Members {
			if !slices.ContainsFunc(member, func(one string) bool { return stands[one] > 0 }) {
				lost++
			}
		}
		if lost >= 2 && 2*lost >= len(group.Members) {
			found.lose(Doubtful, "list", group.Name, fmt.Sprintf("%d of %d parts side by side (%s) are gone", lost, len(group.Members), group.Name), "")
			return // what is around or in them says it again
		}
	}
}

// mergeGroups keeps the members of which something stood still.
func mergeGroups(groups []Group, marks []string) []Group {
	stands := counted(marks)
	var kept []Group
	for _, group := range groups {
		steady := Group{Name: group.Name}
		for _, member := range group.Members {
			if still := slices.DeleteFunc(slices.Clone(member), func(one string) bool { return stands[one] == 0 }); len(still) > 0 {
				steady.Members = append(steady.Members, still)
			}
		}
		if len(steady.Members) >= leastGroup {
			kept = append(kept, steady)
		}
	}
	return kept
}
