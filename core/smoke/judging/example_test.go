package judging_test

import (
	"fmt"

	"wetland/core/smoke"
	"wetland/core/smoke/judging"
)

func ExampleJudge() {
	page := smoke.Facts{Path: "/fares", Status: 200, Type: "text/html", Complete: true, Title: "Fares"}
	gone := page
	gone.Status = 500
	before := &smoke.Take{Pages: []smoke.Facts{page}}

	fmt.Println("as before:", judging.Judge(before, before).Verdict)
	after := judging.Judge(before, &smoke.Take{Pages: []smoke.Facts{gone}})
	fmt.Println("after:", after.Verdict)
	for _, finding := range after.Pages[0].Findings {
		fmt.Println("-", finding.What)
	}
	// Output:
	// as before: sound
	// after: broken
	// - the server answers 500
	// - the page is blank
}
