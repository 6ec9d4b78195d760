package reading

import (
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Settings are the custom properties of style sheets (CSS Custom Properties, level 1).
type Settings struct {
	Set  map[string]string // their last values
	used map[string]bool   // without another value to fall back to
}

// NewSettings begins with none.
func NewSettings() Settings { return Settings{map[string]string{}, map[string]bool{}} }

var (
	setProperty  = regexp.MustCompile(`(--[\w-]+)\s*:\s*([^;{}]*)`)
	usedProperty = regexp.MustCompile(`var\(\s*(--[\w-]+)\s*\)`)
)

// Add reads a style sheet, or the style of an element.
func (s Settings) Add(text []byte) {
	for _, found := range setProperty.FindAllSubmatch(text, -1) {
		s.Set[string(found[1])] = strings.ToLower(strings.TrimSpace(string(found[2])))
	}
	for _, found := range usedProperty.FindAllSubmatch(text, -1) {
		s.used[string(found[1])] = true
	}
}

// Join adds those of another page or sheet.
func (s Settings) Join(other Settings) {
	maps.Copy(s.Set, other.Set)
	maps.Copy(s.used, other.used)
}

// Names lists what is both used and set, and what is used and not set.
func (s Settings) Names() (set, unset []string) {
	for _, name := range slices.Sorted(maps.Keys(s.used)) {
		if _, ok := s.Set[name]; ok {
			set = append(set, name)
		} else {
			unset = append(unset, name)
		}
	}
	return set, unset
}

// resolve puts in the values of the properties that a value names.
func resolve(value string, set map[string]string) string {
	for range 8 { // one that names itself has no value
		found := usedProperty.FindStringSubmatchIndex(value)
		if found == nil {
			break
		}
		value = value[:found[0]] + set[value[found[2]:found[3]]] + value[found[1]:]
	}
	return strings.TrimSpace(value)
}
