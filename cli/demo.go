package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"github.com/spf13/cobra"

	"wetland/core/confine"
	"wetland/core/sshclient"
	"wetland/core/workspace"
	"wetland/demo"
	"wetland/demo/sshd"
	"wetland/demo/vendor"
)

func (a *app) demoCommand() *cobra.Command {
	var dir string
	var overSSH bool
	var serve bool
	command := &cobra.Command{
		Use:   "demo",
		Short: "The whole story on a bundled site, offline",
		Long: `Lay out a made-up site with its own small CMS and database in a temporary folder,
start it on this machine, and run the story through the same commands that you
would type: adopt the site, update to a theme that breaks a page and see it put
back, update to a good one and see it kept; try a plugin on a private copy. Nothing leaves this machine.`,
		Example: `  wetland demo
  wetland demo --dir ferry --serve
  wetland demo --over-ssh`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if a.json {
				return errors.New("the demo tells a story and has no JSON form")
			}
			if overSSH && serve {
				return errors.New("--over-ssh plays the story and ends: the server of ssh ends with it. Leave --serve out")
			}
			return a.demo(cmd.Context(), dir, serve, overSSH)
		},
	}
	command.Flags().StringVar(&dir, "dir", "", "folder to lay the site out in (default: a temporary one); one from an earlier demo is only served")
	command.Flags().BoolVar(&overSSH, "over-ssh", false, "reach the site as one on another machine, by OpenSSH's server on this one")
	command.Flags().BoolVar(&serve, "serve", false, "keep the site up afterwards, until Ctrl-C")
	return command
}

// stage is the demo's folder and what is in it.
type stage struct {
	dir, root, packages, workspace string
	shop                           string        // the vendor's address
	account                        *sshd.Account // by which the site is reached; nil: it is here
	unconfined                     bool          // this machine can confine no private copy
}

// site is the root, as it is reached.
func (p stage) site() string {
	if p.account == nil {
		return p.root
	}
	return p.account.At(p.root)
}

func (a *app) demo(ctx context.Context, dir string, serve, overSSH bool) error {
	place, fresh, err := openStage(dir)
	if err != nil {
		return err
	}
	listener, err := demo.Listen(place.port())
	if err != nil {
		return fmt.Errorf("find a free port for the demo site: %w", err)
	}
	if fresh {
		if err := demo.LayOut(ctx, place.root, place.packages, "http://"+listener.Addr().String()+"/"); err != nil {
			return errors.Join(err, listener.Close())
		}
	} else if err := place.sameAddress(listener); err != nil {
		return errors.Join(err, listener.Close())
	}
	shop, err := demo.Listen(place.shopPort())
	if err != nil {
		return errors.Join(fmt.Errorf("find a free port for the demo's vendor: %w", err), listener.Close())
	}
	place.shop = "http://" + shop.Addr().String()
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	ended := make(chan error, 2)
	go func() { ended <- demo.Serve(serving, listener, place.root, slog.New(slog.DiscardHandler)) }()
	go func() { ended <- vendor.Serve(serving, shop, licenceKey) }()
	if overSSH {
		place.account, err = a.startAccount(ctx, place, fresh)
	}
	place.unconfined = confine.Offered(ctx) != nil
	if err == nil {
		err = a.play(ctx, place, fresh, serve, listener)
	}
	if place.account != nil {
		place.account.Stop()
	}
	if err == nil && serve {
		<-ctx.Done()
	}
	stop()
	return errors.Join(err, <-ended, <-ended)
}

// startAccount starts a server of ssh for the account that runs the demo, which leaves that account's
// own settings alone.
func (a *app) startAccount(ctx context.Context, place stage, fresh bool) (*sshd.Account, error) {
	if !fresh {
		return nil, errors.New("--over-ssh needs a new demo: its server of ssh has another port each time. Choose another folder")
	}
	dir := filepath.Join(place.dir, "ssh")
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, err
	}
	account, err := sshd.StartAccount(ctx, dir)
	if err != nil {
		return nil, err
	}
	a.hosts.Files = &sshclient.Files{Home: account.Home, Configs: []string{filepath.Join(account.Home, ".ssh", "config")}, Name: account.User}
	return account, nil
}

// licenceKey opens the made-up vendor's downloads in the demo.
const licenceKey = "LANTERN-4471-0098"

// nameVendor writes the vendor of the theme into the demo's wetland.toml, and the
// licence key into a file that only its owner can read.
func (p stage) nameVendor() error {
	key := filepath.Join(p.workspace, "lanternworks.key")
	if err := os.WriteFile(key, []byte(licenceKey+"\n"), 0o600); err != nil {
		return err
	}
	config, err := os.OpenFile(filepath.Join(p.workspace, workspace.ConfigName), os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(config, `# Where any version of the theme can be had by number.
[[sources]]
folder = "harbourlight"
address = "%s/get/{name}/{version}.zip?key={key}"
key_from = "file %s"
`, p.shop, filepath.ToSlash(key))
	return errors.Join(err, config.Close())
}

func openStage(dir string) (stage, bool, error) {
	if dir == "" {
		made, err := os.MkdirTemp("", "wetland-demo-*")
		if err != nil {
			return stage{}, false, err
		}
		dir = made
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return stage{}, false, err
	}
	place := stage{dir: dir, root: filepath.Join(dir, "site"), packages: filepath.Join(dir, "packages"), workspace: filepath.Join(dir, "care")}
	if _, err := os.Stat(filepath.Join(place.root, "rowlock.toml")); err == nil {
		return place, false, nil
	}
	entries, err := os.ReadDir(dir)
	if err == nil && len(entries) > 0 {
		return place, false, fmt.Errorf("%s is not empty and holds no demo. Choose another folder", dir)
	}
	return place, true, nil
}

// port returns the port that the workspace of an earlier demo names, or 0.
func (p stage) port() int {
	w, err := workspace.Load(p.workspace, workspace.OnlyHere)
	if err != nil {
		return 0
	}
	return portOf(w.Config.Site.Address)
}

// shopPort returns the port of the vendor that the workspace names, or 0.
func (p stage) shopPort() int {
	w, err := workspace.Load(p.workspace, workspace.OnlyHere)
	if err != nil || len(w.Config.Sources) == 0 {
		return 0
	}
	return portOf(w.Config.Sources[0].Address)
}

func portOf(address string) int {
	parsed, err := url.Parse(address)
	if err != nil {
		return 0
	}
	port, err := strconv.Atoi(parsed.Port())
	if err != nil {
		return 0
	}
	return port
}

func (p stage) sameAddress(listener net.Listener) error {
	tcp, ok := listener.Addr().(*net.TCPAddr)
	if want := p.port(); ok && want != 0 && tcp.Port != want {
		return fmt.Errorf("the demo in %s belongs to the port %d, which something else uses now. End that, or start a new demo", p.dir, want)
	}
	return nil
}

// scene is one command of the story.
type scene struct {
	words  []string // told before it
	before func() error
	args   []string
	want   int // the exit code that the story needs
}

func (a *app) play(ctx context.Context, place stage, fresh, serve bool, listener net.Listener) error {
	s := a.screen
	if fresh {
		s.Print("%s\n", s.Bold("Otterby Ferry has a website. You look after it."))
		s.Paragraph("", "Its theme Harbourlight has new versions. Watch what happens to a bad one and to a good one; every command is one that you could type yourself.")
		for _, scene := range place.story(listener) {
			if err := a.perform(ctx, scene); err != nil {
				return err
			}
		}
	}
	s.Print("\n%s\n", s.Bold("That was the demo. Where everything lies"))
	for _, line := range [][2]string{{"the site", place.site()}, {"its workspace", place.workspace}, {"more packages", place.packages}} {
		s.Print("  %-15s %s\n", line[0], line[1])
	}
	if place.account != nil {
		return nil // its server of ssh ends now
	}
	if !serve {
		s.Print("\n%s\n  %s\n", s.Bold("What now"), "wetland demo --dir "+place.dir+" --serve")
		s.Row("      ", 6, "", "brings the site up again, to try the commands by hand and see its pages in a browser")
		return nil
	}
	s.Print("  %-15s http://%s/\n", "in a browser", listener.Addr())
	s.Print("\n%s\n", s.Bold("Try from a second terminal, in "+place.workspace))
	for _, line := range [][2]string{
		{"wetland update harbourlight@3.0.0 --allow-major", "healthy pages, but another layout"},
		{"wetland update harbourlight@2.5.1 --allow-older", "leaves out a file that the child theme needs"},
		{"wetland update tidetable@2.1.0 --allow-major", "changes its table, then fails"},
		{"wetland update tidetable@2.0.0 --allow-major", "changes its table, and works"},
		{"wetland restore snap-1", "makes everything as it was at first"},
	} {
		s.Print("  %s\n      %s\n", line[0], s.Faint(line[1]))
	}
	s.Print("\nThe site is up. Ctrl-C ends it.\n")
	return nil
}

// adopting are the words that take the site into care.
func (p stage) adopting(listener net.Listener) []string {
	args := []string{"adopt", p.site(), "--address", "http://" + listener.Addr().String() + "/", "--name", demo.SiteName, "--no-browser"}
	if p.account != nil {
		args = append(args, "--put-helper")
	}
	return args
}

func (p stage) story(listener net.Listener) []scene {
	in := func(args ...string) []string { return append(args, "--workspace", p.workspace) }
	rehearsal := []scene{
		{[]string{"The plugins have new versions, too. Version 2.1.0 of Tidetable changes its table: try it where no visitor is, on a private copy of the site."},
			nil, in("rehearse", "tidetable@2.1.0"), exitFailed},
	}
	if p.unconfined {
		rehearsal = nil
	}
	plan := "It would have broken the timetable, and nobody saw it. But suppose you had not tried: what would updating both plugins do?"
	if p.unconfined {
		plan = "The plugins have new versions, too. What would updating both of them do?"
	}
	return slices.Concat([]scene{
		{[]string{"First take the site into care. This only looks, and writes down what it found."},
			nil, in(p.adopting(listener)...), exitSound},
		{[]string{"You have a licence for the theme: wetland.toml now names its vendor (a stand-in on this machine) and the file with the key. So any version can be had by its number."},
			p.nameVendor, in("shelve", "harbourlight@2.5.0", "harbourlight@2.5.2"), exitSound},
		{[]string{"Other downloads lie in a folder. Put them on the shelf, too; then see what is installed, and what the shelf offers."},
			nil, in("shelve", p.packages), exitSound},
		{nil, nil, in("survey"), exitSound},
		{[]string{"Version 2.5.0 of the theme: hold it against the site first."},
			nil, in("examine", "harbourlight@2.5.0"), exitSound},
		{[]string{"It looks harmless, and the front page is fine with it. But it breaks the list of notices."},
			nil, in("update", "harbourlight@2.5.0", "--in-doubt", "back"), exitFailed},
		{[]string{"The bad version is gone again, and visitors have their notices back. Version 2.5.2 is the mended one."},
			nil, in("update", "harbourlight@2.5.2", "--in-doubt", "back"), exitSound},
	}, rehearsal, []scene{
		{[]string{plan},
			nil, in("update", "enquiries", "tidetable@2.1.0", "--allow-major", "--plan"), exitSound},
		{[]string{"They are updated together, and together they fail. Say yes to the search, and the culprit is named; the other one stays."},
			nil, in("update", "enquiries", "tidetable@2.1.0", "--allow-major", "--in-doubt", "back", "--search", "yes"), exitFailed},
		{[]string{"All of it is on record."}, nil, in("history"), exitSound},
	})
}

// perform types a command, runs it, and makes sure that it ended as the story says.
func (a *app) perform(ctx context.Context, scene scene) error {
	a.screen.Print("\n")
	for _, words := range scene.words {
		a.screen.Paragraph("", words)
	}
	if scene.before != nil {
		if err := scene.before(); err != nil {
			return err
		}
	}
	typed := "wetland"
	for _, arg := range scene.args {
		typed += " " + shellWord(arg)
	}
	a.screen.Print("\n%s\n\n", a.screen.Bold("$ "+typed))
	inner := newApp(a.in, a.out, a.errs)
	inner.abandon, inner.guarded, inner.quiet, inner.hosts.Files = a.abandon, a.guarded, a.quiet, a.hosts.Files
	code := inner.run(ctx, scene.args)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if code != scene.want {
		return fmt.Errorf("the demo did not go as it should: %q ended with exit code %d, not %d", typed, code, scene.want)
	}
	return nil
}

// shellWord quotes what a shell would cut apart.
func shellWord(arg string) string {
	for _, r := range arg {
		if r == ' ' || r == '\'' || r == '"' || r == '$' || r == '&' {
			return strconv.Quote(arg)
		}
	}
	return arg
}
