package judging_test

import (
	"testing"
	"time"

	"wetland/core/smoke"
	"wetland/core/smoke/judging"
)

// What is the same both ways is so, too, as what is merged of both: a site whose style sheet was put back since an
// earlier look is not another one.
func TestMergedIsTheSame(t *testing.T) {
	with := func(rules, fits, letters int) *smoke.Take {
		return &smoke.Take{At: time.Now(), Pages: []smoke.Facts{{
			Path: "/", Status: 200, Title: "Otterby Ferry", Complete: true, Text: 900, Rules: 80 + rules,
			Assets: []smoke.Asset{{Kind: "style sheet", Path: "/print.css", Rules: rules, Fits: fits, Letters: letters}},
		}}}
	}
	short, long := with(1, 0, 40), with(13, 12, 2900)
	for _, pair := range [][2]*smoke.Take{{short, long}, {long, short}} {
		a, b := pair[0], pair[1]
		if !judging.SameAs(a, b, judging.Rules{}) {
			t.Fatal("they are told to be others")
		}
		if merged := judging.Merge(a, b); !judging.SameAs(merged, a, judging.Rules{}) || !judging.SameAs(merged, b, judging.Rules{}) {
			t.Errorf("what is merged of them is another: %+v", merged.Pages[0].Assets)
		}
	}
}
