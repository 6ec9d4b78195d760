package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wetland/core/site"
	"wetland/core/smoke"
	"wetland/core/update"
)

func (a *app) pagesCommand() *cobra.Command {
	command := &cobra.Command{
		Use:   "pages",
		Short: "List, add, leave out or choose anew the pages that are tested",
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
			return a.addPages(cmd.Context(), w, paths)
		},
	}
}

func (a *app) addPages(ctx context.Context, w *site.Workspace, paths []string) error {
	var problems []error
	for _, path := range paths {
		switch {
		case !strings.HasPrefix(path, "/"):
			problems = append(problems, fmt.Errorf("%s does not begin with a slash: give the path below the site's address, such as /fares", path))
		case named(w, path):
			problems = append(problems, fmt.Errorf("%s is tested already", path))
		}
	}
	if len(problems) > 0 {
		return fmt.Errorf("nothing was changed: %w", errors.Join(problems...))
	}
	answers, err := update.AskPages(ctx, w, paths)
	if err != nil {
		return err
	}
	var add []site.Page
	for _, answer := range answers {
		if answer.Problem != "" {
			problems = append(problems, fmt.Errorf("%s: %s", answer.Path, answer.Problem))
		}
		add = append(add, site.Page{Path: answer.Path})
	}
	if len(problems) > 0 {
		return fmt.Errorf("nothing was changed, for these pages could not be tested: %w. A page that should answer so can be written into %s, with its status", errors.Join(problems...), site.ConfigName)
	}
	return a.changePages(w, pagesDocument{Added: paths}, add)
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
			var problems []error
			for _, path := range paths {
				if !named(w, path) {
					problems = append(problems, fmt.Errorf("%s is not among the pages that are tested: wetland pages lists them", path))
				}
			}
			if len(problems) > 0 {
				return fmt.Errorf("nothing was changed: %w", errors.Join(problems...))
			}
			return a.changePages(w, pagesDocument{LeftOut: paths}, nil)
		},
	}
}

func (a *app) choosePagesCommand() *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use:   "choose",
		Short: "Choose anew the pages that are tested",
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

func (a *app) choosePages(ctx context.Context, w *site.Workspace, yes bool) error {
	choice, err := update.ChooseAnew(ctx, w, a.guard())
	a.screen.clear()
	if err != nil {
		return err
	}
	document := pagesDocument{LeftOut: choice.LeaveOut, Notes: choice.Notes}
	for _, page := range choice.Add {
		document.Added = append(document.Added, page.Path)
	}
	if len(document.Added)+len(document.LeftOut) == 0 {
		if a.json {
			document.Pages = testedPages(w)
			a.writeJSON(document)
			return nil
		}
		a.screen.paragraph(a.screen.good("As it should be."), "These are the pages that would be chosen: nothing was changed.")
		return nil
	}
	for _, path := range document.Added {
		a.screen.row("  +  ", 5, "", path)
	}
	for _, path := range document.LeftOut {
		a.screen.row("  -  ", 5, "", path)
	}
	a.screen.print("\n")
	unasked := !yes && !a.asks()
	if unasked || !yes && a.ask(ctx, "Change the pages so? Type yes: ") != "yes" {
		if a.json {
			document.Pages, document.Preview = testedPages(w), true
			a.writeJSON(document)
			return nil
		}
		words := "Nothing was changed."
		if unasked {
			words += " With nobody to ask: wetland pages choose --yes"
		}
		a.screen.paragraph(a.screen.bold("A preview."), words)
		return nil
	}
	return a.changePages(w, document, choice.Add)
}

// changePages writes what a document says into wetland.toml, and shows it.
func (a *app) changePages(w *site.Workspace, document pagesDocument, add []site.Page) error {
	if err := w.ChangePages(add, document.LeftOut); err != nil {
		return err
	}
	if a.json {
		document.Pages = testedPages(w)
		a.writeJSON(document)
		return nil
	}
	var words []string
	if n := len(document.Added); n > 0 {
		words = append(words, fmt.Sprintf("%s added", pageCount(n)))
	}
	if n := len(document.LeftOut); n > 0 {
		words = append(words, fmt.Sprintf("%s left out", pageCount(n)))
	}
	a.screen.paragraph(a.screen.good("Changed."), fmt.Sprintf("%s; %s tested now. The next update looks at them before and after; to record how they are now: wetland smoke --learn", strings.Join(words, ", "), pageCountAre(len(w.Config.Pages))))
	return nil
}

func pageCount(n int) string {
	if n == 1 {
		return "1 page"
	}
	return fmt.Sprintf("%d pages", n)
}

func pageCountAre(n int) string {
	if n == 1 {
		return "1 page is"
	}
	return fmt.Sprintf("%d pages are", n)
}

func named(w *site.Workspace, path string) bool {
	return slices.ContainsFunc(w.Config.Pages, func(p site.Page) bool { return p.Path == path })
}

// testedPages lists the pages that wetland.toml names, with what was last recorded of them.
func testedPages(w *site.Workspace) []testedPage {
	baseline, err := smoke.LoadTake(w.Baseline())
	if err != nil {
		baseline = &smoke.Take{}
	}
	pages := []testedPage{}
	for _, page := range w.Config.Pages {
		facts, _ := baseline.Page(page.Path)
		pages = append(pages, testedPage{Path: page.Path, Title: facts.Title, InBrowser: len(facts.Sights) > 0, Wishes: page.HasWishes(), Status: page.Status})
	}
	return pages
}

func (a *app) listPages(w *site.Workspace) error {
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
		if page.Wishes {
			words = append(words, "more is wanted of it in "+site.ConfigName)
		}
		if page.InBrowser {
			words = append(words, "in the browser, too")
		}
		a.screen.row("  ", 2, fmt.Sprintf("%-*s  ", widest, page.Path), strings.Join(words, "; "))
	}
	a.screen.print("\n")
	words := fmt.Sprintf("%s tested before and after each update.", pageCountAre(len(pages)))
	if seen > 0 {
		words = fmt.Sprintf("%s tested before and after each update, %d of them in a browser, too.", pageCountAre(len(pages)), seen)
	}
	if _, err := smoke.LoadTake(w.Baseline()); errors.Is(err, fs.ErrNotExist) {
		words = fmt.Sprintf("%s tested before and after each update. How they are is not recorded yet: wetland smoke --learn", pageCountAre(len(pages)))
	}
	a.screen.paragraph(a.screen.bold("Pages."), words)
	return nil
}
