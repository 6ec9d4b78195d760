// Package cli is the command line: one file for each command. What they show is package screen's.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"sync/atomic"

	"github.com/spf13/cobra"

	"wetland/cli/screen"
	"wetland/core/advice"
	"wetland/core/host"
	"wetland/core/hosts"
	"wetland/core/rehearsal"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/workspace"
)

// Exit codes, the same for every command.
const (
	exitSound   = 0
	exitCannot  = 1 // could not run; nothing changed
	exitRefused = 2 // refused before anything was touched
	exitFailed  = 3 // checks failed; after an update the previous version is back
	exitDoubts  = 4 // done, with doubts that a person should look at
	exitPerson  = 5 // the site is not in a proved state
)

// exitError ends the program with a code. A nil err was told already.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return fmt.Sprintf("exit code %d", e.code)
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

func exit(code int) error {
	if code == exitSound {
		return nil
	}
	return &exitError{code: code}
}

// Main runs the program and returns its exit code.
func Main(args []string, in io.Reader, out, errs io.Writer) int {
	app := newApp(in, out, errs)
	ctx, stop := app.watchSignals()
	defer stop()
	return app.run(ctx, args)
}

// app is what all commands share.
type app struct {
	in        io.Reader
	out, errs io.Writer
	workspace string
	json      bool
	quiet     bool
	screen    *screen.Screen
	abandon   context.Context
	guarded   *atomic.Bool // a guarded operation has begun
	hosts     *hosts.Hosts
}

func newApp(in io.Reader, out, errs io.Writer) *app {
	return &app{in: in, out: out, errs: errs, abandon: context.Background(), guarded: &atomic.Bool{}, hosts: &hosts.Hosts{}}
}

// watchSignals obeys those that come to this process.
func (a *app) watchSignals() (context.Context, func()) {
	signals := make(chan os.Signal, 3)
	signal.Notify(signals, endingSignals()...)
	ctx, stop := a.obey(signals)
	return ctx, func() {
		signal.Stop(signals)
		close(signals)
		stop()
	}
}

// obey ends the context at the first signal, and at the second one gives up even going back.
func (a *app) obey(signals <-chan os.Signal) (context.Context, func()) {
	ctx, cancel := context.WithCancel(context.Background())
	abandon, give := context.WithCancel(context.Background())
	a.abandon = abandon
	go func() {
		if _, ok := <-signals; !ok {
			return
		}
		if a.guarded.Load() {
			fmt.Fprintln(a.errs, "\nStopping. If the site was touched already, the version before is put back now.\nPress Ctrl-C once more to leave that to: wetland recover")
		}
		cancel()
		if _, ok := <-signals; ok {
			give()
		}
	}()
	return ctx, func() {
		cancel()
		give()
	}
}

func (a *app) run(ctx context.Context, args []string) int {
	root := a.command()
	root.SetArgs(args)
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.errs)
	a.json = wantsJSON(args) // also for words that it does not know
	err := errors.Join(root.ExecuteContext(ctx), a.hosts.Close())
	if err == nil {
		return exitSound
	}
	code := exitCodeOf(err)
	var ended *exitError
	if errors.As(err, &ended) && ended.err == nil {
		return code
	}
	a.tell(err, code)
	return code
}

// wantsJSON tells whether --json stands anywhere among the arguments.
func wantsJSON(args []string) bool {
	for _, arg := range args {
		switch arg {
		case "--":
			return false
		case "--json", "--json=true":
			return true
		}
	}
	return false
}

func exitCodeOf(err error) int {
	var ended *exitError
	var refusal *runs.Refusal
	switch {
	case errors.As(err, &ended):
		return ended.code
	case errors.As(err, &refusal):
		return exitRefused
	case errors.Is(err, site.ErrInsideWebRoot):
		return exitRefused
	}
	return exitCannot
}

// tell says why the command did not do what it was asked for.
func (a *app) tell(err error, code int) {
	var refusal *runs.Refusal
	isRefusal := errors.As(err, &refusal)
	if a.json {
		document := errorDocument{Error: err.Error(), Next: advice.Of(err), closing: closing{code}}
		if isRefusal {
			looked := !refusal.Unlooked
			document.Error, document.Reasons, document.PagesLookedAt = refusal.Head(), refusal.Reasons, &looked
		}
		a.writeJSON(document)
		return
	}
	s := screen.New(a.errs, false)
	if isRefusal {
		s.Refusal(refusal)
		return
	}
	if errors.Is(err, context.Canceled) {
		s.Paragraph(s.Bad("Stopped."), "Nothing on the site was changed.")
		return
	}
	s.Paragraph(s.Bad("Cannot do that:"), err.Error())
	steps := advice.Of(err)
	if errors.Is(err, workspace.ErrNone) {
		steps = append(steps, advice.Do("Go to the site's workspace, name it with --workspace DIR, or make one: wetland adopt ROOT --address URL"))
	}
	s.Next(steps...)
}

func (a *app) command() *cobra.Command {
	root := &cobra.Command{
		Use:   "wetland",
		Short: "Bring new versions of themes and plugins into a CMS website without breaking it",
		Long: `Wetland brings new versions of themes and plugins into a CMS website without
breaking it: it takes a verified snapshot of files and database, swaps in the
new version in one step, tests the pages, and puts the version before back when
they are not as they were.`,
		Example: `  wetland demo                                    the whole story on a bundled site
  wetland adopt /srv/www/ferry --address https://ferry.example/
  wetland update harbourlight-2.5.2.zip`,
		SilenceUsage:  true,
		SilenceErrors: true,
		PersistentPreRun: func(*cobra.Command, []string) {
			a.screen = screen.New(a.out, a.json || a.quiet)
			if !a.quiet {
				a.screen.Signs = screen.Printable(a.errs, false)
			}
		},
		Version: versionText(),
	}
	root.SetVersionTemplate("{{.Version}}\n")
	flags := root.PersistentFlags()
	flags.StringVarP(&a.workspace, "workspace", "w", "", "folder with wetland.toml (default: this folder or the nearest above it)")
	flags.BoolVar(&a.json, "json", false, "print one JSON document on standard output, and nothing else there")
	flags.BoolVarP(&a.quiet, "quiet", "q", false, "print only what needs attention")
	root.AddCommand(
		a.demoCommand(), a.adoptCommand(), a.surveyCommand(), a.shelveCommand(), a.shelfCommand(), a.snapshotCommand(), a.verifyCommand(), a.pinCommand(), a.tidyCommand(), a.exportCommand(), a.sealCommand(), a.smokeCommand(), a.pagesCommand(),
		a.examineCommand(), a.rehearseCommand(), a.updateCommand(), a.restoreCommand(), a.recoverCommand(), a.historyCommand(), a.reportCommand(), a.acceptCommand(), a.movedCommand(),
	)
	return root
}

// versionText tells which build this is.
func versionText() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "wetland, of an unknown build"
	}
	text := "wetland " + info.Main.Version
	for _, setting := range info.Settings {
		switch setting.Key {
		case "vcs.revision":
			text += ", commit " + setting.Value[:min(12, len(setting.Value))]
		case "vcs.time":
			text += " of " + setting.Value
		case "vcs.modified":
			if setting.Value == "true" {
				text += ", with changes"
			}
		case "GOOS", "GOARCH":
			text += ", " + setting.Value
		}
	}
	return text + ", " + info.GoVersion
}

// load opens the workspace that the flags or the current folder name.
func (a *app) load() (*workspace.Workspace, error) {
	dir := a.workspace
	if dir == "" {
		found, err := workspace.Find(".")
		if err != nil {
			return nil, err
		}
		dir = found
	}
	w, err := workspace.Load(dir, a.findHost)
	if err == nil {
		a.sweep(w)
	}
	return w, err
}

// sweep takes away the private copies that a crash left.
func (a *app) sweep(w *workspace.Workspace) {
	swept, err := rehearsal.Sweep(context.Background(), w)
	switch s := screen.New(a.errs, a.json); {
	case err != nil:
		s.Paragraph("", err.Error())
	case swept > 0:
		s.Paragraph("", "A rehearsal was interrupted: what it left of the private copy is taken away now. The site was not touched by it.")
	}
}

// findHost finds the machine of a site. Whoever sits here may be asked on the way.
func (a *app) findHost(root string, config workspace.Config) (host.Host, string, error) {
	if a.asks() {
		a.hosts.Person, a.hosts.MayPut = person{a}, person{a}.Confirm
	}
	return a.hosts.At(root, config)
}

// guard returns what guarded operations need.
func (a *app) guard() session.Guard {
	a.guarded.Store(true)
	guard := a.reader(a.abandon)
	guard.Abandon = a.abandon
	return guard
}

// reader returns what operations need that change nothing on the site.
func (a *app) reader(ctx context.Context) session.Guard {
	guard := session.Guard{Report: a.screen}
	if a.asks() {
		guard.AskSecret = func(what string) (string, error) { return a.secret(ctx, what+" (not shown): ") }
	}
	return guard
}

// loadSettled loads the workspace and warns of a run that was interrupted.
func (a *app) loadSettled() (*workspace.Workspace, error) {
	w, err := a.load()
	if err != nil {
		return nil, err
	}
	if open, err := runs.Unsettled(w); err == nil && open != nil {
		words := "%s was interrupted, or is still under way: the site may stand at either version. To settle it: wetland recover"
		if open.State == runs.NeedsPerson {
			words = "%s ended without a proved state: look at what it says in its report. Once that is fixed: wetland recover"
		}
		if slices.ContainsFunc(open.Components, func(t *runs.Target) bool { return t.Kind == cms.Core }) {
			words += ". Until then visitors may be told to come back in a moment: the CMS itself was being replaced"
		}
		screen.New(a.errs, a.json).Paragraph("", fmt.Sprintf(words, open.Name))
	}
	return w, nil
}
