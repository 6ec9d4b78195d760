package cli

import (
	"fmt"
	"io"
	"slices"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wetland/core/archive"
	"wetland/core/runs"
)

func (a *app) historyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "history",
		Short: "Snapshots and runs, newest first",
		Example: `  wetland history
  wetland history --json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			a.screen.print("%s  %s\n\n", a.screen.bold(w.Config.Site.Name), w.Config.Site.Address)
			events, err := archive.History(w, a.reader(cmd.Context()))
			if err != nil {
				return err
			}
			if a.json {
				a.writeJSON(historyDocument{Site: w.Config.Site.Name, Events: events})
				return nil
			}
			if len(events) == 0 {
				a.screen.print("  No snapshots and no runs yet.\n")
				return nil
			}
			a.showHistory(events)
			return nil
		},
	}
}

func (a *app) showHistory(events []archive.Event) {
	s := a.screen
	rows := s.table("when", "what", "how it ended", "about")
	for _, event := range slices.Backward(events) {
		rows.AppendRow(table.Row{event.At.Local().Format("2 Jan 15:04"), event.Name, s.state(event.State), event.About})
	}
	rows.Render()
	damaged := 0
	for _, event := range events {
		if event.Problem != "" {
			damaged++
		}
	}
	if damaged > 0 {
		s.print("\n")
		s.paragraph(s.bad("Careful:"), fmt.Sprintf("%d of these cannot be read and must not be relied on.", damaged))
	}
}

// table begins a table without lines; its last column is wrapped.
func (s *screen) table(heads ...any) table.Writer {
	rows := table.NewWriter()
	if s.silent {
		rows.SetOutputMirror(io.Discard)
	} else {
		rows.SetOutputMirror(s.text)
	}
	rows.SetStyle(table.StyleDefault)
	rows.SuppressTrailingSpaces()
	style := rows.Style()
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "  ", ""
	style.Format.Header = 0
	rows.AppendHeader(heads)
	rows.SetColumnConfigs([]table.ColumnConfig{{Number: len(heads), WidthMax: max(24, s.width-46), WidthMaxEnforcer: wrapCell}})
	return rows
}

func (s *screen) state(state string) string {
	switch runs.State(state) {
	case runs.Kept, runs.Restored, "verified":
		return s.good(state)
	case runs.PutBack, runs.PutBackDoubt, runs.KeptDoubt, runs.KeptPart:
		return s.doubt(state)
	case runs.NeedsPerson, runs.UnderWay, "damaged":
		return s.bad(state)
	}
	return state
}
