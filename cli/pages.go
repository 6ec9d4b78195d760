package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"wetland/core/pagecheck"
	"wetland/core/smoke"
	"wetland/core/workspace"
)

func (a *app) pagesCommand() *cobra.Command {
	command := &cobra.Command{
		Use:   "pages",
		Short: "List the pages that are tested, add or remove some, or choose them again",
		Long: `List the pages that are tested before and after each update, as wetland.toml names
them. A page is worth testing if its template, or something on it, is on no other
page of the list. Pages that a theme or plugin has a part in join the list for the
run that updates it: wetland examine names them.`,
		Example: `  wetland pages
  wetland pages add /fares /timetable/winter
  wetland pages leave-out /notices/1874
  wetland pages choose`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			return a.listPages(w)
		},
	}
	command.AddCommand(a.addPagesCommand(), a.leaveOutPagesCommand(), a.choosePagesCommand())
	return command
}

func (a *app) addPagesCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "add PATH...",
		Short: "Add pages to those that are tested",
		Long: `Add pages to those that are tested, by their paths below the site's address. Each is
asked for first: one that answers with an error is not added.`,
		Example: `  wetland pages add /fares "/?s=lantern"`,
		Args:    cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, paths []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			if err := pagecheck.AddPages(cmd.Context(), w, paths); err != nil {
				return err
			}
			a.showChanged(w, pagesDocument{Added: paths})
			return nil
		},
	}
}

func (a *app) leaveOutPagesCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "leave-out PATH...",
		Short:   "Take pages off the list of those that are tested",
		Example: `  wetland pages leave-out /notices/1874`,
		Args:    cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, paths []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			if err := pagecheck.LeaveOutPages(w, paths); err != nil {
				return err
			}
			a.showChanged(w, pagesDocument{LeftOut: paths})
			return nil
		},
	}
}

func (a *app) choosePagesCommand() *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use:   "choose",
		Short: "Choose the pages that are tested again",
		Long: `Look for pages as adopt does: one of each kind that the site has, what the menu and
the sitemap name. Pages for which wetland.toml wants something of their own stay. It
shows first what would change. With nobody to ask, and without --yes, it shows that
alone.`,
		Example: `  wetland pages choose
  wetland pages choose --yes`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			return a.choosePages(cmd.Context(), w, yes)
		},
	}
	command.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	return command
}

func (a *app) choosePages(ctx context.Context, w *workspace.Workspace, yes bool) error {
	choice, err := pagecheck.ChooseAnew(ctx, w, a.guard())
	a.screen.Clear()
	if err != nil {
		return err
	}
	document := pagesDocument{LeftOut: choice.LeaveOut, Notes: choice.Notes}
	for _, page := range choice.Add {
		document.Added = append(document.Added, page.Path)
	}
	same := len(document.Added)+len(document.LeftOut) == 0
	a.showChoice(document)
	unasked := !yes && !a.asks()
	if !same && (yes || !unasked && a.ask(ctx, "Change the pages so? Type yes: ") == "yes") {
		if err := w.ChangePages(choice.Add, choice.LeaveOut); err != nil {
			return err
		}
		a.showChanged(w, document)
		return nil
	}
	switch document.Preview = !same; {
	case a.json:
		document.Pages = testedPages(w)
		a.writeJSON(document)
	case same:
		a.screen.Paragraph(a.screen.Good("As it should be."), "These are the pages that would be chosen: nothing was changed.")
	case unasked:
		a.screen.Paragraph(a.screen.Bold("A preview."), "Nothing was changed. With nobody to ask: wetland pages choose --yes")
	default:
		a.screen.Paragraph(a.screen.Bold("A preview."), "Nothing was changed.")
	}
	return nil
}

// showChoice shows where pages were looked for, and what would change.
func (a *app) showChoice(document pagesDocument) {
	for _, note := range document.Notes {
		a.screen.Row("      ", 6, "", note)
	}
	for _, path := range document.Added {
		a.screen.Row("  +   ", 6, "", path)
	}
	for _, path := range document.LeftOut {
		a.screen.Row("  -   ", 6, "", path)
	}
	a.screen.Print("\n")
}

// showChanged shows what was changed of a workspace's pages.
func (a *app) showChanged(w *workspace.Workspace, document pagesDocument) {
	if a.json {
		document.Pages = testedPages(w)
		a.writeJSON(document)
		return
	}
	var words []string
	if n := len(document.Added); n > 0 {
		words = append(words, english.Plural(n, "page", "")+" added")
	}
	if n := len(document.LeftOut); n > 0 {
		words = append(words, english.Plural(n, "page", "")+" left out")
	}
	a.screen.Paragraph(a.screen.Good("Changed."), fmt.Sprintf("%s: %s. The next update looks at them before and after; to record how they are now: wetland smoke --learn", strings.Join(words, ", "), testedWords(len(w.Config.Pages))))
}

func testedWords(n int) string {
	if n == 1 {
		return "1 page is tested now"
	}
	return fmt.Sprintf("%d pages are tested now", n)
}

// testedPages lists the pages that wetland.toml names, with what was last recorded of them.
func testedPages(w *workspace.Workspace) []testedPage {
	baseline, err := smoke.LoadTake(w.Baseline())
	if err != nil {
		baseline = &smoke.Take{}
	}
	pages := []testedPage{}
	for _, page := range w.Config.Pages {
		facts, _ := baseline.Page(page.Path)
		pages = append(pages, testedPage{Path: page.Path, Title: facts.Title, InBrowser: len(facts.Sights) > 0, Conditions: page.HasConditions(), Status: page.Status})
	}
	return pages
}

func (a *app) listPages(w *workspace.Workspace) error {
	pages := testedPages(w)
	if a.json {
		a.writeJSON(pagesDocument{Pages: pages})
		return nil
	}
	seen, widest := 0, 0
	for _, page := range pages {
		widest = max(widest, min(len([]rune(page.Path)), 40))
		if page.InBrowser {
			seen++
		}
	}
	for _, page := range pages {
		words := []string{}
		if page.Title != "" {
			words = append(words, page.Title)
		}
		if page.Status != 0 {
			words = append(words, fmt.Sprintf("must answer %d", page.Status))
		}
		if page.Conditions {
			words = append(words, "has conditions of its own in "+workspace.ConfigName)
		}
		if page.InBrowser {
			words = append(words, "also in the browser")
		}
		a.screen.Row("  ", 2, fmt.Sprintf("%-*s  ", widest, page.Path), strings.Join(words, "; "))
	}
	a.screen.Print("\n")
	words := english.Plural(len(pages), "page", "") + ", tested before and after each update."
	if seen > 0 {
		words += fmt.Sprintf(" %d of them also in a browser.", seen)
	}
	if _, err := smoke.LoadTake(w.Baseline()); errors.Is(err, fs.ErrNotExist) {
		words += " How they are is not recorded yet: wetland smoke --learn"
	}
	a.screen.Paragraph(a.screen.Bold("Pages."), words)
	return nil
}
