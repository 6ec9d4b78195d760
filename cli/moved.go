package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"wetland/core/advice"
	"wetland/core/restore"
)

func (a *app) movedCommand() *cobra.Command {
	var o restore.MoveOptions
	command := &cobra.Command{
		Use:   "moved [ROOT]",
		Short: "Follow a site that was moved to another folder, address or host",
		Long: `Write into wetland.toml where the site is now: in the folder ROOT, at --address, or
both. It is compared with the newest snapshot first, so that no other site is taken
for it; then older snapshots can be restored there. Nothing on the site is touched.`,
		Example: `  wetland moved /srv/www/ferry-2
  wetland moved /srv/www/ferry --address https://new.ferry.example/`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			if len(args) > 0 {
				o.Root = args[0]
			}
			o.Guard = a.reader(cmd.Context())
			moved, err := restore.FollowMove(cmd.Context(), w, o)
			if err != nil {
				return err
			}
			if a.json {
				a.writeJSON(movedDocument{Moved: moved})
				return nil
			}
			words := "wetland.toml says now that the site is in " + moved.To + ", at " + moved.Address + "."
			if len(moved.Kinship.For) > 0 {
				words += " It is the site of " + moved.Against + ": " + strings.Join(moved.Kinship.For, "; ") + "."
			}
			a.screen.Paragraph(a.screen.Good("Followed."), words)
			a.screen.Next(advice.Run("tests the pages there", advice.LookAgain))
			return nil
		},
	}
	command.Flags().StringVar(&o.Address, "address", "", "where visitors reach the site now (default: as before)")
	command.Flags().BoolVar(&o.Sure, "sure", false, "it is the same site, though little speaks for it")
	return command
}
