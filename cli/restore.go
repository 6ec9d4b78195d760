package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wetland/core/preflight"
	"wetland/core/restore"
	"wetland/core/update"
	"wetland/core/workspace"
)

func (a *app) restoreCommand() *cobra.Command {
	var o restore.Options
	var yes, keepBroken bool
	var withoutDatabase bool
	var into restore.Into
	command := &cobra.Command{
		Use:   "restore SNAPSHOT|NAME@VERSION",
		Short: "Make files and database as they were in a snapshot, and prove it",
		Long: `Make the site's files and tables equal to a snapshot, and prove it. The present
state is snapshot first, so that a restore can be undone. Files that the snapshot
does not know are removed; tables that it does not know are set aside under
another name, never dropped; caches and other paths that are left out stay.

NAME@VERSION brings back one theme, plugin, drop-in or language pack, or the CMS
itself: its files alone, from the shelf. It is the way out when a version is broken:
nothing that is broken now stands against it. Its pages must be healthy, not as they
are now. If they are not, what was there before comes back.`,
		Example: `  wetland restore snap-1
  wetland restore snap-1 --yes
  wetland restore harbourlight@2.4.1
  wetland restore snap-1 --only tidetable
  wetland restore snap-1 --only database --keep-new
  wetland restore snap-1 --into /srv/rehearsal --into-database rehearsal`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.offer(1, false, wanted),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			if strings.Contains(args[0], "@") {
				o.WithoutDatabase = withoutDatabase
				return a.restoreVersion(cmd.Context(), w, args[0], o, keepBroken)
			}
			if withoutDatabase {
				return errors.New("--without-database is for NAME@VERSION. Of a snapshot, --only files restores the files alone")
			}
			if into != (restore.Into{}) {
				return a.restoreInto(cmd.Context(), w, args[0], into, o)
			}
			if !yes && !a.asks() {
				return errors.New("a restore replaces what is there now. With nobody to ask, say --yes")
			}
			o.Snapshot, o.Guard = args[0], a.guard()
			o.Confirm = func(plan *restore.Plan) bool {
				a.showPlan(plan)
				return yes || plan.Empty() || a.ask(cmd.Context(), "Go on? Type yes: ") == "yes"
			}
			a.screen.Print("%s  %s\n\n", a.screen.Bold(w.Config.Site.Name), w.Config.Site.Address)
			run, err := restore.Restore(cmd.Context(), w, o)
			return a.ended(w, run, err)
		},
	}
	command.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	command.Flags().StringVar(&o.Only, "only", "", "restore a part: files, database, the name of a theme, plugin, drop-in or language pack, or the name of a table")
	command.Flags().BoolVar(&o.KeepNew, "keep-new", false, "keep what visitors wrote since: their rows, and their uploads")
	command.Flags().StringVar(&into.Folder, "into", "", "restore a copy into this new folder instead; the site is not touched")
	command.Flags().StringVar(&into.Database, "into-database", "", "restore a copy of the tables into this empty or new database of the same server instead")
	command.Flags().BoolVar(&withoutDatabase, "without-database", false, "with NAME@VERSION: "+withoutDatabaseUsage)
	command.Flags().BoolVar(&keepBroken, "keep-broken", false, "with NAME@VERSION: keep that version though its pages are broken")
	command.Flags().BoolVar(&o.AllowElsewhere, "allow-elsewhere", false, "write to folders that are not the site's own now, where the snapshot says they were")
	command.Flags().BoolVar(&o.AllowGap, "allow-gap", false, "where two folders cannot be exchanged in one step, accept an instant without the folder")
	completeFlag(command, "only", a.offer(0, false, parts))
	return command
}

// restoreVersion brings back a version of a theme or plugin that was ever installed, or is
// on the shelf: an update to it that nothing broken stands against.
func (a *app) restoreVersion(ctx context.Context, w *workspace.Workspace, name string, o restore.Options, keepBroken bool) error {
	if o.Only != "" || o.KeepNew {
		return errors.New("--only and --keep-new are for snapshots: a version of a theme or plugin is files alone")
	}
	a.screen.Print("%s  %s\n\n", a.screen.Bold(w.Config.Site.Name), w.Config.Site.Address)
	guard := a.guard()
	guard.WithoutDatabase = o.WithoutDatabase
	return a.update(ctx, w, update.Options{
		Guard: guard, Packages: []string{name}, Allowed: preflight.Allowed{Return: true}, KeepBroken: keepBroken, AllowGap: o.AllowGap, Planned: a.showSteps,
	})
}

// restoreInto makes a copy beside the site.
func (a *app) restoreInto(ctx context.Context, w *workspace.Workspace, name string, into restore.Into, o restore.Options) error {
	if o.Only != "" || o.KeepNew {
		return errors.New("--only and --keep-new are for the site itself, not for a copy of it")
	}
	manifest, err := restore.MakeCopy(ctx, w, name, into, a.reader(ctx))
	a.screen.Clear()
	if err != nil {
		return err
	}
	if a.json {
		a.writeJSON(documentOfSnapshot(manifest))
		return nil
	}
	a.screen.Print("\n")
	a.screen.Paragraph(a.screen.Good("Copied."), "The copy is equal to "+manifest.Name+", proved; the site was not touched. The settings in the copy still name the live site's address and database: change them before you let it answer.")
	return nil
}

// mostShown bounds how many names of one sort a plan prints.
const mostShown = 6

func (a *app) showPlan(plan *restore.Plan) {
	s := a.screen
	if plan.Empty() {
		s.Print("\n  It is as in %s already.\n\n", plan.Snapshot)
		return
	}
	s.Print("\n%s\n", s.Bold("What will change"))
	for _, part := range []struct {
		what  string
		names []string
	}{
		{"swapped whole", plan.Components}, {"written", plan.Write}, {"removed", plan.Remove},
		{"tables put back", plan.Tables}, {"tables set aside", plan.Aside},
	} {
		for i, name := range part.names {
			if i == mostShown {
				s.Row("    ", 4, fmt.Sprintf("%-18s", ""), fmt.Sprintf("and %d more", len(part.names)-mostShown))
				break
			}
			head := part.what
			if i > 0 {
				head = ""
			}
			s.Row("    ", 4, fmt.Sprintf("%-18s", head), name)
		}
	}
	for _, note := range plan.Newer {
		paint := s.Bad
		switch {
		case note.Left:
			paint = s.Good
		case note.Unsure:
			paint = s.Doubt
		}
		s.Row("    ", 4, fmt.Sprintf("%-18s", note.Table), paint(note.What))
	}
	for i, name := range plan.Unread {
		if i == mostShown {
			s.Row("    ", 4, fmt.Sprintf("%-18s", ""), fmt.Sprintf("and %d more", len(plan.Unread)-mostShown))
			break
		}
		s.Row("    ", 4, fmt.Sprintf("%-18s", "cannot be read now"), name)
	}
	s.Print("\n")
}
