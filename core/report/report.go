// Package report tells of a run: as one HTML file that needs nothing else, as Markdown
// for a ticket, and as JUnit XML for a build server.
package report

import (
	"bytes"
	"cmp"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wetland/core/advice"
	"wetland/core/durable"
	"wetland/core/runs"
	"wetland/core/smoke"
	"wetland/core/visible"
)

// Report is what is told of a run.
type Report struct {
	Site    string
	Address string
	Run     *runs.Run
	Pages   []Page
	Made    time.Time
	// CommandLine tells how the program is told to carry out a command.
	CommandLine func(*advice.Command) string
	// Recover settles a run that has not ended properly, GoBack goes back to its snapshot.
	Recover, GoBack *advice.Command
}

// Page is one page with what was found on it and how it looked.
type Page struct {
	smoke.PageVerdict
	Views []View
}

// View is a page at one width, before and after.
type View struct {
	Width   string
	Before  template.URL // a picture as a data address; "": there is none
	After   template.URL
	Differs template.URL // where the pictures differ
	Share   float64      // of the picture that differs, in percent
	Moves   float64      // of it that differs and moved by itself before, in percent: left out
	Words   string       // what changed, in words
}

// Make gathers what is known of a run.
func Make(site, address string, run *runs.Run, commandLine func(*advice.Command) string) (*Report, error) {
	r := &Report{Site: site, Address: address, Run: run, Made: time.Now(), CommandLine: commandLine, Recover: &advice.Command{Do: advice.Recover}, GoBack: &advice.Command{Do: advice.Restore, With: []string{run.Snapshot}}}
	if run.Judgement == nil {
		return r, nil
	}
	before, err := takeOf(run, runs.BaselineFile)
	if err != nil {
		return nil, err
	}
	after, err := takeOf(run, cmp.Or(run.PagesFile, runs.AfterFile))
	if err != nil {
		return nil, err
	}
	for _, verdict := range run.Judgement.Pages {
		page := Page{PageVerdict: verdict}
		if page.Views, err = views(before, after, verdict); err != nil {
			return nil, fmt.Errorf("the pictures of %s: %w", verdict.Path, err)
		}
		r.Pages = append(r.Pages, page)
	}
	// The worst first: that is what a reader looks for.
	slices.SortStableFunc(r.Pages, func(a, b Page) int { return b.Verdict.Rank() - a.Verdict.Rank() })
	return r, nil
}

// takeOf reads the pages of a run; nil if it has none.
func takeOf(run *runs.Run, file string) (*smoke.Take, error) {
	take, err := smoke.LoadTake(filepath.Join(run.Folder, file))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return take, err
}

//go:embed report.html
var page string

var layout = template.Must(template.New("report").Funcs(template.FuncMap{
	"mark": func(v smoke.Verdict) string {
		return map[smoke.Verdict]string{smoke.Sound: "ok", smoke.Doubtful: "??"}[v]
	},
	"seconds": func(d time.Duration) string { return d.Round(10 * time.Millisecond).String() },
	"local":   func(t time.Time) string { return t.Local().Format("2 January 2006, 15:04:05") },
}).Parse(page))

// HTML returns the report as one file. What disturbs is written by its numbers, as on a screen:
// a sign that turns the direction of what follows would do so here, too.
func (r *Report) HTML() ([]byte, error) {
	var out bytes.Buffer
	if err := layout.Execute(&out, r); err != nil {
		return nil, err
	}
	return []byte(visible.Lines(out.String())), nil
}

// Write writes the HTML report into the run's folder and returns the file.
func (r *Report) Write() (string, error) {
	text, err := r.HTML()
	if err != nil {
		return "", err
	}
	file := filepath.Join(r.Run.Folder, "report.html")
	return file, durable.WriteFile(file, text)
}

// Title says in a few words what the run was for.
func (r *Report) Title() string { return r.Run.Title() }

// Headline is how the run ended, in a word or two.
func (r *Report) Headline() string { return r.Run.State.Headline() }

// Tone is how the headline is coloured: good, doubt or bad.
func (r *Report) Tone() string {
	return map[smoke.Verdict]string{smoke.Sound: "good", smoke.Doubtful: "doubt", smoke.Broken: "bad"}[r.Run.State.Tone()]
}

// Counts says how many pages got which verdict.
func (r *Report) Counts() string {
	var parts []string
	for _, v := range []smoke.Verdict{smoke.Broken, smoke.Doubtful, smoke.Sound} {
		n := 0
		for _, page := range r.Pages {
			if page.Verdict == v {
				n++
			}
		}
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, v))
		}
	}
	return strings.Join(parts, ", ")
}

// Took is how long the run took.
func (r *Report) Took() time.Duration {
	if r.Run.Ended.IsZero() {
		return 0
	}
	steps := time.Duration(0)
	for _, step := range r.Run.Steps {
		steps += step.Took
	}
	return max(steps, r.Run.Ended.Sub(r.Run.Started)) // the clock may have been set back meanwhile
}
