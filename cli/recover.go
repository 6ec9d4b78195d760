package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"wetland/core/recovery"
	"wetland/core/runs"
	"wetland/core/update"
	"wetland/core/workspace"
)

func (a *app) recoverCommand() *cobra.Command {
	var o recovery.Options
	command := &cobra.Command{
		Use:   "recover",
		Short: "Settle a run that was interrupted",
		Long: `Settle a run that was interrupted by a crash, a loss of power or a second Ctrl-C.
It goes by what it finds on the site: the old version is put back, unless the new
one had been judged sound already. Files, tables and pages are proved as always.

Where an update was put back but for rows of which nobody can tell whether it or a visitor
changed them, say with --undecided what is to become of these: "keep" leaves them as they
are, "back" puts them back as they were right before the update. The run has both states.`,
		Example: `  wetland recover
  wetland recover --to new
  wetland recover --undecided keep`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.load()
			if err != nil {
				return err
			}
			if o.To != "" && o.To != "old" && o.To != "new" {
				return fmt.Errorf("--to must be old or new, not %q", o.To)
			}
			if o.Undecided != "" && o.Undecided != update.Keep && o.Undecided != update.GoBack {
				return fmt.Errorf("--undecided must be keep or back, not %q", o.Undecided)
			}
			o.Guard = a.guard()
			run, err := recovery.Recover(cmd.Context(), w, o)
			var refusal *runs.Refusal
			if errors.Is(err, runs.ErrNothingToRecover) && !errors.As(err, &refusal) {
				if a.json {
					a.writeJSON(nothingDocument{State: "settled"})
				}
				a.screen.Paragraph(a.screen.Good("Nothing to do:"), err.Error()+".")
				return nil
			}
			if run == nil {
				return err
			}
			if run.State == runs.PutBack || run.State == runs.KeptPart || run.State == runs.Stopped {
				// Recovering was asked for, and is done: that is a success.
				return a.recovered(w, run, err, exitSound)
			}
			if run.State == runs.PutBackDoubt {
				return a.recovered(w, run, err, exitDoubts)
			}
			return a.ended(w, run, err)
		},
	}
	command.Flags().StringVar(&o.To, "to", "", "finish at the old or at the new version")
	command.Flags().StringVar((*string)(&o.Undecided), "undecided", "", "keep rows of which nobody can tell whose they are, or put them back")
	return command
}

// recovered writes how a run was settled. The code is what settling came to, not the run.
func (a *app) recovered(w *workspace.Workspace, run *runs.Run, err error, code int) error {
	ended := a.ended(w, run, err)
	var told *exitError
	if err == nil && errors.As(ended, &told) {
		return exit(code)
	}
	return ended
}
