package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wetland/cli/screen"
	"wetland/core/rehearsal"
	"wetland/core/runs"
	"wetland/core/shelf"
	"wetland/core/smoke"
	"wetland/core/update"
	"wetland/core/workspace"
)

func (a *app) updateCommand() *cobra.Command {
	var o update.Options
	var withoutDatabase bool
	var inDoubt, search, order, rehearse string
	var planOnly bool
	command := &cobra.Command{
		Use:   "update PACKAGE... | --all",
		Short: "Replace themes, plugins and the CMS by new versions, guarded",
		Long: `Replace what is installed by the versions in packages, guarded: themes, plugins,
drop-ins, language packs, and the CMS itself.

  1  read the packages, and look at everything that could stand against them
  2  look at the pages, to know how they are now
  3  take a verified snapshot of files and database
  4  put the new files beside the live ones, then swap both in one step
  5  wait until old code expires, clear caches, and look at the pages again
  6  keep the new versions if they are sound; else put back what was before,
     and prove that files, tables and pages are as they were
  7  of several packages, look for the culprit, and keep the others

With --rehearse all of it is done on a private copy of the site first; only what is
sound there comes to the site itself.

Everything up to step 4 touches nothing on the site, and --plan stops there. If one
package cannot be taken, none is. Files that a new version does not have any more are
gone afterwards: it replaces, it never merges.

PACKAGE is a zip file, a script that is a plugin by itself, or NAME or NAME@VERSION
from the shelf. In a vendor's bundle the installable zip is found by itself. A theme
or plugin that is not installed yet, such as a new companion of a theme, is installed
but not switched on. Parent themes come before their children, a theme together with
the plugins that belong to it, then the other plugins, and the CMS itself last.`,
		Example: `  wetland update harbourlight-2.5.2.zip
  wetland update --all --plan
  wetland update --all --search yes
  wetland update harbourlight@3.0.0 --allow-major --rehearse
  wetland update harbourlight@2.4.1 --allow-older
  wetland update tidetable-2.0.0.zip --allow-major --in-doubt keep`,
		Args:              packagesOr(&o.All),
		ValidArgsFunction: a.offer(0, true, onShelf),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			o.Packages, o.Guard = args, a.guard()
			o.WithoutDatabase = withoutDatabase
			if err := setRehearse(w, rehearse); err != nil {
				return err
			}
			if err := a.deciders(&o, inDoubt, search, order); err != nil {
				return err
			}
			a.screen.Print("%s  %s\n\n", a.screen.Bold(w.Config.Site.Name), w.Config.Site.Address)
			if planOnly {
				return a.plan(cmd.Context(), w, o)
			}
			o.Planned = a.showSteps
			return a.update(cmd.Context(), w, o)
		},
	}
	flags := command.Flags()
	flags.BoolVar(&o.All, "all", false, "update everything that the shelf has newer")
	flags.BoolVar(&planOnly, "plan", false, "show what would be done, and stop")
	flags.BoolVar(&o.OneByOne, "one-by-one", false, "look at the pages after each step of the plan, not once at the end")
	flags.StringVar(&order, "order", "usual", "in which order packages are put in place: usual, or given")
	flags.BoolVar(&o.AcceptPresent, "accept-present", false, "go on though pages are broken already: only new findings count")
	flags.BoolVar(&o.Older, "allow-older", false, "go on though the package is older than what is installed; its pages need to be healthy, not the same")
	flags.BoolVar(&o.KeepBroken, "keep-broken", false, "with one older version: keep it though its pages are broken")
	flags.BoolVar(&o.Same, "allow-same", false, "go on though this version is installed already")
	flags.BoolVar(&o.Major, "allow-major", false, "go on though the first number of the version changes")
	flags.BoolVar(&o.LoseEdits, "lose-edits", false, "go on though files were edited by hand, which the update overwrites")
	flags.BoolVar(&o.AllowGap, "allow-gap", false, "where two folders cannot be exchanged in one step, accept an instant without the folder")
	flags.BoolVar(&withoutDatabase, "without-database", false, withoutDatabaseUsage)
	flags.BoolVar(&o.Notice, "notice", false, "show visitors a notice while files are swapped (WordPress; it expires by itself)")
	flags.StringVar(&o.Pick, "pick", "", "which package of a bundle: its folder or name")
	flags.StringVar(&inDoubt, "in-doubt", "", "what to do when pages are doubtful: ask, back or keep (default: ask on a terminal, else as wetland.toml says)")
	flags.StringVar(&rehearse, "rehearse", "", "whether to try it on a private copy first: yes, no or large (only large steps); --rehearse alone is yes (default: as wetland.toml says)")
	flags.Lookup("rehearse").NoOptDefVal = "yes"
	flags.StringVar(&search, "search", "", "look for the culprit when several packages fail together: ask, yes or no (default: ask on a terminal, else as wetland.toml says)")
	return command
}

// packagesOr takes packages as arguments, or the option that stands for all of them.
func packagesOr(all *bool) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if *all == (len(args) > 0) {
			return errors.New("name packages, or take --all that the shelf has newer")
		}
		return nil
	}
}

// update runs an update, and where a return to an older version failed, asks whether it is
// wanted all the same. By then the site is safe.
func (a *app) update(ctx context.Context, w *workspace.Workspace, o update.Options) error {
	servers, err := ownServers()
	if err != nil {
		return err
	}
	first := rehearsal.UpdateOptions{Options: rehearsal.Options{Options: o, Servers: servers}}
	if a.asks() {
		first.GoOn = a.askGoOn
	}
	rehearsed, run, err := rehearsal.Update(ctx, w, first)
	if run == nil && rehearsed != nil {
		return a.ended(w, rehearsed, err)
	}
	ended := a.ended(w, run, a.orNothingNewer(err))
	if run == nil || err != nil || !run.FailedReturn() || !a.asks() || ctx.Err() != nil {
		return ended
	}
	if a.ask(ctx, fmt.Sprintf("\nThe site is as it was. Put %s %s in place all the same, with its broken pages?\nType take, or press Enter to leave it: ", run.Components[0].Name, run.Components[0].To)) != "take" {
		return ended
	}
	o.KeepBroken = true
	run, err = update.Update(ctx, w, o)
	return a.ended(w, run, err)
}

// setRehearse has an update be rehearsed as the command line says, not as wetland.toml does.
func setRehearse(w *workspace.Workspace, said string) error {
	how := map[string]string{"": w.Config.Update.Rehearse, "yes": workspace.RehearseAlways, "no": workspace.RehearseNever, "large": workspace.RehearseLarge}
	when, known := how[said]
	if !known {
		return fmt.Errorf("--rehearse must be yes, no or large, not %q", said)
	}
	w.Config.Update.Rehearse = when
	return nil
}

// askGoOn asks whether to go on to the site after a rehearsal that was doubtful.
func (a *app) askGoOn(ctx context.Context, rehearsed *runs.Run) bool {
	a.screen.Print("\n")
	if rehearsed.Judgement != nil {
		a.screen.Pages(rehearsed.Judgement.Pages, true)
	}
	a.screen.Print("\n")
	return a.ask(ctx, "That was on the copy: no visitor saw it. Go on to the site itself? Type go, or press Enter to leave it: ") == "go"
}

// deciders sets who decides what is not decided yet; nobody leaves it to wetland.toml.
func (a *app) deciders(o *update.Options, inDoubt, search, order string) error {
	answer := func(name, given string, known ...string) error {
		if !slices.Contains(append(known, "", "ask"), given) {
			return fmt.Errorf("--%s must be ask, %s, not %q", name, strings.Join(known, " or "), given)
		}
		if given == "ask" && !a.asks() {
			return fmt.Errorf("--%s ask needs a terminal to ask on. Say %s", name, strings.Join(known, " or "))
		}
		return nil
	}
	if err := errors.Join(answer("in-doubt", inDoubt, "back", "keep"), answer("search", search, "yes", "no")); err != nil {
		return err
	}
	if order != "usual" && order != "given" {
		return fmt.Errorf("--order must be usual or given, not %q", order)
	}
	o.AsGiven = order == "given"
	switch inDoubt {
	case "back", "keep":
		o.InDoubt = update.Decision(inDoubt)
	default:
		if a.asks() {
			o.Decide = a.askInDoubt
		}
	}
	switch search {
	case "yes", "no":
		wanted := search == "yes"
		o.Search = &wanted
	default:
		if a.asks() {
			o.AskSearch = a.askSearch
		}
	}
	return nil
}

// showSteps writes in a few lines what is going to be replaced.
func (a *app) showSteps(p *update.Plan) error {
	for i, step := range p.Steps {
		for j, c := range step.Components {
			name := string(c.Kind)
			if len(p.Changes()) > 1 {
				name = ""
				if j == 0 {
					name = fmt.Sprintf("step %d", i+1)
				}
			}
			a.screen.Row("  --  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, name), changeWords(c, len(p.Changes()) > 1))
		}
	}
	if p.Core != nil && len(p.Core.Brings) > 0 {
		a.screen.Row("  --  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, "left out"), shelf.BroughtAlong(p.Core.Brings))
	}
	for _, one := range p.Beside {
		words := fmt.Sprintf("%s %s %s is in the bundle, too, and not installed with it", one.Kind, one.Name, orUnknown(one.Version))
		if one.Installed != "" {
			words += " (installed: " + one.Installed + ")"
		}
		a.screen.Row("  --  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, "left out"), words)
	}
	for _, left := range p.Left {
		a.screen.Row("  --  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, "left"), fmt.Sprintf("%s %s: %s", left.Folder, left.Version, left.Because))
	}
	return nil
}

func changeWords(c update.PlannedChange, withKind bool) string {
	lead := ""
	if withKind {
		lead = string(c.Kind) + " "
	}
	lead += c.Name
	if c.Name != c.Folder {
		lead += " (" + c.Folder + ")"
	}
	if c.New {
		return fmt.Sprintf("%s  %s, not installed yet: it will be installed, not active", lead, orUnknown(c.To))
	}
	return fmt.Sprintf("%s  %s -> %s  %s", lead, orUnknown(c.From), orUnknown(c.To), c.Distance.Word())
}

func orUnknown(version string) string {
	if version == "" {
		return "unknown"
	}
	return version
}

func (a *app) askInDoubt(ctx context.Context, judgement *smoke.Judgement) update.Decision {
	a.screen.Print("\n")
	a.screen.Pages(judgement.Pages, true)
	a.screen.Print("\n")
	if a.ask(ctx, "Visitors see this now. Keep the new version? Type keep, or press Enter to go back: ") == "keep" {
		return update.Keep
	}
	return update.GoBack
}

func (a *app) askSearch(ctx context.Context, plan update.SearchPlan) bool {
	a.screen.Print("\n")
	a.screen.Pages(plan.Judgement.Pages, true)
	a.screen.Print("\n")
	return a.ask(ctx, fmt.Sprintf("All %d packages are put back. Look for the culprit, and keep the others? Parts of the\nupdate are put in place again to see what breaks, at most %d times; visitors met the\nbroken pages for %s so far. Type yes, or press Enter to leave it: ",
		plan.Packages, plan.Probes, plan.Exposed.Round(100*time.Millisecond))) == "yes"
}

// ended writes how a run ended and turns it into an exit code.
func (a *app) ended(w *workspace.Workspace, run *runs.Run, err error) error {
	if run == nil {
		return err
	}
	code := exitOfState(run.State)
	recorded := a.leaveReport(w, run)
	if a.json {
		document := runDocument{Run: run, closing: closing{code}}
		if err != nil {
			document.Error = err.Error()
		}
		a.writeJSON(document)
		return exit(code)
	}
	s := a.screen
	if s.Silent && code != exitSound {
		s = screen.New(a.errs, false)
	}
	if head := foundHead(run); head != "" {
		s.Print("\n%s\n", s.Bold(head))
		s.Pages(run.Judgement.Pages, true)
		s.NotCompared(run.Judgement.NotCompared)
	}
	afterReturn(s, run)
	if len(run.Database) > 0 {
		s.Print("\n%s\n", s.Bold("In the database"))
		for _, note := range run.Database {
			restored(s, fmt.Sprintf("%-20s  ", note.Table), note.What, note.Saved)
		}
	}
	components(s, run)
	s.Print("\n")
	reason := run.Reason
	if err != nil && run.State == runs.Stopped && !errors.Is(err, context.Canceled) {
		reason += "\nThe reason: " + err.Error()
	}
	s.Paragraph(headline(s, run.State), reason)
	s.Next(run.Next...)
	s.Print("\n%s\n", s.Faint(s.Wrap(recorded, "")))
	return exit(code)
}

// foundHead is what stands over the pages' findings; "" if there is nothing to tell.
func foundHead(run *runs.Run) string {
	switch {
	case run.Judgement == nil || len(run.Probes) > 0:
		return ""
	case run.Judgement.Verdict != smoke.Sound:
		return "What was found"
	case run.Returning && slices.ContainsFunc(run.Judgement.Pages, func(p smoke.PageVerdict) bool { return len(p.Findings) > 0 }):
		return "What differs from before"
	}
	return ""
}

// afterReturn writes what was found once all was put back: outside of the components, and on
// pages.
func afterReturn(s *screen.Screen, run *runs.Run) {
	if run.Again != nil {
		s.Print("\n%s\n", s.Bold("What was found after all was put back"))
		s.Pages(run.Again.Pages, true)
	}
	if len(run.Rest) > 0 {
		s.Print("\n%s\n", s.Bold("In the rest of the site"))
		for _, note := range run.Rest {
			restored(s, note.What+"  ", note.Done, note.Saved)
		}
	}
}

// restored writes what became of one thing, and where it is kept as it was before going back.
func restored(s *screen.Screen, what, done, saved string) {
	if saved != "" {
		done += ". As it was before going back: " + saved
	}
	s.Row("    ", 4, what, done)
}

// components writes what became of each of several components, and why.
func components(s *screen.Screen, run *runs.Run) {
	if len(run.Components) < 2 {
		return
	}
	s.Print("\n%s\n", s.Bold("The packages"))
	width := 24
	for _, t := range run.Components {
		width = max(width, len(t.Folder+" "+t.To))
	}
	for _, t := range run.Components {
		sign := map[runs.Fate]string{runs.FateKept: s.Good("ok"), runs.FateSound: s.Good("ok"), runs.FateBack: s.Bad("NO"), runs.FateNotSound: s.Bad("NO")}[t.Fate]
		words := string(t.Fate)
		if words == "" {
			sign, words = "--", "not touched"
		}
		s.Row("  "+sign+"  ", 6, fmt.Sprintf("%-*s  ", width, t.Folder+" "+t.To), strings.Join(append([]string{words}, t.Because...), "\n"))
	}
	if n := len(run.Probes); n > 0 {
		s.Print("\n%s\n", s.Wrap(fmt.Sprintf("  It took %d probes to find out. What was found on each page is in the report.", n), ""))
	}
}

func headline(s *screen.Screen, state runs.State) string {
	return s.Verdict(state.Tone(), state.Headline()+".")
}

func exitOfState(state runs.State) int {
	switch state {
	case runs.Kept, runs.Restored, runs.SoundOnCopy:
		return exitSound
	case runs.KeptDoubt, runs.DoubtfulOnCopy:
		return exitDoubts
	case runs.PutBack, runs.PutBackDoubt, runs.KeptPart, runs.PartOnCopy, runs.BrokenOnCopy:
		return exitFailed
	case runs.Stopped:
		return exitCannot
	}
	return exitPerson
}
