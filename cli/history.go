package cli

import (
	"fmt"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wetland/cli/screen"
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
			a.screen.Print("%s  %s\n\n", a.screen.Bold(w.Config.Site.Name), w.Config.Site.Address)
			events, err := archive.History(cmd.Context(), w, a.reader(cmd.Context()))
			if err != nil {
				return err
			}
			if a.json {
				a.writeJSON(historyDocument{Site: w.Config.Site.Name, Events: events})
				return nil
			}
			if len(events) == 0 {
				a.screen.Print("  No snapshots and no runs yet.\n")
				return nil
			}
			a.showHistory(events)
			return nil
		},
	}
}

func (a *app) showHistory(events []archive.Event) {
	s := a.screen
	rows := s.Table("when", "what", "how it ended", "about")
	for _, event := range slices.Backward(events) {
		how := state(s, event.State)
		if !event.Proved.IsZero() && event.Proved.Format(time.DateOnly) != event.At.UTC().Format(time.DateOnly) {
			how += ", last " + event.Proved.Format("2 Jan")
		}
		rows.AppendRow(table.Row{event.At.Local().Format("2 Jan 15:04"), event.Name, how, event.About})
	}
	rows.Render()
	damaged := 0
	for _, event := range events {
		if event.Problem != "" {
			damaged++
		}
	}
	if damaged > 0 {
		s.Print("\n")
		s.Paragraph(s.Bad("Careful:"), fmt.Sprintf("%d of these cannot be read and must not be relied on.", damaged))
	}
}

func state(s *screen.Screen, state string) string {
	switch runs.State(state) {
	case runs.Kept, runs.Restored, runs.SoundOnCopy, archive.Verified, archive.Lived:
		return s.Good(state)
	case runs.PutBack, runs.PutBackDoubt, runs.KeptDoubt, runs.KeptPart, runs.PartOnCopy, runs.DoubtfulOnCopy:
		return s.Doubt(state)
	case runs.NeedsPerson, runs.UnderWay, runs.BrokenOnCopy, "damaged":
		return s.Bad(state)
	}
	return state
}
