package smoke

import (
	"fmt"
	"slices"

	"github.com/PuerkitoBio/goquery"
)

// A style sheet may be as it was, and fit nothing on the page any more: the classes there are
// called otherwise.

// fitting counts the selectors of a sheet whose classes all stand on the page.
func fitting(selectors [][]string, onPage map[string]bool) (n int) {
	for _, classes := range selectors {
		if !slices.ContainsFunc(classes, func(class string) bool { return !onPage[class] }) {
			n++
		}
	}
	return n
}

// classesOn are all classes of a page.
func classesOn(document *goquery.Document) map[string]bool {
	on := map[string]bool{}
	document.Find("[class]").Each(func(_ int, s *goquery.Selection) {
		for _, class := range classNames(s.Get(0)) {
			on[class] = true
		}
	})
	return on
}

// loseFit finds sheets that fitted the page and do not. Of other components' sheets, which an
// update should leave as they are, a fifth of what fitted is much.
func loseFit(was, now Facts, foreign []string) []Finding {
	var found collector
	for _, asset := range was.Assets {
		after := now.asset(asset.Path)
		if asset.Fits < 2 || after == nil || after.Problem != "" || after.Kind != "style sheet" || after.Rules < asset.Rules {
			continue
		}
		lost := asset.Fits - after.Fits
		if 2*lost > asset.Fits || ofOthers(asset.Path, foreign) && after.Rules == asset.Rules && 5*lost >= asset.Fits {
			found.lose(Doubtful, "style sheet", asset.Path, fmt.Sprintf("%d of %d rules of %s that matched something on the page match nothing any more", lost, asset.Fits, asset.Path), "")
		}
	}
	return found
}

// mergeAssets keeps the assets of both looks; of those that are in both, what is less.
func mergeAssets(a, b []Asset) []Asset {
	same := func(x Asset) func(Asset) bool {
		return func(y Asset) bool { return x.Kind == y.Kind && x.Path == y.Path && x.Problem == y.Problem }
	}
	merged := slices.Clone(a)
	for _, other := range b {
		k := slices.IndexFunc(merged, same(other))
		if k < 0 {
			merged = append(merged, other)
			continue
		}
		merged[k].Fits, merged[k].Letters = min(merged[k].Fits, other.Fits), min(merged[k].Letters, other.Letters)
	}
	return merged
}

// loseFrames finds frames of the site's own that are left out or empty.
func loseFrames(found *collector, was, now Facts) {
	for _, asset := range was.Assets {
		if asset.Kind != "frame" || asset.Problem != "" || asset.Letters < leastBlock {
			continue
		}
		if after := now.asset(asset.Path); after != nil && after.Problem == "" && 5*after.Letters < asset.Letters {
			found.lose(Doubtful, "text", asset.Path, fmt.Sprintf("the frame %s is nearly empty: %s, was %d", asset.Path, plural(after.Letters, "letter"), asset.Letters), "")
		}
	}
}
