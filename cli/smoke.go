package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wetland/cli/screen"
	"wetland/core/pagecheck"
	"wetland/core/smoke"
	"wetland/core/workspace"
)

func (a *app) smokeCommand() *cobra.Command {
	var learn, accept bool
	command := &cobra.Command{
		Use:   "smoke",
		Short: "Test the pages against how they were",
		Long: `Fetch the pages that wetland.toml names, past all caches, and compare what they
show with the recorded baseline: answers and redirects, error texts, blank and truncated
pages, titles, headings, menus, forms and lists that are gone, style sheets,
scripts and images that do not load. --learn records how they are now.`,
		Example: `  wetland smoke
  wetland smoke --learn`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			if learn {
				return a.learn(cmd, w, accept)
			}
			return a.smoke(cmd, w)
		},
	}
	command.Flags().BoolVar(&learn, "learn", false, "record how the pages are now, after looking twice")
	command.Flags().BoolVar(&accept, "accept-present", false, "with --learn: record pages though they are broken, so that only new findings count")
	return command
}

func (a *app) smoke(cmd *cobra.Command, w *workspace.Workspace) error {
	found, err := pagecheck.Check(cmd.Context(), w, a.screen)
	a.screen.Clear()
	if err != nil {
		return err
	}
	judgement, baseline := found.Judgement, found.Baseline
	code := map[smoke.Verdict]int{smoke.Sound: exitSound, smoke.Doubtful: exitDoubts, smoke.Broken: exitFailed}[judgement.Verdict]
	if a.json {
		document := smokeDocument{Site: w.Config.Site.Name, Address: found.Address, Result: judgement, closing: closing{code}}
		if baseline != nil {
			document.Baseline = baseline.At.UTC().Format("2006-01-02T15:04:05Z")
		}
		a.writeJSON(document)
		return exit(code)
	}
	a.showSmoke(w, judgement, baseline)
	return exit(code)
}

func (a *app) showSmoke(w *workspace.Workspace, judgement *smoke.Judgement, baseline *smoke.Take) {
	s := a.screen
	if s.Silent && judgement.Verdict != smoke.Sound {
		s = screen.New(a.errs, false)
	}
	s.Print("%s  %s\n\n", s.Bold(w.Config.Site.Name), w.Config.Site.Address)
	s.Pages(judgement.Pages, false)
	s.NotCompared(judgement.NotCompared)
	var counts []string
	for _, v := range []smoke.Verdict{smoke.Sound, smoke.Doubtful, smoke.Broken} {
		if n := judgement.Count(v); n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", n, v))
		}
	}
	against := "There is no baseline yet, so only plain faults are seen. To record one: wetland smoke --learn"
	if baseline != nil {
		against = "Compared with how they were on " + baseline.At.Local().Format("2 January 2006, 15:04") + "."
	}
	s.Print("\n")
	s.Paragraph(s.Verdict(judgement.Verdict, capital(string(judgement.Verdict))+"."), fmt.Sprintf("%d pages: %s. %s", len(judgement.Pages), strings.Join(counts, ", "), against))
	s.Paragraph(s.Faint("Not covered:"), strings.Join(judgement.NotCovered, "; ")+".")
}

func (a *app) learn(cmd *cobra.Command, w *workspace.Workspace, accept bool) error {
	judgement, recorded, err := pagecheck.Learn(cmd.Context(), w, a.screen, accept)
	a.screen.Clear()
	if err != nil {
		return err
	}
	code := exitSound
	if !recorded {
		code = exitRefused
	}
	if a.json {
		a.writeJSON(learnDocument{recorded, judgement, closing{code}})
		return exit(code)
	}
	if recorded {
		a.screen.Paragraph(a.screen.Good("Recorded."), fmt.Sprintf("%d pages, looked at twice: from now on they are compared with this.", len(judgement.Pages)))
		a.screen.NotCompared(judgement.NotCompared)
		return nil
	}
	s := screen.New(a.errs, false)
	s.Pages(judgement.Pages, true)
	s.Print("\n")
	s.Paragraph(s.Bad("Not recorded."), "A baseline of broken pages would call breakage normal. Fix them first, or accept them as they are: wetland smoke --learn --accept-present")
	return exit(code)
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
