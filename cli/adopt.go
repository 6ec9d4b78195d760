package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"wetland/cli/screen"
	"wetland/core/adopt"
	"wetland/core/advice"
	"wetland/core/site/cms"
	"wetland/core/workspace"
)

func (a *app) adoptCommand() *cobra.Command {
	var o adopt.Options
	var putHelper bool
	command := &cobra.Command{
		Use:   "adopt ROOT --address URL",
		Short: "Take a site into care: recognise it, prove it, write wetland.toml",
		Long: `Take the site in the folder ROOT into care. Wetland recognises the CMS, reads how to
log in to the database from the CMS's own settings, proves that ROOT is what answers
at the address, finds pages to test, and writes a commented wetland.toml into the
workspace: a folder outside of the web root, where snapshots and records will be.
Nothing on the site is touched.

A site on another machine is named as ssh does it: ssh://USER@HOST/FOLDER, and your own
settings, keys and agent of ssh are used. Wetland works there through a helper, a program
of its own that it puts into the account after you agreed. Where an account lets files be
moved and no program be run, name it sftp://USER@HOST/FOLDER: less can be promised then.

A copy for trying things out is often protected, or hidden behind another server: say
with --user, --server and --certificates how it is reached.`,
		Example: `  wetland adopt /srv/www/ferry --address https://ferry.example/ --workspace ~/care/ferry
  wetland adopt ssh://keeper@ferry.example/srv/www/ferry --address https://ferry.example/
  wetland adopt /srv/www/try --address https://try.ferry.example/ --user staging \
      --password-from "env STAGING_PASSWORD"`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Root, o.Workspace, o.Report, o.Hosts = args[0], a.workspace, a.screen, a.findHost
			if putHelper {
				o.Host.Helper = workspace.PutHelper
			}
			if o.Workspace == "" {
				o.Workspace = "."
			}
			if err := fromAnywhere(&o.Reach, &o.Host); err != nil {
				return err
			}
			result, err := adopt.Adopt(cmd.Context(), o)
			if err != nil {
				return err
			}
			code := exitSound
			if len(result.Doubts) > 0 {
				code = exitDoubts
			}
			if a.json {
				a.writeJSON(documentOfAdoption(result, code))
				return exit(code)
			}
			a.showAdopted(result)
			return exit(code)
		},
	}
	command.Flags().StringVar(&o.Address, "address", "", "where visitors reach the site (default: what the CMS's own settings say)")
	command.Flags().StringVar(&o.Name, "name", "", "what to call the site (default: what the CMS calls it, else the host of its address)")
	command.Flags().BoolVar(&o.Reach.FromHost, "from-host", false, "pages can be reached from the site's own machine only: fetch them from there")
	command.Flags().StringVar(&o.Reach.Server, "server", "", "HOST:PORT of the server itself, bypassing what stands in front of it")
	command.Flags().StringVar(&o.Reach.Certificates, "certificates", "", "file of certificates (PEM) to trust beside the system's")
	command.Flags().StringVar(&o.Reach.User, "user", "", "user of a protected site (HTTP Basic)")
	command.Flags().StringVar(&o.Reach.PasswordFrom, "password-from", "", `where that user's password is: "env NAME" or "file PATH"`)
	command.Flags().BoolVar(&putHelper, "put-helper", false, "yes, put the helper on the site's machine")
	command.Flags().StringVar(&o.Host.Key, "host-key", "", "fingerprint of that machine's key, where it is not known yet: SHA256:...")
	command.Flags().StringVar(&o.Host.PasswordFrom, "account-password-from", "", `where the password of the account there is: "env NAME" or "file PATH"`)
	command.Flags().BoolVar(&o.NoBrowser, "no-browser", false, "never look at the pages with a browser: faster, and sees less")
	return command
}

// fromAnywhere makes the names of files whole: wetland.toml is read from other folders, too.
func fromAnywhere(reach *workspace.ReachConfig, on *workspace.HostConfig) (err error) {
	if reach.Certificates != "" {
		if reach.Certificates, err = filepath.Abs(reach.Certificates); err != nil {
			return err
		}
	}
	for _, from := range []*string{&reach.PasswordFrom, &on.PasswordFrom} {
		if file, ok := strings.CutPrefix(*from, "file "); ok {
			if file, err = filepath.Abs(strings.TrimSpace(file)); err != nil {
				return err
			}
			*from = "file " + file
		}
	}
	return nil
}

func (a *app) showAdopted(r *adopt.Result) {
	s := a.screen
	row := func(good bool, name, words string) {
		sign := s.Good("ok")
		if !good {
			sign = s.Doubt("??")
		}
		s.Row("  "+sign+"  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, name), words)
	}
	row(true, "CMS", fmt.Sprintf("%s in %s (recognised by %s)", r.System, r.Root, r.Because))
	row(true, "address", r.Address)
	if r.Identity.Proved() {
		row(true, "same site", fmt.Sprintf("%s: this folder is what answers there", r.Identity))
	}
	row(true, "files", fmt.Sprintf("%d, reading tried", r.Files))
	if r.BelongsTo != "" {
		s.Row("  "+s.Faint("--")+"  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, "user"), fmt.Sprintf("the site belongs to %s, and you are root. That user's rights are enough: sudo -u %[1]s wetland ..., in a workspace of that user's", r.BelongsTo))
	}
	if r.Engine != "" {
		row(true, "database", fmt.Sprintf("%s, %d tables of this site, login tried", r.Engine, r.Tables))
	}
	if r.Pool != "" {
		row(true, "pool of PHP", r.Pool+": it will be asked to drop compiled code after a swap")
	}
	if r.NoPool {
		s.Row("  "+s.Faint("--")+"  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, "pool of PHP"), "not found: for a moment after a swap old and new code may answer side by side. php_pool = \""+workspace.PoolByRequest+"\" in "+workspace.ConfigName+" prevents that")
	}
	for _, kind := range []cms.Kind{cms.Theme, cms.Plugin, cms.MustUse, cms.DropIn} {
		var names []string
		for _, c := range r.Components {
			if c.Kind == kind {
				names = append(names, describe(c))
			}
		}
		if len(names) > 0 {
			row(true, string(kind)+"s", strings.Join(names, ", "))
		}
	}
	var pages []string
	for _, page := range r.Pages {
		pages = append(pages, page.Path)
	}
	row(len(pages) > 0, "pages to test", strings.Join(pages, " "))
	for i, dead := range r.Dead {
		name := ""
		if i == 0 {
			name = "dead pages"
		}
		s.Row("  "+s.Faint("--")+"  ", 6, fmt.Sprintf("%-*s", screen.StepWidth, name), dead.String()+": not tested")
	}
	leftOut := "of snapshots: " + strings.Join(r.LeaveOut, ", ")
	if r.ThroughSQL {
		leftOut += " (the database's file is taken through SQL)"
	}
	row(true, "left out", leftOut)
	if len(r.Nested) > 0 {
		row(true, "other sites", strings.Join(r.Nested, ", ")+" below the root: no part of this one, left out too")
	}
	for _, doubt := range r.Doubts {
		words := doubt.What
		for _, step := range doubt.Do {
			words += "\n" + screen.Doing(step)
		}
		row(false, "not sure", words)
	}
	s.NotCompared(r.NotCompared)
	if len(r.Offers) > 0 {
		s.Print("\n%s\n", s.Bold("The machine of the site, and what that means"))
	}
	for _, one := range r.Offers {
		row(one.Good, one.What, one.Is+": "+one.Means)
	}
	s.Print("\n")
	if len(r.Doubts) > 0 {
		s.Paragraph(s.Doubt("Adopted, with doubts."), fmt.Sprintf("%s/wetland.toml is written. Look at the points above before the first update.", r.Workspace.Dir))
	} else {
		s.Paragraph(s.Good("Adopted."), fmt.Sprintf("%s/wetland.toml is written; nothing on the site was touched.", r.Workspace.Dir))
	}
	s.Next(advice.Run("tests the pages", advice.LookAgain), advice.Run("brings in a new version, guarded", advice.Update, "PACKAGE.zip"))
}

// describe names a component in a few words.
func describe(c cms.Component) string {
	words := c.Folder + " " + orUnknown(c.Version)
	switch {
	case c.Active:
		words += " (active)"
	case c.ParentOfActive:
		words += " (parent of the active)"
	}
	return words
}
