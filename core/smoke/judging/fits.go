package judging

import (
	"fmt"
	"slices"

	"wetland/core/phrase"
	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

// loseFit finds sheets that fitted the page and do not. Of other components' sheets, which an
// update should leave as they are, a fifth of what fitted is much.
func loseFit(was, now smoke.Facts, foreign []string) []smoke.Finding {
	var found Collector
	for _, asset := range was.Assets {
		after := now.Asset(asset.Path)
		if asset.Fits < 2 || after == nil || after.Problem != "" || after.Kind != "style sheet" || after.Rules < asset.Rules {
			continue
		}
		lost := asset.Fits - after.Fits
		if 2*lost > asset.Fits || ofOthers(asset.Path, foreign) && after.Rules == asset.Rules && 5*lost >= asset.Fits {
			found.lose(smoke.Doubtful, "style sheet", asset.Path, fmt.Sprintf("%d of %d rules of %s that matched something on the page match nothing any more", lost, asset.Fits, asset.Path), "")
		}
	}
	return found
}

// mergeAssets keeps the assets of both looks; of those that are in both, what is less.
func mergeAssets(a, b []smoke.Asset) []smoke.Asset {
	same := func(x smoke.Asset) func(smoke.Asset) bool {
		return func(y smoke.Asset) bool { return x.Kind == y.Kind && x.Path == y.Path && x.Problem == y.Problem }
	}
	merged := slices.Clone(a)
	for _, other := range b {
		k := slices.IndexFunc(merged, same(other))
		if k < 0 {
			merged = append(merged, other)
			continue
		}
		merged[k].Rules, merged[k].Fits, merged[k].Letters = min(merged[k].Rules, other.Rules), min(merged[k].Fits, other.Fits), min(merged[k].Letters, other.Letters)
	}
	return merged
}

// loseFrames finds frames of the site's own that are left out or empty.
func loseFrames(found *Collector, was, now smoke.Facts) {
	for _, asset := range was.Assets {
		if asset.Kind != "frame" || asset.Problem != "" || asset.Letters < reading.LeastBlock {
			continue
		}
		if after := now.Asset(asset.Path); after != nil && after.Problem == "" && 5*after.Letters < asset.Letters {
			found.lose(smoke.Doubtful, "text", asset.Path, fmt.Sprintf("the frame %s is nearly empty: %s, was %d", asset.Path, phrase.Plural(after.Letters, "letter"), asset.Letters), "")
		}
	}
}
