package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wetland/cli/screen"
	"wetland/core/site/cms"
	"wetland/core/survey"
	"wetland/core/workspace"
)

func (a *app) surveyCommand() *cobra.Command {
	var edits string
	command := &cobra.Command{
		Use:   "survey",
		Short: "What is installed, what was edited, what the shelf offers",
		Long: `List the CMS, themes, plugins, drop-ins and language packs with their versions:
which are active, which have a newer version on the shelf, which were edited by hand.
Then what deserves a look: automatic updates, leftovers of earlier work by hand that
everybody can fetch, other sites below the root, versions that somebody else changed.
Nothing is touched.`,
		Example: `  wetland survey
  wetland survey --edits harbourlight`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			if edits != "" {
				return a.showEdits(cmd.Context(), w, edits)
			}
			found, err := survey.Take(cmd.Context(), w)
			if err != nil {
				return err
			}
			code := exitSound
			if len(found.Unknown) > 0 {
				code = exitDoubts
			}
			if a.json {
				a.writeJSON(surveyDocument{found, closing{code}})
				return exit(code)
			}
			a.screen.Print("%s  %s\n%s in %s\n\n", a.screen.Bold(w.Config.Site.Name), found.Address, found.System, found.Root)
			a.showComponents(found)
			s := a.screen
			if a.quiet && found.NeedsAttention() {
				s = screen.New(a.errs, false)
			}
			concerns(s, found)
			return exit(code)
		},
	}
	command.Flags().StringVar(&edits, "edits", "", "show what was edited by hand in this theme, plugin, drop-in or language pack, line by line")
	return command
}

func (a *app) showEdits(ctx context.Context, w *workspace.Workspace, folder string) error {
	diff, err := survey.Diff(ctx, w, folder)
	if err != nil {
		return err
	}
	switch {
	case a.json:
		a.writeJSON(editsDocument{Folder: folder, Diff: diff})
	case diff == "":
		a.screen.Print("  %s is as its vendor made it.\n", folder)
	default:
		a.screen.Print("%s", diff)
	}
	return nil
}

func (a *app) showComponents(found *survey.Survey) {
	for _, kind := range cms.Kinds() {
		of := slices.DeleteFunc(slices.Clone(found.Components), func(c survey.Component) bool { return c.Kind != kind })
		passed := 0
		if kind == cms.Language && len(of) > mostPacks {
			calm := func(c survey.Component) bool {
				return c.Newer == "" && c.Problem == "" && (c.Edits == nil || c.Edits.None())
			}
			all := len(of)
			of = slices.DeleteFunc(of, calm)
			passed = all - len(of)
		}
		if len(of) == 0 && passed == 0 && kind != cms.Theme && kind != cms.Plugin {
			continue
		}
		title := string(kind) + "s"
		if kind == cms.Core {
			title = "the CMS"
		}
		rows := a.screen.Table(title, "version", "state", "on the shelf", "edited by hand")
		for _, c := range of {
			rows.AppendRow([]any{c.Folder, orUnknown(c.Version), stateOf(c), newer(a.screen, c), edited(a.screen, c)})
		}
		if passed > 0 {
			rows.AppendRow([]any{fmt.Sprintf("%d more", passed), "", "", "-", "-"})
		}
		rows.Render()
		a.screen.Print("\n")
	}
}

// mostPacks is how many language packs are listed one by one: a site with many plugins in several languages has hundreds.
const mostPacks = 12

func stateOf(c survey.Component) string {
	var words []string
	switch {
	case c.Problem != "":
		words = append(words, "unknown: "+c.Problem)
	case c.Active:
		words = append(words, "active")
	case c.ParentOfActive:
		words = append(words, "parent of the active")
	case c.StateUnknown:
		words = append(words, "not known")
	default:
		words = append(words, "not active")
	}
	if c.Form != "" && c.Kind == cms.Plugin {
		words = append(words, string(c.Form))
	}
	if len(c.RequiredBy) > 0 {
		words = append(words, "required by "+strings.Join(c.RequiredBy, " and "))
	}
	return strings.Join(words, ", ")
}

func newer(s *screen.Screen, c survey.Component) string {
	if c.Newer == "" {
		return "-"
	}
	return s.Good(c.Newer) + ", " + string(c.Distance)
}

func edited(s *screen.Screen, c survey.Component) string {
	_, known := c.Stand()
	switch {
	case !known:
		return "-"
	case c.Edits == nil: // its original is not at hand
		return s.Faint("not known")
	case c.Edits.None():
		return "no"
	}
	var parts []string
	for _, part := range []struct {
		n    int
		what string
	}{{len(c.Edits.Changed), "changed"}, {len(c.Edits.Added), "added"}, {len(c.Edits.Removed), "removed"}} {
		if part.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", part.n, part.what))
		}
	}
	return s.Doubt(strings.Join(parts, ", "))
}

// concerns lists what deserves a look before an update.
func concerns(s *screen.Screen, found *survey.Survey) {
	first := true
	say := func(sign, name, words string) {
		if first {
			s.Print("%s\n", s.Bold("Worth a look"))
			first = false
		}
		s.Row("  "+sign+"  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, name), words)
	}
	for _, c := range found.Components {
		if c.Newer != "" {
			say("--", c.Folder, fmt.Sprintf("%s to %s is %s", orUnknown(c.Version), c.Newer, c.Distance.Meaning()))
		}
		if c.Edits != nil && !c.Edits.None() {
			say(s.Doubt("??"), c.Folder, "an update would overwrite what was edited by hand: "+fewNames(c.Edits.Changed, c.Edits.Added, c.Edits.Removed))
		}
		if c.Changed != "" {
			say(s.Doubt("??"), c.Folder, c.Changed)
		}
	}
	for _, missing := range found.Missing {
		say(s.Doubt("??"), "companion", missing)
	}
	if len(found.Automatic) > 0 {
		say(s.Doubt("??"), "automatic updates", strings.Join(found.Automatic, "; ")+": the CMS may change these by itself, and undo what you did")
	}
	for _, leftover := range found.Leftovers {
		say(s.Bad("!!"), "leftover", leftover.Path+": "+leftover.What)
	}
	for _, nested := range found.Nested {
		say("--", "another site", nested+": left out of snapshots")
	}
	for _, unknown := range found.Unknown {
		say(s.Doubt("??"), "unknown", unknown)
	}
}

// fewNames names the first of several lists of paths.
func fewNames(lists ...[]string) string {
	var all []string
	for _, list := range lists {
		all = append(all, list...)
	}
	const most = 4
	if len(all) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(all[:most], ", "), len(all)-most)
	}
	return strings.Join(all, ", ")
}
