package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"

	"github.com/spf13/cobra"

	"wetland/core/confine"
	"wetland/core/privatecopy"
	"wetland/core/rehearsal"
	"wetland/core/webfront"
	"wetland/core/workspace"
	"wetland/demo"
)

func (a *app) rehearseCommand() *cobra.Command {
	var o rehearsal.Options
	command := &cobra.Command{
		Use:   "rehearse PACKAGE... | --all",
		Short: "Try new versions on a private copy of the site, before any visitor sees them",
		Long: `Bring new versions in on a private copy of the site, and judge them there:

  1  take a snapshot of the site, and bring it up on its machine as a copy: its own
     files, its own database server, its own web server, for Wetland alone
  2  hold the copy's pages against the site's
  3  do on the copy what wetland update does on the site, with the same checks; of
     several packages that fail together, find the culprit
  4  say how they did, and take the copy away

The live site is not touched. Its pages are looked at once. Nothing leaves the copy:
no mail, no request, no row. Where the machine cannot hold that back, no copy is made.
If a machine that you reach by SSH cannot have one, it is made on this one.`,
		Example: `  wetland rehearse harbourlight@3.0.0
  wetland rehearse --all
  wetland rehearse harbourlight@3.0.0 --look
  wetland rehearse tidetable-2.1.0.zip --from snap-4`,
		Args:              packagesOr(&o.All),
		ValidArgsFunction: a.offer(0, true, onShelf),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			o.Packages, o.Guard, o.Planned = args, a.guard(), a.showSteps
			a.screen.Print("%s  %s\n\n", a.screen.Bold(w.Config.Site.Name), w.Config.Site.Address)
			return a.rehearse(cmd.Context(), w, o)
		},
	}
	flags := command.Flags()
	flags.BoolVar(&o.All, "all", false, "rehearse everything that the shelf has newer")
	flags.StringVar(&o.From, "from", "", "make the copy of this snapshot, not of the site as it is now")
	flags.BoolVar(&o.Here, "here", false, "make the copy on this machine, though the site is on another")
	flags.StringSliceVar(&o.WithoutRows, "without-rows", nil, "bring these `tables` up empty: huge ones of logs or statistics")
	flags.BoolVar(&o.OneByOne, "one-by-one", false, "look at the pages after each step of the plan, not once at the end")
	flags.BoolVar(&o.AcceptPresent, "accept-present", false, "go on though pages are broken already: only new findings count")
	flags.BoolVar(&o.Older, "allow-older", false, "go on though the package is older than what is installed")
	flags.BoolVar(&o.Same, "allow-same", false, "go on though this version is installed already")
	flags.BoolVar(&o.Show, "look", false, "leave the copy up afterwards, in a browser's window for you to look at, until you close it")
	flags.StringVar(&o.Pick, "pick", "", "which package of a bundle: its folder or name")
	return command
}

func (a *app) rehearse(ctx context.Context, w *workspace.Workspace, o rehearsal.Options) error {
	var err error
	if o.Servers, err = ownServers(); err != nil {
		return err
	}
	run, err := rehearsal.Rehearse(ctx, w, o)
	return a.ended(w, run, a.orNothingNewer(err))
}

// These have this program serve a site of the demo's CMS, or one before a pool of PHP.
const (
	serveVerb = "serve-rowlock"
	frontVerb = "serve-pool"
)

// ownServers are what serves the pages of copies: this program has the demo's CMS in it, and a web server for
// pools of PHP.
func ownServers() (s privatecopy.Servers, err error) {
	self, err := os.Executable()
	if err != nil {
		return s, err
	}
	ofRowlock := privatecopy.Server{Program: func(root, address string) []string { return []string{self, serveVerb, root, address} }, Shown: []string{self}}
	return privatecopy.Servers{Of: map[string]privatecopy.Server{"rowlock": ofRowlock}, Front: []string{self, frontVerb}}, nil
}

// Itself is for a process that this program started of itself, for a private copy: one that keeps the copy's
// world, or serves its pages. started is false for one that a person started.
func Itself(args []string, in io.ReadCloser, out io.WriteCloser, errs io.Writer) (code int, started bool) {
	var err error
	switch {
	case confine.IsKeeper():
		err = confine.Keep(context.Background(), in, out)
	case len(args) == 3 && args[0] == serveVerb:
		err = serveRowlock(context.Background(), args[1], args[2])
	case len(args) == 3 && args[0] == frontVerb:
		err = webfront.Serve(context.Background(), args[1], args[2])
	default:
		return 0, false
	}
	if err != nil {
		fmt.Fprintln(errs, err)
	}
	return exitCannot, true
}

func serveRowlock(ctx context.Context, root, address string) error {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	return demo.Serve(ctx, listener, root, slog.New(slog.DiscardHandler))
}
