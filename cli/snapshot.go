package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"wetland/core/advice"
	"wetland/core/archive"
	"wetland/core/phrase"
	"wetland/core/snapshot"
)

func (a *app) snapshotCommand() *cobra.Command {
	var o archive.SnapshotOptions
	var withoutDatabase bool
	command := &cobra.Command{
		Use:   "snapshot",
		Short: "Keep files and database as they are now, verified",
		Long: `Take a snapshot of the site's files and its own tables, from the same moment, and
prove it by reading back all that was written. An update takes one by itself. What
an earlier snapshot holds already is not stored again.`,
		Example: `  wetland snapshot
  wetland snapshot --note "before the summer timetable" --pin
  wetland snapshot --if-older 2h`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			o.Guard = a.guard()
			o.WithoutDatabase = withoutDatabase
			taken, err := archive.Snapshot(cmd.Context(), w, o)
			if err != nil {
				return err
			}
			if a.json {
				document := documentOfSnapshot(taken.Manifest)
				document.Fresh = &taken.Fresh
				a.writeJSON(document)
				return nil
			}
			a.screen.Print("\n")
			if taken.Fresh {
				a.screen.Paragraph(a.screen.Good("Taken and verified."), fmt.Sprintf("%s is in %s%s.", taken.Name, w.Store(),
					provedWords(taken.Proved)))
			} else {
				a.screen.Paragraph(a.screen.Good("None needed."), fmt.Sprintf("%s of %s holds what is there now.", taken.Name,
					taken.FilesAt.Local().Format("2 Jan 15:04")))
			}
			a.showWeaker(taken.Manifest)
			a.screen.Next(advice.Run("makes the site as it is now", advice.Restore, taken.Name))
			return nil
		},
	}
	command.Flags().StringVar(&o.Note, "note", "", "a few words, shown by history")
	command.Flags().BoolVar(&o.Pin, "pin", false, "keep it until it is unpinned, however old it gets")
	command.Flags().BoolVar(&withoutDatabase, "without-database", false, withoutDatabaseUsage)
	command.Flags().DurationVar(&o.IfOlder, "if-older", 0, "take none if the newest is younger than this (such as 2h)"+
		" and nothing changed since")
	return command
}

// provedWords say when what a snapshot shares with older ones was read back, if not just now.
func provedWords(since time.Time) string {
	switch days := int(time.Since(since).Hours() / 24); {
	case since.IsZero():
		return "; what it shares with older ones is read back by turns"
	case days > 0:
		return "; what it shares with older ones was read back within " + phrase.Plural(days, "day")
	}
	return ""
}

const withoutDatabaseUsage = "go on with the files alone where the host lets nobody reach the database: what changes" +
	" in it is neither seen nor put back"

func (a *app) pinCommand() *cobra.Command {
	var off bool
	command := &cobra.Command{
		Use:               "pin SNAPSHOT",
		Short:             "Keep a snapshot, however old it gets",
		Long:              `Pin a snapshot: wetland tidy never deletes it. With --off it may go again.`,
		Example:           "  wetland pin snap-1\n  wetland pin snap-1 --off",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.offer(1, false, snapshots),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			if err := archive.Pin(cmd.Context(), w, args[0], !off, a.reader(cmd.Context())); err != nil {
				return err
			}
			if a.json {
				a.writeJSON(pinDocument{Snapshot: args[0], Pinned: !off})
				return nil
			}
			if off {
				a.screen.Print("  %s is not pinned any more.\n", args[0])
			} else {
				a.screen.Print("  %s is pinned: it stays, however old it gets.\n", args[0])
			}
			return nil
		},
	}
	command.Flags().BoolVar(&off, "off", false, "take the pin away")
	return command
}

func (a *app) showWeaker(m *snapshot.Manifest) {
	for _, line := range m.Weaker {
		a.screen.Row("  "+a.screen.Doubt("??")+"  ", 6, "", line)
	}
	for _, name := range m.Skipped {
		a.screen.Row("  --  ", 6, "", "skipped, as it is neither file nor folder nor link: "+name)
	}
}
