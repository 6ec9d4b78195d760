package judging

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"wetland/core/smoke"
)

// A package may take away what is its own. What other components bring - a child theme's style
// sheet, another plugin's script, styles that a page builder wrote - must still be there.

// ofOthers tells whether a path is below one of the folders of other components.
func ofOthers(path string, foreign []string) bool {
	return slices.ContainsFunc(foreign, func(folder string) bool { return strings.HasPrefix(path, strings.TrimSuffix(folder, "/")+"/") })
}

// loseForeign finds style sheets and scripts of other components that a page named in both looks
// before, and names no more. A sheet whose rules stand elsewhere was put together with others.
func loseForeign(was, now smoke.Facts, foreign []string) []smoke.Finding {
	var found Collector
	if now.Status >= 400 || !now.Complete {
		return nil // that they are gone follows from it
	}
	var lost []string
	for _, load := range was.Loads {
		at, err := url.Parse(load)
		if err != nil || !ofOthers(at.Path, foreign) || now.Asset(at.Path) != nil {
			continue
		}
		asset := was.Asset(at.Path)
		switch {
		case asset == nil, asset.Problem != "", asset.Kind != "style sheet" && asset.Kind != "script":
		case asset.Kind == "style sheet" && foreignRules(now, foreign) >= foreignRules(was, foreign)-asset.Rules/2:
		case !slices.Contains(lost, at.Path):
			lost = append(lost, at.Path)
			found.lose(smoke.Doubtful, asset.Kind, at.Path, fmt.Sprintf("the %s %s, which is not the update's, is not on the page any more", asset.Kind, at.Path), "")
		}
	}
	return found
}

// foreignRules counts the rules that are not in sheets of the update's own or the CMS's.
func foreignRules(f smoke.Facts, foreign []string) int {
	rules := f.Rules
	for _, asset := range f.Assets {
		if !ofOthers(asset.Path, foreign) {
			rules -= asset.Rules
		}
	}
	return rules
}
