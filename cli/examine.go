package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wetland/cli/screen"
	"wetland/core/preflight"
	"wetland/core/visible"
)

func (a *app) examineCommand() *cobra.Command {
	var pick string
	var diff []string
	command := &cobra.Command{
		Use:   "examine PACKAGE...",
		Short: "Hold packages against this site; touches nothing",
		Long: `Look at everything about a package that can be known before it is installed: is it
the right thing, how far is the step, what does it require, what of yours would it
overwrite, what does its author say changed. Nothing on the site is touched.

PACKAGE is a zip file, or NAME or NAME@VERSION from the shelf.`,
		Example: `  wetland examine harbourlight-3.0.0.zip
  wetland examine harbourlight@2.5.2 tidetable
  wetland examine harbourlight@2.5.1 --diff front.html`,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.offer(0, true, onShelf),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			var all []*preflight.Examination
			for _, name := range args {
				found, err := preflight.Examine(cmd.Context(), w, preflight.Options{Guard: a.guard(), Package: name, Pick: pick, Diff: diff})
				if err != nil {
					return err
				}
				all = append(all, found)
				a.showExamination(name, found)
			}
			code := exitOfAdvice(all)
			if a.json {
				a.writeJSON(examineDocument{all, closing{code}})
			}
			return exit(code)
		},
	}
	command.Flags().StringSliceVar(&diff, "diff", nil, "show how this file of the theme or plugin changes, line by line; may be given several times")
	command.Flags().StringVar(&pick, "pick", "", "which package of a bundle: its folder or name")
	return command
}

// exitOfAdvice is the code of the worst advice.
func exitOfAdvice(all []*preflight.Examination) int {
	code := exitSound
	for _, found := range all {
		switch found.Advice {
		case preflight.No:
			return exitFailed
		case preflight.Care:
			code = exitDoubts
		}
	}
	return code
}

func (a *app) showExamination(name string, found *preflight.Examination) {
	s := a.screen
	if a.quiet && found.Advice != preflight.Go {
		s = screen.New(a.errs, false)
	}
	s.Print("%s\n\n", s.Bold(name))
	for _, check := range found.Checks {
		sign := map[preflight.Advice]string{preflight.Go: s.Good("ok"), preflight.Care: s.Doubt("??"), preflight.No: s.Bad("NO")}[check.Advice]
		words := check.What
		for _, step := range check.Do {
			if check.Advice != preflight.Go {
				words += "\n" + screen.Doing(step)
			}
		}
		s.Row("  "+sign+"  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, check.Name), words)
	}
	if found.Log != "" {
		s.Print("\n%s\n", s.Bold("What its author says changed"))
		for line := range strings.SplitSeq(found.Log, "\n") {
			s.Print("%s\n", s.Wrap("    "+line, "  "))
		}
	}
	for _, diff := range found.Diffs {
		s.Print("\n%s", visible.Lines(diff))
	}
	s.Print("\n")
	switch found.Advice {
	case preflight.Go:
		s.Paragraph(s.Good("Go."), "Nothing stands against it.\n")
	case preflight.Care:
		s.Paragraph(s.Doubt("Go with care."), "Nothing forbids it; look at the points above first.\n")
	default:
		s.Paragraph(s.Bad("No."), "An update would refuse it, for the reasons above.\n")
	}
}
