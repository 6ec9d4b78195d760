package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"wetland/cli/screen"
	"wetland/core/report"
	"wetland/core/runs"
	"wetland/core/workspace"
)

func (a *app) reportCommand() *cobra.Command {
	var form string
	command := &cobra.Command{
		Use:   "report RUN",
		Short: "Show the report of a run: what was found, how it looked, what was done",
		Long: `Write the report of a run as one HTML file that needs nothing else, and say where it
is. It shows the verdict, the findings page by page with pictures from before and
after, what was done and how long it took, and what to do next. --as prints another
form instead: markdown for a ticket, junit for a build server.`,
		Example: `  wetland report run-1
  wetland report run-1 --as markdown`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.offer(1, false, runNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			if a.json && cmd.Flags().Changed("as") {
				return errors.New("--as and --json cannot be both: --json is a form of its own")
			}
			w, err := a.load()
			if err != nil {
				return err
			}
			run, err := runs.Load(w, args[0])
			if err != nil {
				return err
			}
			if a.json {
				a.writeJSON(runDocument{Run: run})
				return nil
			}
			made, err := report.Make(w.Config.Site.Name, w.Config.Site.Address, run, screen.CommandLine)
			if err != nil {
				return err
			}
			return a.writeReport(made, form)
		},
	}
	command.Flags().StringVar(&form, "as", "html", "html, markdown or junit")
	return command
}

func (a *app) writeReport(made *report.Report, form string) error {
	switch form {
	case "html":
		file, err := made.Write()
		if err != nil {
			return err
		}
		a.screen.Print("%s\n", file)
	case "markdown":
		fmt.Fprint(screen.Printable(a.out, false), made.Markdown())
	case "junit":
		text, err := made.JUnit()
		if err != nil {
			return err
		}
		fmt.Fprintf(a.out, "%s", text)
	default:
		return fmt.Errorf("--as must be html, markdown or junit, not %q", form)
	}
	return nil
}

// leaveReport writes a run's report beside its record. A report that cannot be written
// changes nothing about the run.
func (a *app) leaveReport(w *workspace.Workspace, run *runs.Run) string {
	made, err := report.Make(w.Config.Site.Name, w.Config.Site.Address, run, screen.CommandLine)
	if err == nil {
		var file string
		if file, err = made.Write(); err == nil {
			return fmt.Sprintf("%s is recorded in %s; its report: %s", run.Name, run.Folder, file)
		}
	}
	return fmt.Sprintf("%s is recorded in %s; its report could not be written: %v", run.Name, run.Folder, err)
}
