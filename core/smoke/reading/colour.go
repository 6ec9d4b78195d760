package reading

import (
	"math"
	"regexp"
	"strconv"
	"strings"

	"golang.org/x/net/html"
)

// leastContrast is what letters must have to be told from what is behind them. WCAG 2.1
// wants 4.5 to read with ease; below this, people see nothing.
const leastContrast = 1.1

// invisible tells of an element whose letters have the colour of its background, as far as
// the style sheets say it in plain colours.
func invisible(node *html.Node, of func(*html.Node) map[string]string, set map[string]string) bool {
	var letters, behind *colour
	for above := node; above != nil && above.Type == html.ElementNode && (letters == nil || behind == nil); above = above.Parent {
		values := of(above)
		if letters == nil && values["color"] != "" && values["color"] != "inherit" && values["color"] != "currentcolor" {
			parsed, ok := parseColour(resolve(values["color"], set))
			if !ok {
				return false
			}
			letters = &parsed
		}
		background := values["background-color"]
		if background == "" {
			background = values["background"]
		}
		if behind == nil && background != "" && background != "none" && background != "transparent" && background != "inherit" {
			parsed, ok := parseColour(resolve(background, set))
			if !ok {
				return false // a picture or a gradient, perhaps
			}
			behind = &parsed
		}
	}
	return letters != nil && behind != nil && letters.contrast(*behind) < leastContrast
}

// colour has parts from 0 to 1.
type colour struct{ red, green, blue float64 }

var (
	hexColour = regexp.MustCompile(`^#(?:[0-9a-f]{3}|[0-9a-f]{6})$`)
	rgbColour = regexp.MustCompile(`^rgb\(\s*(\d{1,3})\s*[, ]\s*(\d{1,3})\s*[, ]\s*(\d{1,3})\s*\)$`)
)

// parseColour reads colours without transparency; names are those of CSS level 1.
func parseColour(text string) (colour, bool) {
	if named, ok := map[string]string{"black": "#000", "white": "#fff", "silver": "#c0c0c0", "gray": "#808080", "red": "#f00", "yellow": "#ff0", "lime": "#0f0", "aqua": "#0ff", "blue": "#00f", "fuchsia": "#f0f", "maroon": "#800000", "olive": "#808000", "green": "#008000", "teal": "#008080", "navy": "#000080", "purple": "#800080"}[text]; ok {
		text = named
	}
	if hexColour.MatchString(text) {
		digits := text[1:]
		if len(digits) == 3 {
			digits = strings.Join([]string{digits[:1], digits[:1], digits[1:2], digits[1:2], digits[2:], digits[2:]}, "")
		}
		n, err := strconv.ParseUint(digits, 16, 32)
		return colour{float64(n>>16) / 255, float64(n>>8&255) / 255, float64(n&255) / 255}, err == nil
	}
	parts := rgbColour.FindStringSubmatch(text)
	if parts == nil {
		return colour{}, false
	}
	var values [3]float64
	for i, part := range parts[1:] {
		n, _ := strconv.Atoi(part) // the pattern has digits only
		values[i] = float64(min(n, 255)) / 255
	}
	return colour{values[0], values[1], values[2]}, true
}

// luminance and contrast are those of WCAG 2.1.
func (c colour) luminance() float64 {
	linear := func(v float64) float64 {
		if v <= 0.03928 {
			return v / 12.92
		}
		return math.Pow((v+0.055)/1.055, 2.4)
	}
	return 0.2126*linear(c.red) + 0.7152*linear(c.green) + 0.0722*linear(c.blue)
}

func (c colour) contrast(other colour) float64 {
	a, b := c.luminance(), other.luminance()
	return (max(a, b) + 0.05) / (min(a, b) + 0.05)
}
