package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/preflight"
	"wetland/core/shelf"
	"wetland/core/update"
	"wetland/core/workspace"
)

// plan shows what an update would do.
func (a *app) plan(ctx context.Context, w *workspace.Workspace, o update.Options) error {
	p, err := update.PlanOf(ctx, w, o)
	a.screen.Clear()
	if err != nil {
		return a.orNothingNewer(err)
	}
	if a.json {
		a.writeJSON(planDocument{Plan: p})
		return nil
	}
	s := a.screen
	s.Print("\n%s\n", s.Bold("The plan"))
	for i, step := range p.Steps {
		for j, c := range step.Components {
			name := ""
			if j == 0 {
				name = fmt.Sprintf("step %d", i+1)
			}
			s.Row("  ", 2, fmt.Sprintf("%-*s", planColumn, name), changeWords(c, true))
			for _, risk := range c.Risks {
				s.Row("  ", 2, fmt.Sprintf("%-*s", planColumn, ""), s.Doubt("care: ")+risk)
			}
		}
	}
	for _, left := range p.Left {
		s.Row("  ", 2, fmt.Sprintf("%-*s", planColumn, "left"), fmt.Sprintf("%s %s: %s", left.Folder, left.Version, left.Because))
	}
	for _, line := range planLines(p) {
		s.Row("  ", 2, fmt.Sprintf("%-*s", planColumn, line[0]), line[1])
	}
	s.Print("\n")
	s.Paragraph(s.Good("Nothing stands against it."), "Nothing on the site was touched. The same command without --plan does it.")
	return nil
}

// orNothingNewer takes having nothing to do for what it is: no failure.
func (a *app) orNothingNewer(err error) error {
	var nothing *update.NothingNewer
	if !errors.As(err, &nothing) {
		return err
	}
	if a.json {
		a.writeJSON(nothingDocument{State: "up to date", Left: nothing.Left})
	}
	a.screen.Paragraph(a.screen.Good("Nothing to do:"), nothing.Error()+".")
	return nil
}

// planColumn is the width of the names in a plan.
const planColumn = 13

// planLines says what comes besides the components.
func planLines(p *update.Plan) [][2]string {
	judged := "once, when all are in place"
	failed := "all of them are put back"
	switch {
	case len(p.Steps) == 1:
		failed = "what was before is put back"
	case p.OneByOne:
		judged, failed = "after each step", "the step is put back, and the next one is tried without it"
	case p.Search:
		failed += "; then parts of them are tried, to find the culprit and to keep the others"
	default:
		failed += "; the culprit is looked for only if you say so (--search yes)"
	}
	often := ""
	if len(p.Steps) > 1 && (p.OneByOne || p.Search) {
		often = " before each swap"
	}
	swaps := "folders in one step"
	if p.Gap {
		swaps = "folders by two renames"
	}
	tables := ", tables as far as the update changed them; visitors' writes stay"
	if p.WithoutDatabase {
		tables = "; the tables are not in Wetland's hands"
	}
	lines := [][2]string{
		{"snapshot", fmt.Sprintf("a new one%s, verified; at most %s in the store", often, humanize.Bytes(uint64(p.Size)))},
		{"pages", fmt.Sprintf("%d are looked at, %s: %s", len(p.Pages), judged, firstOf(p.Pages, 8))},
		{"among them", touchedWords(p.Touched)},
		{"broken", failed},
		{"going back", swaps + tables},
		{"in doubt", map[update.Decision]string{update.Keep: "the new versions stay, if nobody is there to ask", update.GoBack: "what was before is put back, if nobody is there to ask"}[p.InDoubt]},
	}
	lines = slices.DeleteFunc(lines, func(line [2]string) bool { return line[1] == "" })
	if p.WaitAfterSwap != "0s" {
		lines = append(lines, [2]string{"waits", p.WaitAfterSwap + " after each swap, for compiled code to go"})
	}
	if p.Gap {
		lines = append(lines, [2]string{"gap", gapWords(p)})
	}
	lines = append(lines, coreLines(p)...)
	lines = append(lines, hostLines(p)...)
	if p.Rehearse == workspace.RehearseAlways || p.Rehearse == workspace.RehearseLarge && p.IsLarge() {
		lines = append(lines, [2]string{"rehearsal", "first all of it is done on a private copy; what is broken there does not come to the site"})
	}
	if p.Notice {
		lines = append(lines, [2]string{"notice", "visitors see one from before each swap until old compiled code has gone; it expires by itself after ten minutes"})
	}
	for _, command := range p.Commands {
		lines = append(lines, [2]string{"runs", command})
	}
	limit := "no limit; time_limit under [update] sets one"
	if p.TimeLimit != "" {
		limit = "at most " + p.TimeLimit + "; then it goes back"
	}
	if p.LastUpdate > 0 {
		limit += "; the last update took " + phrase.Live(p.LastUpdate)
	}
	return append(lines, [2]string{"time", limit})
}

// coreLines say how the CMS itself is replaced.
func coreLines(p *update.Plan) (lines [][2]string) {
	if p.Core == nil {
		return nil
	}
	lines = [][2]string{
		{"the CMS", "comes last, and is judged by itself; replaced are " + phrase.List(p.Core.Parts, 20) + ". All else in its folder stays"},
		{"gate", "visitors are told to come back in a moment while its files are exchanged, some seconds; and see its own notice, if it has one, while it brings its tables up to date"},
	}
	if len(p.Core.StayAway) > 0 {
		lines = append(lines, [2]string{"stays away", "what the site's owner took away is not brought back: " + phrase.List(p.Core.StayAway, 10)})
	}
	if len(p.Core.Brings) > 0 {
		lines = append(lines, [2]string{"left out", shelf.BroughtAlong(p.Core.Brings)})
	}
	return lines
}

// gapWords say that a folder will be absent, and for how long it was.
func gapWords(p *update.Plan) string {
	words := "this system cannot exchange two folders in one step: between two renames visitors would find the folder missing for an instant, which --allow-gap accepts"
	if p.LastGap > 0 {
		words += fmt.Sprintf("; last time it was %s at most", p.LastGap.Round(10*time.Microsecond))
	}
	return words
}

// hostLines say what is to be known of a site on another machine.
func hostLines(p *update.Plan) (lines [][2]string) {
	if len(p.Host) == 0 {
		return nil
	}
	travels := humanize.Bytes(uint64(p.Brings)) + " of packages go to the site's machine"
	if p.LastSnapshot > 0 {
		travels += "; the last snapshot took " + phrase.Live(p.LastSnapshot)
	}
	lines = append(lines, [2]string{"travels", travels})
	for _, lack := range preflight.Lacks(p.Host) {
		lines = append(lines, [2]string{"its machine", lack})
	}
	return lines
}

// touchedWords names the pages that are tested because a component has a part in them.
func touchedWords(all []pagecheck.Touched) string {
	var words []string
	for _, one := range all {
		words = append(words, fmt.Sprintf("%s, for %s", one, one.Folder))
	}
	return strings.Join(words, "; ")
}

// firstOf lists names, at most so many.
func firstOf(names []string, most int) string {
	text := ""
	for i, name := range names {
		switch {
		case i == most:
			return fmt.Sprintf("%s and %d more", text, len(names)-most)
		case i > 0:
			text += ", "
		}
		text += name
	}
	return text
}
