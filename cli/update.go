package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"wetland/core/site"
	"wetland/core/smoke"
	"wetland/core/update"
	"wetland/core/version"
)

func (a *app) updateCommand() *cobra.Command {
	var o update.Options
	var inDoubt string
	command := &cobra.Command{
		Use:   "update PACKAGE",
		Short: "Replace a theme or plugin by a new version, guarded",
		Long: `Replace an installed theme or plugin by the version in a package, guarded:

  1  read the package, and look at everything that could stand against it
  2  look at the pages, to know how they are now
  3  take a verified snapshot of files and database
  4  put the new files beside the live ones, then swap both in one step
  5  let the CMS settle, empty its page cache, and look at the pages again
  6  keep the new version if they are sound; else put back what was before,
     and prove that files, tables and pages are as they were

Everything up to step 4 touches nothing on the site. Files that the new version
does not have any more are gone afterwards: it replaces, it never merges.

PACKAGE is a zip file, or NAME or NAME@VERSION from the shelf. In a vendor's bundle
the installable zip is found by itself. A package that is not installed yet, such as
a new companion of a theme, is installed but not switched on.`,
		Example: `  wetland update harbourlight-2.5.2.zip
  wetland update harbourlight@2.4.1 --allow-older
  wetland update tidetable-2.0.0.zip --allow-major --in-doubt keep`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			o.Package, o.Guard = args[0], a.guard()
			if o.Decide, err = a.decider(inDoubt); err != nil {
				return err
			}
			a.screen.print("%s  %s\n\n", a.screen.bold(w.Config.Site.Name), w.Config.Site.Address)
			o.Planned = a.showTarget
			run, err := update.Update(cmd.Context(), w, o)
			return a.ended(w, run, err)
		},
	}
	flags := command.Flags()
	flags.BoolVar(&o.AcceptPresent, "accept-present", false, "go on though pages are broken already: only new findings count")
	flags.BoolVar(&o.AllowOlder, "allow-older", false, "go on though the package is older than what is installed")
	flags.BoolVar(&o.AllowSame, "allow-same", false, "go on though this version is installed already")
	flags.BoolVar(&o.AllowMajor, "allow-major", false, "go on though the first number of the version changes")
	flags.BoolVar(&o.LoseEdits, "lose-edits", false, "go on though files were edited by hand, which the update overwrites")
	flags.BoolVar(&o.AllowGap, "allow-gap", false, "where two folders cannot be exchanged in one step, accept an instant without the folder")
	flags.StringVar(&o.Pick, "pick", "", "which package of a bundle: its folder or name")
	flags.StringVar(&inDoubt, "in-doubt", "", "what to do when pages are doubtful: ask, back or keep (default: ask on a terminal, else as wetland.toml says)")
	return command
}

func (a *app) showTarget(t *update.Target) {
	if t.New {
		a.screen.row("  --  ", 6, fmt.Sprintf("%-*s", stepWidth, string(t.Kind)), fmt.Sprintf("%s (%s)  %s, not installed yet: it will be installed, not active", t.Name, t.Folder, orUnknown(t.To)))
		return
	}
	distance := version.Between(t.From, t.To)
	a.screen.row("  --  ", 6, fmt.Sprintf("%-*s", stepWidth, string(t.Kind)), fmt.Sprintf("%s (%s)  %s -> %s  %s", t.Name, t.Folder, orUnknown(t.From), orUnknown(t.To), distance))
}

func orUnknown(version string) string {
	if version == "" {
		return "unknown"
	}
	return version
}

// decider returns who decides when pages are doubtful; nil leaves it to wetland.toml.
func (a *app) decider(inDoubt string) (func(context.Context, *smoke.Judgement) update.Decision, error) {
	fixed := func(d update.Decision) func(context.Context, *smoke.Judgement) update.Decision {
		return func(context.Context, *smoke.Judgement) update.Decision { return d }
	}
	switch inDoubt {
	case "back":
		return fixed(update.GoBack), nil
	case "keep":
		return fixed(update.Keep), nil
	case "", "ask":
		if a.asks() {
			return a.askInDoubt, nil
		}
		if inDoubt == "ask" {
			return nil, fmt.Errorf("--in-doubt ask needs a terminal to ask on. Say back or keep")
		}
		return nil, nil
	}
	return nil, fmt.Errorf("--in-doubt must be ask, back or keep, not %q", inDoubt)
}

func (a *app) askInDoubt(ctx context.Context, judgement *smoke.Judgement) update.Decision {
	a.screen.print("\n")
	a.screen.pages(judgement.Pages, true)
	a.screen.print("\n")
	if a.ask(ctx, "Visitors see this now. Keep the new version? Type keep, or press Enter to go back: ") == "keep" {
		return update.Keep
	}
	return update.GoBack
}

// runDocument is what --json prints of a run.
type runDocument struct {
	*update.Run
	ExitCode int    `json:"exit_code"`
	Error    string `json:"error,omitempty"`
}

// ended writes how a run ended and turns it into an exit code.
func (a *app) ended(w *site.Workspace, run *update.Run, err error) error {
	if run == nil {
		return err
	}
	code := exitOfState(run.State)
	recorded := a.leaveReport(w, run)
	if a.json {
		document := runDocument{Run: run, ExitCode: code}
		if err != nil {
			document.Error = err.Error()
		}
		a.writeJSON(document)
		return exit(code)
	}
	s := a.screen
	if s.silent && code != exitSound {
		s = newScreen(a.errs, false)
	}
	if run.Judgement != nil && run.Judgement.Verdict != smoke.Sound {
		s.print("\n%s\n", s.bold("What was found"))
		s.pages(run.Judgement.Pages, true)
	}
	if len(run.Database) > 0 {
		s.print("\n%s\n", s.bold("In the database"))
		for _, note := range run.Database {
			words := note.What
			if note.Saved != "" {
				words += ". The rows from before going back: " + note.Saved
			}
			s.row("    ", 4, fmt.Sprintf("%-20s  ", note.Table), words)
		}
	}
	s.print("\n")
	reason := run.Reason
	if err != nil && run.State == update.Stopped {
		reason += "\nThe reason: " + err.Error()
	}
	s.paragraph(headline(s, run.State), reason)
	s.next(run.Next)
	s.print("\n%s\n", s.faint(s.wrap(recorded, "")))
	return exit(code)
}

func headline(s *screen, state update.State) string {
	switch state {
	case update.Kept:
		return s.good("Kept.")
	case update.Restored:
		return s.good("Restored.")
	case update.KeptDoubt:
		return s.doubt("Done, with doubts.")
	case update.PutBack:
		return s.doubt("Put back.")
	case update.Stopped:
		return s.bad("Stopped.")
	}
	return s.bad("A person is needed.")
}

func exitOfState(state update.State) int {
	switch state {
	case update.Kept, update.Restored:
		return exitSound
	case update.KeptDoubt:
		return exitDoubts
	case update.PutBack:
		return exitFailed
	case update.Stopped:
		return exitCannot
	}
	return exitPerson
}
