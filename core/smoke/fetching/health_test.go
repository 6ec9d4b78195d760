package fetching

import (
	"strings"
	"testing"

	"wetland/core/smoke"
	"wetland/core/smoke/judging"
)

// After a return to an older version pages need to be healthy, not the same: each difference
// with what it comes to, without a record of that version and with one.
func TestJudgeReturn(t *testing.T) {
	replace := func(pairs ...string) string { return strings.NewReplacer(pairs...).Replace(goodPage) }
	hidden := replace("</head>", "<style>main{display:none}</style></head>")
	apology := replace("<h1>", "Error establishing a database connection<h1>")
	form := `<form id="enquiry" action="/contact"><input name="sender"><textarea name="message"></textarea><input type="hidden" name="token" value="1"></form>`
	for _, c := range []struct {
		name              string
		left, now, record string // "": no record
		want              smoke.Verdict
		finding, weighed  string
	}{
		{"nothing differs", goodPage, goodPage, "", smoke.Sound, "", ""},
		{"another layout", goodPage, strings.ReplaceAll(goodPage, "aside", "div"), "", smoke.Sound, "the side column is gone", judging.OtherVersion},
		{"headings gone", goodPage, replace("<h1>Timetable</h1>", ""), "", smoke.Sound, "headings are gone", judging.OtherVersion},
		{"form gone, no record", goodPage, replace(form, ""), "", smoke.Doubtful, `the form "enquiry" is gone`, judging.GoneHere},
		{"form gone, as then", goodPage, replace(form, ""), replace(form, ""), smoke.Sound, `the form "enquiry" is gone`, judging.WasSoThen},
		{"form gone, and it was there then", goodPage, replace(form, ""), goodPage, smoke.Doubtful, `the form "enquiry" is gone`, judging.GoneHere},
		{"noindex, no record", goodPage, replace("</head>", `<meta name="robots" content="noindex"></head>`), "", smoke.Doubtful, "noindex", judging.GoneHere},
		{"menu gone", goodPage, replace(`<nav><a href="/">Home</a> <a href="/fares">Fares</a> <a href="/notices">Notices</a></nav>`, ""), "", smoke.Doubtful, "the menu with 3 links", judging.GoneHere},
		{"an error", goodPage, apology, "", smoke.Broken, "an error message is on the page", ""},
		{"an error that was there with what is left", apology, apology, "", smoke.Sound, "an error message is on the page", ""},
		{"blank", goodPage, "<html><body></body></html>", "", smoke.Broken, "the page is blank", ""},
		{"cut", goodPage, goodPage[:len(goodPage)*2/3], "", smoke.Broken, "cut off", ""},
		{"hidden", goodPage, hidden, "", smoke.Broken, "the main part does not show any more", ""},
		{"hidden, as then", goodPage, hidden, hidden, smoke.Sound, "the main part does not show any more", judging.WasSoThen},
		{"mended", apology, goodPage, "", smoke.Sound, "", ""},
		{"authors wrote since the record", goodPage, goodPage, replace("Spring tide", "Low water", longText, "Nothing of it stands there now."), smoke.Sound, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			take := func(page string) *smoke.Take { return &smoke.Take{Pages: []smoke.Facts{factsOf([]byte(page))}} }
			var record *smoke.Take
			if c.record != "" {
				record = take(c.record)
			}
			j := judging.JudgeReturn(take(c.left), record, take(c.now))
			if j.Verdict != c.want {
				t.Errorf("%s, want %s", j.Verdict, c.want)
			}
			found := c.finding == ""
			for _, finding := range j.Pages[0].Findings {
				found = found || strings.Contains(finding.What, c.finding) && finding.Weighed == c.weighed
			}
			if !found {
				t.Errorf("no finding %q weighed %q in %+v", c.finding, c.weighed, j.Pages[0].Findings)
			}
			if better := c.name == "mended"; (len(j.Better) == 1) != better {
				t.Errorf("better: %q", j.Better)
			}
		})
	}
}
