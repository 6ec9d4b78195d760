package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"wetland/core/archive"
)

func (a *app) acceptCommand() *cobra.Command {
	var o archive.AcceptOptions
	command := &cobra.Command{
		Use:   "accept RUN",
		Short: "Say that doubtful findings of a run are as they should be",
		Long: `Say that doubtful findings of a run are as they should be, and why. They are noted
in the run, and the same finding does not count in later comparisons: after an
update that was put back for it, the next try passes. What is broken cannot be
accepted. Without --page and --check all doubtful findings of the run are meant.`,
		Example: `  wetland accept run-3 --page / --check layout --because "the new theme has its menu at the left"
  wetland accept run-3 --because "looked at all of it, fine"`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.offer(1, false, runNames),
		RunE: func(_ *cobra.Command, args []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			o.Run = args[0]
			accepted, err := archive.Accept(w, o)
			if err != nil {
				return err
			}
			if a.json {
				a.writeJSON(acceptDocument{Accepted: accepted})
				return nil
			}
			for _, one := range accepted {
				a.screen.Row("  ok  ", 6, fmt.Sprintf("%-20s  ", one.Page), one.What)
			}
			a.screen.Print("\n")
			a.screen.Paragraph(a.screen.Good("Accepted."), "From now on these do not count. They are noted in "+o.Run+" and in accepted.json of the workspace; to take one back, take it out of that file.")
			return nil
		},
	}
	flags := command.Flags()
	flags.StringVar(&o.Page, "page", "", "only the findings on this page")
	flags.StringVar(&o.Check, "check", "", "only the findings of this kind, as the report names it")
	flags.StringVar(&o.Because, "because", "", "why they are as they should be")
	return command
}
