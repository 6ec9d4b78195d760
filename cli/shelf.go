package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wetland/cli/screen"
	"wetland/core/packages"
	"wetland/core/shelf"
	"wetland/core/version"
)

func (a *app) shelveCommand() *cobra.Command {
	var how shelf.Options
	command := &cobra.Command{
		Use:   "shelve FILE|ADDRESS|NAME@VERSION...",
		Short: "Put packages on the shelf, every version of each",
		Long: `Put packages on the workspace's shelf: zips, the zips in a folder, and the packages
in a vendor's bundle, two zips deep. Each is read whole and checked first. Every
version is kept; the same version with other content is kept separately, and told.

An address is downloaded; one that carries a key or password is not taken as an
argument, where others could see it: give a single minus sign, and the address on
standard input. NAME@VERSION is fetched from the source that wetland.toml names for it;
the key to it comes from the environment, from a file that only you can read, or you
are asked for it, and what you type is not shown.`,
		Example: `  wetland shelve ../packages
  wetland shelve https://vendor.example/harbourlight-2.5.2.zip
  wetland shelve harbourlight@2.5.2
  wetland shelve harbourlight-2.5.2.zip tidetable-2.0.0.zip`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			names, err := a.withAddresses(cmd.Context(), args)
			if err != nil {
				return err
			}
			if a.asks() {
				how.AskKey = a.keyAsker()
			}
			shelved, err := shelf.Shelve(cmd.Context(), w, names, how)
			if err != nil {
				return err
			}
			code := exitSound
			taken := 0
			for _, one := range shelved {
				taken += len(one.Entries)
				if one.Problem != "" {
					code = exitDoubts
				}
			}
			if taken == 0 {
				code = exitRefused
			}
			if a.json {
				a.writeJSON(shelveDocument{shelved, closing{code}})
				return exit(code)
			}
			a.showShelved(shelved)
			return exit(code)
		},
	}
	command.Flags().StringVar(&how.SHA256, "sha256", "", "the checksum that the vendor gives for a download")
	return command
}

// keyAsker returns what asks for a vendor's key, once for each component.
func (a *app) keyAsker() func(context.Context, string) (string, error) {
	known := map[string]string{}
	return func(ctx context.Context, folder string) (string, error) {
		if key, ok := known[folder]; ok {
			return key, nil
		}
		key, err := a.secret(ctx, "Key for "+folder+" (not shown): ")
		if err == nil && key == "" {
			err = errors.New("no key was given")
		}
		known[folder] = key
		return key, err
	}
}

// withAddresses reads an address from standard input in place of each "-", and
// refuses arguments that carry a secret.
func (a *app) withAddresses(ctx context.Context, args []string) ([]string, error) {
	var names []string
	for _, arg := range args {
		if strings.Contains(arg, "://") && packages.CarriesSecret(arg) {
			return nil, &exitError{code: exitRefused, err: errors.New("the address carries a key or password: others can see" +
				" it in the list of processes, and it stays in your shell's history. Give it on standard input: wetland shelve -")}
		}
		if arg == "-" {
			question := ""
			if a.asks() {
				question = "Address: "
			}
			if arg = a.line(ctx, question); arg == "" {
				return nil, errors.New("there is no address on standard input")
			}
		}
		names = append(names, arg)
	}
	return names, nil
}

func (a *app) showShelved(shelved []shelf.Shelved) {
	s := a.screen
	if s.Silent {
		s = screen.New(a.errs, false)
	}
	for _, one := range shelved {
		for _, entry := range one.Entries {
			words := fmt.Sprintf("%s %s, from %s", entry.Name, orUnknown(entry.Version), one.File)
			sign := s.Good("ok")
			if entry.Beside {
				sign = s.Doubt("??")
				words += ": another package of this version is there already, with other content. Both are kept: " + entry.File
			}
			if !a.quiet || entry.Beside {
				s.Row("  "+sign+"  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, entry.Kind), words)
			}
		}
		if one.Problem != "" {
			s.Row("  "+s.Bad("NO")+"  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, "not taken"), one.Problem)
		}
	}
}

func (a *app) shelfCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "shelf",
		Short: "List the packages at hand",
		Long: `List what is on the shelf, newest version first, and how it stands to what is
installed. Versions that an update replaced are on it by themselves.`,
		Example: `  wetland shelf`,
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			entries, err := shelf.List(cmd.Context(), w)
			if err != nil {
				return err
			}
			if a.json {
				a.writeJSON(shelfDocument{Shelf: entries})
				return nil
			}
			a.showShelf(entries)
			return nil
		},
	}
}

func (a *app) showShelf(entries []shelf.OnShelf) {
	if len(entries) == 0 {
		a.screen.Print("  The shelf is empty. To put packages on it: wetland shelve FILE...\n")
		return
	}
	rows := a.screen.Table("package", "version", "to what is installed", "from")
	for _, entry := range entries {
		if entry.Problem != "" {
			rows.AppendRow([]any{entry.Folder, orUnknown(entry.Version), a.screen.Bad("damaged"), entry.Problem})
			continue
		}
		from := entry.Source + ", " + entry.Shelved.Local().Format("2 Jan 15:04")
		if entry.Replaced && entry.Distance != version.Same {
			from += "; was installed here"
		}
		if mustBeNamed(entry, entries) {
			from += "; to take this one, name its file: " + entry.File
		}
		rows.AppendRow([]any{entry.Folder, orUnknown(entry.Version), standing(a.screen, entry), from})
	}
	rows.Render()
}

// mustBeNamed tells of a package that its name and version do not mean: there is another one of
// them. Of the vendor's package and the files as they were on the site they mean the former.
func mustBeNamed(entry shelf.OnShelf, entries []shelf.OnShelf) bool {
	return slices.ContainsFunc(entries, func(other shelf.OnShelf) bool {
		same := other.File != entry.File && other.Kind == entry.Kind && other.Folder == entry.Folder &&
			version.Compare(other.Version, entry.Version) == 0
		return same && (entry.FromSite || !other.FromSite)
	})
}

// standing says how a package stands to the installed version.
func standing(s *screen.Screen, entry shelf.OnShelf) string {
	switch entry.Distance {
	case "":
		return "not installed"
	case version.Same:
		return s.Bold("installed")
	case version.Backward:
		return "older than " + entry.Installed
	case version.Unclear:
		return "installed: " + orUnknown(entry.Installed)
	}
	return s.Good("newer, " + string(entry.Distance))
}
