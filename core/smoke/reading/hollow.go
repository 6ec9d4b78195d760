package reading

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"golang.org/x/net/html"

	"wetland/core/smoke"
)

// An element that stands where it stood, and has nothing in it any more, was left empty by
// mistake: the author's name of each comment, the slides of a slider, the times in a table.

// mostKinds bounds how many kinds of elements of a page are counted.
const mostKinds = 800

// showsSomething are elements that show without a text.
var showsSomething = []string{"img", "svg", "video", "audio", "canvas", "iframe", "object", "embed", "input", "select", "textarea", "picture", "meter", "progress"}

// readFilled counts the elements of each kind in which something is, and those that are empty.
// A kind is an element with its classes, a column of a table, or an element without classes in one of a kind.
func readFilled(facts *smoke.Facts, document *goquery.Document) {
	facts.Filled, facts.Hollow = map[string]int{}, map[string]int{}
	var count func(node *html.Node, around string) (filled bool)
	count = func(node *html.Node, around string) bool {
		kind := kindOfElement(node, around)
		filled := slices.Contains(showsSomething, node.Data)
		for child := range node.ChildNodes() {
			switch child.Type {
			case html.TextNode:
				filled = filled || CountText(child.Data) > 0
			case html.ElementNode:
				filled = count(child, kind) || filled
			}
		}
		list := facts.Hollow
		if filled {
			list = facts.Filled
		}
		if _, known := list[kind]; kind != "" && (known || len(list) < mostKinds) {
			list[kind]++
		}
		return filled
	}
	for _, body := range document.Find("body").Nodes {
		count(body, "")
	}
}

// kindOfElement names an element so that the same one is known again; "" is one that is not.
func kindOfElement(node *html.Node, around string) string {
	if name := elementWithClasses(node); name != node.Data {
		return name
	}
	switch {
	case node.Data == "td" || node.Data == "th":
		column := 1
		for before := node.PrevSibling; before != nil; before = before.PrevSibling {
			if before.Type == html.ElementNode {
				column++
			}
		}
		return fmt.Sprintf("%s %s %d", around, node.Data, column)
	case slices.Contains([]string{"tbody", "thead", "tfoot", "tr"}, node.Data):
		return around
	case around != "" && !strings.Contains(around, ">"):
		return around + " > " + node.Data
	}
	return ""
}

// elementWithClasses writes an element as a selector, such as "div.card.wide".
func elementWithClasses(node *html.Node) string {
	return strings.Join(append([]string{node.Data}, classNames(node)...), ".")
}

// classNames are the classes of an element in the order of the alphabet, without those that a
// number tells apart.
func classNames(node *html.Node) []string {
	for _, attribute := range node.Attr {
		if attribute.Key == "class" {
			classes := slices.DeleteFunc(strings.Fields(attribute.Val), func(class string) bool { return strings.ContainsAny(class, "0123456789") })
			slices.Sort(classes)
			return classes
		}
	}
	return nil
}

// Most keeps what either has, at its higher count.
func Most(a, b map[string]int) map[string]int {
	kept := maps.Clone(a)
	for name, n := range b {
		kept[name] = max(kept[name], n)
	}
	return kept
}
