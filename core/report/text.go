package report

import (
	"cmp"
	"encoding/xml"
	"fmt"
	"strings"

	"wetland/core/smoke"
	"wetland/core/visible"
)

// Markdown returns the report for a ticket.
func (r *Report) Markdown() string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	md, code := visible.Markdown, visible.Code
	say("# %s: %s", r.Headline(), md(r.Title()))
	say("\n%s, %s\n", md(r.Site), md(r.Address))
	for line := range strings.SplitSeq(r.Run.Reason, "\n") {
		say("%s", md(line))
	}
	say("")
	page := func(page smoke.PageVerdict) {
		if len(page.Findings) == 0 {
			return
		}
		say("- **%s** %s", page.Verdict, code(page.Path))
		for _, finding := range page.Findings {
			say("  - %s", md(finding.String()))
		}
	}
	if len(r.Pages) > 0 {
		say("## Pages: %s\n", r.Counts())
		for _, one := range r.Pages {
			page(one.PageVerdict)
		}
		say("")
	}
	if r.Run.Again != nil {
		say("## After all was put back\n")
		for _, one := range r.Run.Again.Pages {
			page(one)
		}
		say("")
	}
	if len(r.Run.Rest) > 0 {
		say("## In the rest of the site\n")
		for _, note := range r.Run.Rest {
			say("- %s %s", code(note.What), md(note.Done))
		}
		say("")
	}
	if len(r.Run.Components) > 1 {
		say("## The packages\n")
		for _, t := range r.Run.Components {
			say("- **%s** %s %s", cmp.Or(string(t.Fate), "not touched"), md(t.Name), md(t.To))
			for _, because := range t.Because {
				say("  - %s", md(because))
			}
		}
		say("")
	}
	if len(r.Run.Database) > 0 {
		say("## In the database\n")
		for _, note := range r.Run.Database {
			say("- %s %s", code(note.Table), md(note.What))
		}
		say("")
	}
	say("## What was done\n")
	for _, step := range r.Run.Steps {
		say("- %s: %s", md(step.Name), md(step.Detail))
	}
	r.markdownNext(say)
	return b.String()
}

// markdownNext says what to do next.
func (r *Report) markdownNext(say func(format string, args ...any)) {
	md, code := visible.Markdown, visible.Code
	if len(r.Run.Next) > 0 {
		say("\n## What now\n")
		for _, step := range r.Run.Next {
			var parts []string
			if step.Say != "" {
				parts = append(parts, md(step.Say))
			}
			if step.Command != nil {
				parts = append(parts, code(r.CommandLine(step.Command)))
			}
			if step.Shell != "" {
				parts = append(parts, code(step.Shell))
			}
			if step.Does != "" {
				parts = append(parts, md(step.Does))
			}
			say("- %s", strings.Join(parts, " "))
		}
	}
}

// The shape of JUnit's XML, as build servers read it: a suite, a case for each page.
type suite struct {
	XMLName  xml.Name `xml:"testsuite"`
	Name     string   `xml:"name,attr"`
	Tests    int      `xml:"tests,attr"`
	Failures int      `xml:"failures,attr"`
	Time     float64  `xml:"time,attr"`
	Cases    []testCase
}

type testCase struct {
	XMLName xml.Name `xml:"testcase"`
	Class   string   `xml:"classname,attr"`
	Name    string   `xml:"name,attr"`
	Failure *failure
	Output  string `xml:"system-out,omitempty"`
}

type failure struct {
	XMLName xml.Name `xml:"failure"`
	Message string   `xml:"message,attr"`
	Text    string   `xml:",chardata"`
}

// JUnit returns the pages as a test suite. What is doubtful fails, too: a build server
// knows no doubt.
func (r *Report) JUnit() ([]byte, error) {
	s := suite{Name: r.Site + ": " + r.Title(), Tests: len(r.Pages), Time: r.Took().Seconds()}
	for _, page := range r.Pages {
		one := testCase{Class: "wetland." + r.Run.Name, Name: page.Path}
		var lines []string
		for _, finding := range page.Findings {
			lines = append(lines, strings.TrimSuffix(fmt.Sprintf("%s: %s: %s", finding.Verdict, finding.What, finding.Evidence), ": "))
		}
		if page.Verdict == smoke.Sound {
			one.Output = strings.Join(lines, "\n")
		} else {
			s.Failures++
			one.Failure = &failure{Message: string(page.Verdict), Text: strings.Join(lines, "\n")}
		}
		s.Cases = append(s.Cases, one)
	}
	text, err := xml.MarshalIndent(s, "", "  ")
	return append([]byte(xml.Header), append(text, '\n')...), err
}
