package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"wetland/core/archive"
	"wetland/core/session"
)

func (a *app) tidyCommand() *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use:   "tidy",
		Short: "Delete snapshots past their time",
		Long: `Delete the snapshots that are past their time by the rules in wetland.toml
([retention]), and free the space that only they need. The newest, pinned ones,
and those that a run still needs stay in any case. It shows first what goes. With
nobody to ask, and without --yes, it only shows that.`,
		Example: `  wetland tidy
  wetland tidy --yes`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			unasked := false
			plan, err := archive.Tidy(cmd.Context(), w, time.Now(), func(plan *archive.TidyPlan) bool {
				a.showTidyPlan(plan)
				unasked = !yes && !a.asks()
				return yes || (!unasked && (len(plan.Going()) == 0 || a.ask(cmd.Context(), "Delete them? Type yes: ") == "yes"))
			}, a.reader(cmd.Context()))
			preview := errors.Is(err, session.ErrDeclined) && unasked
			if err != nil && !preview {
				return err
			}
			if a.json {
				a.writeJSON(tidyDocument{TidyPlan: plan, Preview: preview})
				return nil
			}
			if preview {
				a.screen.Paragraph(a.screen.Bold("A preview."), fmt.Sprintf("%d of %d snapshots would go; nothing was changed. With nobody to ask: wetland tidy --yes", len(plan.Going()), len(plan.Fates)))
				return nil
			}
			a.screen.Print("\n")
			a.screen.Paragraph(a.screen.Good("Tidy."), fmt.Sprintf("%d of %d snapshots stay; %s freed.", len(plan.Fates)-len(plan.Going()), len(plan.Fates), humanize.Bytes(uint64(max(0, plan.Freed)))))
			return nil
		},
	}
	command.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	return command
}

func (a *app) showTidyPlan(plan *archive.TidyPlan) {
	for _, fate := range plan.Fates {
		sign := a.screen.Good("stays")
		if fate.Go {
			sign = a.screen.Doubt("goes ")
		}
		a.screen.Row("  "+sign+"  ", 9, fmt.Sprintf("%-10s%-14s", fate.Name, fate.At.Local().Format("2 Jan 2006")), fate.Why)
	}
	a.screen.Print("\n")
}
