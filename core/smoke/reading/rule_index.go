package reading

import (
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/html"
)

// ruleIndex finds the rules that may match an element by the last part of their selectors, so
// that not each of thousands is held against each element.
type ruleIndex struct {
	rules []StyleRule
	byKey map[string][]int
}

func indexRules(rules []StyleRule) ruleIndex {
	index := ruleIndex{rules, map[string][]int{}}
	for i, rule := range rules {
		index.byKey[rule.key] = append(index.byKey[rule.key], i)
	}
	return index
}

// of lists the rules that may match an element, in the order of the style sheets.
func (x ruleIndex) of(node *html.Node) []StyleRule {
	found := slices.Concat(x.byKey[anyElement], x.byKey[node.Data])
	for _, attribute := range node.Attr {
		switch attribute.Key {
		case "id":
			found = append(found, x.byKey["#"+attribute.Val]...)
		case "class":
			for class := range strings.FieldsSeq(attribute.Val) {
				found = append(found, x.byKey["."+class]...)
			}
		}
	}
	slices.Sort(found)
	found = slices.Compact(found)
	rules := make([]StyleRule, len(found))
	for k, i := range found {
		rules[k] = x.rules[i]
	}
	return rules
}

const anyElement = "*"

var (
	nestedParts = regexp.MustCompile(`\([^()]*\)|\[[^\[\]]*\]`)
	lastPart    = regexp.MustCompile(`[^\s>+~]*$`)
	selectorID  = regexp.MustCompile(`#[\w-]+`)
	className   = regexp.MustCompile(`\.[A-Za-z_-][\w-]*`)
	elementName = regexp.MustCompile(`^[A-Za-z][\w-]*`)
)

// withoutNested leaves out what stands in brackets: alternatives, exceptions, attributes.
func withoutNested(selector string) string {
	for {
		shorter := nestedParts.ReplaceAllString(selector, "")
		if shorter == selector {
			return shorter
		}
		selector = shorter
	}
}

// keyOf is what every element that a selector matches has: an id, a class or a name.
func keyOf(selector string) string {
	last := lastPart.FindString(withoutNested(selector))
	if id := selectorID.FindString(last); id != "" {
		return id
	}
	if class := className.FindString(last); class != "" {
		return class
	}
	if name := elementName.FindString(last); name != "" {
		return strings.ToLower(name)
	}
	return anyElement
}

// classesOf lists the classes that an element and those around it must have for a selector.
func classesOf(selector string) []string {
	classes := className.FindAllString(withoutNested(selector), -1)
	for i := range classes {
		classes[i] = classes[i][1:]
	}
	return classes
}
