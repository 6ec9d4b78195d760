package reading

import (
	"bytes"
	"fmt"
	"io"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
	"golang.org/x/net/html"

	"wetland/core/phrase"
	"wetland/core/smoke"
)

// StyleRule is one selector with its declarations.
type StyleRule struct {
	selector     cascadia.Sel
	declarations []declaration
	media        []string // conditions around it, outermost first
	key          string   // what an element must have: an id, a class or a name
}

type declaration struct {
	name, value string
	important   bool
}

// layoutProperties are those that decide where things are and whether they show.
var layoutProperties = []string{"display", "visibility", "opacity", "float", "position", "flex-direction", "grid-template-columns", "grid-template-areas", "grid-template", "column-count", "grid-auto-flow", "font-size", "content-visibility",
	"overflow", "overflow-x", "overflow-y", "width", "max-width", "height", "max-height", "left", "right", "top", "text-indent", "transform", "scale", "clip-path", "font", "font-family", "color", "background", "background-color"}

// longestSelector bounds what is read of one selector, in bytes: reading nested ones recurses.
const longestSelector = 2000

// ParseSheet returns the rules of a style sheet that say something about layout, how many rules
// it has at all, and of each selector with classes which these are.
func ParseSheet(text []byte) (rules []StyleRule, count int, classes [][]string) {
	input := parse.NewInputBytes(slices.Clone(text))
	parser := css.NewParser(input, false)
	var media []string
	var selectors []string
	var declarations []declaration
	for {
		grammar, _, data := parser.Next()
		switch grammar {
		case css.ErrorGrammar:
			// To tell of an error, the parser counts lines from the beginning: it is only asked at
			// the end.
			if input.Err() == io.EOF && parser.Err() == io.EOF {
				return rules, count, classes
			}
			// What is no CSS is skipped, as browsers do.
		case css.BeginAtRuleGrammar:
			media = append(media, string(data)+" "+joined(parser.Values()))
		case css.EndAtRuleGrammar:
			if len(media) > 0 {
				media = media[:len(media)-1]
			}
		case css.QualifiedRuleGrammar:
			selectors = append(selectors, selectorList(parser.Values())...)
		case css.BeginRulesetGrammar:
			selectors = append(selectors, selectorList(parser.Values())...)
			declarations = nil
		case css.DeclarationGrammar:
			if name := strings.ToLower(string(data)); slices.Contains(layoutProperties, name) {
				value, important := strings.CutSuffix(strings.ReplaceAll(joined(parser.Values()), " ", " "), "!important")
				declarations = append(declarations, declaration{name, strings.ToLower(strings.TrimSpace(value)), important})
			}
		case css.EndRulesetGrammar:
			count++
			selectors = slices.DeleteFunc(selectors, func(text string) bool { return len(text) > longestSelector })
			for _, text := range selectors {
				if needed := classesOf(text); len(needed) > 0 {
					classes = append(classes, needed)
				}
			}
			if len(declarations) > 0 {
				for _, text := range selectors {
					// States and pseudo-elements cannot be parsed: they are not how a page stands.
					if selector, err := cascadia.Parse(text); err == nil && selector.PseudoElement() == "" {
						rules = append(rules, StyleRule{selector, declarations, slices.Clone(media), keyOf(text)})
					}
				}
			}
			selectors = nil
		}
	}
}

// selectorList splits a list of selectors at its commas: one that cannot be parsed must not
// take the others with it.
func selectorList(tokens []css.Token) (list []string) {
	depth, start := 0, 0
	for i, token := range tokens {
		switch token.TokenType {
		case css.LeftParenthesisToken, css.FunctionToken, css.LeftBracketToken:
			depth++
		case css.RightParenthesisToken, css.RightBracketToken:
			depth--
		case css.CommaToken:
			if depth == 0 {
				list = append(list, joined(tokens[start:i]))
				start = i + 1
			}
		}
	}
	return append(list, joined(tokens[start:]))
}

func joined(tokens []css.Token) string {
	var b strings.Builder
	for _, token := range tokens {
		b.Write(token.Data)
	}
	return strings.TrimSpace(b.String())
}

var widthCondition = regexp.MustCompile(`(?i)\(\s*(min|max)-width\s*:\s*([\d.]+)(px|em|rem)\s*\)`)

// applies tells whether a rule counts on a screen of this width.
func (r StyleRule) applies(pixels float64) bool {
	for _, condition := range r.media {
		name, query, _ := strings.Cut(condition, " ")
		switch {
		case name == "@supports", name == "@layer":
			continue
		case name != "@media":
			return false
		}
		if !slices.ContainsFunc(strings.Split(query, ","), func(one string) bool { return screenMatches(one, pixels) }) {
			return false
		}
	}
	return true
}

func screenMatches(query string, pixels float64) bool {
	lower := strings.ToLower(query)
	for _, other := range []string{"print", "speech", "prefers-", "hover", "pointer", "not ", "orientation", "resolution", "forced-colors"} {
		if strings.Contains(lower, other) {
			return false
		}
	}
	for _, bound := range widthCondition.FindAllStringSubmatch(query, -1) {
		limit, err := strconv.ParseFloat(bound[2], 64)
		if err != nil {
			return false
		}
		if bound[3] != "px" {
			limit *= 16 // the size of a letter that browsers start with
		}
		if (strings.EqualFold(bound[1], "min") && pixels < limit) || (strings.EqualFold(bound[1], "max") && pixels > limit) {
			return false
		}
	}
	return true
}

// winner is the declaration of a property that wins so far.
type winner struct {
	value       string
	important   bool
	specificity cascadia.Specificity
}

// computed returns the winning layout declarations of an element.
func computed(node *html.Node, rules ruleIndex, pixels float64) map[string]string {
	won := map[string]winner{}
	for _, rule := range rules.of(node) {
		if !rule.applies(pixels) || !rule.selector.Match(node) {
			continue
		}
		for _, d := range rule.declarations {
			before, known := won[d.name]
			if known && (before.important && !d.important || before.important == d.important && rule.selector.Specificity().Less(before.specificity)) {
				continue
			}
			won[d.name] = winner{d.value, d.important, rule.selector.Specificity()}
		}
	}
	values := map[string]string{}
	for name, w := range won {
		values[name] = w.value
	}
	for _, attribute := range node.Attr {
		if attribute.Key != "style" {
			continue
		}
		for one := range strings.SplitSeq(attribute.Val, ";") {
			name, value, ok := strings.Cut(one, ":")
			name = strings.ToLower(strings.TrimSpace(name))
			if ok && slices.Contains(layoutProperties, name) && !won[name].important {
				values[name] = strings.ToLower(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(value), "!important")))
			}
		}
	}
	if slices.ContainsFunc(node.Attr, func(a html.Attribute) bool { return a.Key == "hidden" }) && values["display"] == "" {
		values["display"] = "none"
	}
	return values
}

// hides tells whether these declarations keep an element from being seen.
func hides(values map[string]string) bool {
	opacity, err := strconv.ParseFloat(values["opacity"], 64)
	return outOfSight(values) || values["display"] == "none" || values["visibility"] == "hidden" || values["visibility"] == "collapse" ||
		values["content-visibility"] == "hidden" || (err == nil && opacity < 0.01) || zeroSize.MatchString(values["font-size"])
}

// outOfSight tells of an element that has no extent, or is moved or cut away.
func outOfSight(values map[string]string) bool {
	clips := strings.HasPrefix(values["overflow"], "hidden") || strings.HasPrefix(values["overflow"], "clip") || values["overflow-y"] == "hidden" || values["overflow-x"] == "hidden"
	for _, extent := range []string{"height", "max-height", "width", "max-width"} {
		if clips && zeroSize.MatchString(values[extent]) {
			return true
		}
	}
	if position := values["position"]; position == "absolute" || position == "fixed" || position == "relative" {
		if farAway.MatchString(values["left"]) || farAway.MatchString(values["top"]) || farAway.MatchString(values["right"]) {
			return true
		}
	}
	return farAway.MatchString(values["text-indent"]) || zeroSize.MatchString(values["scale"]) ||
		shrunk.MatchString(values["transform"]) || clippedAway.MatchString(values["clip-path"])
}

var (
	farAway = regexp.MustCompile(`^-(?:\d{4,}(?:\.\d+)?px|[1-9]\d{2,}(?:\.\d+)?(?:em|rem|vw|vh|%))$`)
	shrunk  = regexp.MustCompile(`\bscale[xy3d]*\(\s*0(?:\.0+)?\s*[,)]|translate[xy]?\(\s*-(?:\d{4,}px|[1-9]\d{2,}(?:vw|vh)|[1-9]\d{3,}%)`)
	// From half of its extent on, nothing is left of what is cut from both sides.
	clippedAway = regexp.MustCompile(`^inset\(\s*(?:[5-9]\d|\d{3,})(?:\.\d+)?%\s*\)|^(?:circle|ellipse)\(\s*0|^polygon\(\s*0(?:px|%)?\s+0(?:px|%)?(?:\s*,\s*0(?:px|%)?\s+0(?:px|%)?)+\s*\)`)
)

var zeroSize = regexp.MustCompile(`^0(\.0+)?(px|em|rem|%)?$`)

// arrangement says in words how an element arranges what is in it, and where it is.
func arrangement(values map[string]string) string {
	var parts []string
	if display := values["display"]; strings.Contains(display, "grid") {
		columns := values["grid-template-columns"]
		if columns == "" {
			columns = values["grid-template"]
		}
		parts = append(parts, "grid of "+phrase.Plural(tracks(columns), "column"))
	} else if strings.Contains(display, "flex") {
		direction := "a row"
		if strings.HasPrefix(values["flex-direction"], "column") {
			direction = "a column"
		}
		parts = append(parts, direction)
	} else if display == "inline" || display == "inline-block" || strings.HasPrefix(display, "table") {
		parts = append(parts, display)
	}
	if float := values["float"]; float == "left" || float == "right" {
		parts = append(parts, "beside, "+float)
	}
	if position := values["position"]; position == "absolute" || position == "fixed" {
		parts = append(parts, position)
	}
	if n := textColumns(values); n > 1 {
		parts = append(parts, fmt.Sprintf("%d text columns", n))
	}
	return strings.Join(parts, ", ")
}

// textColumns is in how many columns a text is set; 0: nothing says it.
func textColumns(values map[string]string) int {
	n, _ := strconv.Atoi(values["column-count"]) // "auto" is no number of columns
	return n
}

var repeated = regexp.MustCompile(`^repeat\(\s*(\d+)\s*,(.*)\)$`)

// tracks counts the columns of a grid; 1 for what only the browser can count.
func tracks(value string) int {
	value, _, _ = strings.Cut(value, "/")
	depth, count, inTrack := 0, 0, false
	start := 0
	flush := func(end int) {
		if inTrack {
			if found := repeated.FindStringSubmatch(strings.TrimSpace(value[start:end])); found != nil {
				n, _ := strconv.Atoi(found[1]) // the pattern has digits only
				count += min(n, math.MaxInt16) * max(1, tracks(found[2]))
			} else if value[start] != '[' {
				count++
			}
		}
		inTrack = false
	}
	for i, r := range value {
		switch {
		case r == '(' || r == '[':
			if !inTrack {
				inTrack, start = true, i
			}
			depth++
		case r == ')' || r == ']':
			depth--
		case r == ' ' && depth == 0:
			flush(i)
		case !inTrack:
			inTrack, start = true, i
		}
	}
	flush(len(value))
	return max(1, count)
}

// ReadStyle notes what the rules make of the page's landmarks and forms.
func ReadStyle(facts *smoke.Facts, document *goquery.Document, rules []StyleRule, set map[string]string) {
	var looks []look
	index := indexRules(rules)
	for _, width := range smoke.Widths {
		cache := map[*html.Node]map[string]string{}
		of := func(node *html.Node) map[string]string {
			if cache[node] == nil {
				cache[node] = computed(node, index, width.Pixels)
			}
			return cache[node]
		}
		looks = append(looks, look{width.Name, of, set})
		first(document.Find("form")).Each(func(i int, s *goquery.Selection) {
			if i < len(facts.Forms) && hidden(s.Get(0), of) {
				facts.Forms[i].Hidden = true
			}
		})
	}
	readParts(facts, document, looks)
	readRows(facts, document, looks)
	if body := document.Find("body"); body.Length() > 0 {
		facts.HasFont = hasFont(body.Get(0), looks[0].of, set)
	}
}

// hasFont tells whether a style sheet says in which letters the element is set.
func hasFont(node *html.Node, of func(*html.Node) map[string]string, set map[string]string) bool {
	for ; node != nil && node.Type == html.ElementNode; node = node.Parent {
		if values := of(node); resolve(values["font-family"], set) != "" || resolve(values["font"], set) != "" {
			return true
		}
	}
	return false
}

// hidden tells whether the element, or one around it, is kept from being seen.
func hidden(node *html.Node, of func(*html.Node) map[string]string) bool {
	for ; node != nil && node.Type == html.ElementNode; node = node.Parent {
		if hides(of(node)) {
			return true
		}
	}
	return false
}

// styled are the landmarks whose style is read.
var styled = []string{"page", "header", "navigation", "main part", "side column", "footer", "main heading"}

func landmarkSelector(name string) string {
	switch name {
	case "page":
		return "body"
	case "main heading":
		return "h1"
	}
	return Landmarks[name]
}

// InlineSheets returns the page's own style elements.
func InlineSheets(document *goquery.Document) []byte {
	var all bytes.Buffer
	document.Find("style").Each(func(_ int, s *goquery.Selection) {
		if media := strings.ToLower(s.AttrOr("media", "")); !strings.Contains(media, "print") {
			all.WriteString(s.Text() + "\n")
		}
	})
	return all.Bytes()
}
