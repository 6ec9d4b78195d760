package cli

import (
	"github.com/spf13/cobra"

	"wetland/core/archive"
)

func (a *app) exportCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "export SNAPSHOT FOLDER",
		Short: "Write a snapshot in open formats, readable without Wetland",
		Long: `Write a snapshot into an empty folder, in formats that plain tools read: the files as
a tar archive packed with zstd, the tables as statements for the database's own
client, and a note of how to load them. Every byte is proved while it is written.`,
		Example:           `  wetland export snap-1 /srv/handover`,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.offerThenFolder(snapshots),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			exported, err := archive.Export(cmd.Context(), w, args[0], args[1], a.reader(cmd.Context()))
			a.screen.Clear()
			if err != nil {
				return err
			}
			if a.json {
				a.writeJSON(exportDocument{Exported: exported})
				return nil
			}
			a.screen.Print("\n")
			a.screen.Paragraph(a.screen.Good("Exported."), args[0]+" is in "+args[1]+", with READ-ME.txt on how to load it. It holds customers' data and passwords: keep it private.")
			return nil
		},
	}
}
