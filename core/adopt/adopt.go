// Package adopt takes a site into care: it recognises the CMS, proves that the
// root is what answers at the address, finds pages to test, and writes a
// commented wetland.toml.
package adopt

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/accounts"
	"wetland/core/advice"
	"wetland/core/database"
	"wetland/core/durable"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/identity"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/preflight"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/site/traits"
	"wetland/core/smoke"
	"wetland/core/smoke/fetching"
	"wetland/core/smoke/judging"
	"wetland/core/sshhost"
	"wetland/core/workspace"
)

// Options of adopting.
type Options struct {
	Root      string // folder of the site
	Address   string // empty: what the CMS's own settings say
	Name      string // of the site; empty: what the CMS calls it, else the host of its address
	Workspace string
	Host      workspace.HostConfig  // where the root is on another machine
	Hosts     workspace.Hosts       // finds it; nil: all are here
	Reach     workspace.ReachConfig // where the address alone does not lead to the site
	NoBrowser bool                  // pages are not looked at with a browser
	// PoolSockets are patterns of the sockets at which pools of PHP may listen; nil: the usual
	// places.
	PoolSockets []string
	Report      progress.Reporter
}

// Result is what adopt found, and the workspace it made.
type Result struct {
	Workspace  *workspace.Workspace
	System     string
	Because    string // what the CMS was recognised by
	Root       string
	Address    string
	Identity   identity.Identity // how it was proved that the root is what answers
	Engine     string
	Tables     int
	Components []cms.Component
	Pages      []smoke.Page
	// Dead are pages of the site that answer with an error: they are not tested.
	Dead []fetching.DeadLink
	// NotCompared is what changes by itself on the pages.
	NotCompared []smoke.Finding
	LeaveOut    []string          // what snapshots leave out by themselves
	Files       int               // that a snapshot will hold
	BelongsTo   string            // the user whose site root is about to look after; "" otherwise
	Nested      []string          // other sites below the root, left out too
	Pool        string            // the socket of the PHP processes that serve the site; "": not found
	NoPool      bool              // it was looked for, and not found
	ThroughSQL  bool              // the database lies among the files, and is taken through SQL
	Offers      []preflight.Offer // what the machine of the site offers, if that is another one
	// Doubts are what could not be found out; each says what to do.
	Doubts []runs.Reason
}

// Adopt examines the site, touching nothing on it, and makes the workspace. It
// returns an *update.Refusal when the site must not be adopted so.
func Adopt(ctx context.Context, o Options) (*Result, error) {
	a := &adoption{o: o, result: &Result{}}
	if err := a.readReach(); err != nil {
		return nil, err
	}
	if o.Hosts == nil {
		a.o.Hosts = workspace.OnlyHere
	}
	on, folder, err := a.findHost(ctx)
	if err != nil {
		return nil, err
	}
	roots := &files.Roots{Disk: on}
	defer roots.Close()
	if err := a.findSite(ctx, on, folder, roots); err != nil {
		return nil, err
	}
	if err := a.checkWorkspace(ctx); err != nil {
		return nil, err
	}
	a.checkWebUsers(ctx)
	if err := a.readFiles(ctx); err != nil {
		return nil, err
	}
	db := a.openDatabase(ctx)
	if db != nil {
		defer db.Close()
		a.result.ThroughSQL = len(a.site.CMS.Layout().DatabaseFiles) > 0
	}
	if err := a.findAddress(ctx, db); err != nil {
		return nil, err
	}
	if err := a.identify(ctx, db); err != nil {
		return nil, err
	}
	a.pages = a.fetcher()
	defer a.pages.Close()
	if !o.NoBrowser {
		a.pages.BrowserProgram = smoke.AnyBrowser
		a.pages.StartBrowser(ctx)
	}
	if err := a.findPages(ctx, db); err != nil {
		return nil, err
	}
	a.findPool(ctx)
	a.result.Offers = append(a.result.Offers, preflight.Offers(ctx, a.site, a.result.Engine != "")...)
	return a.result, a.writeWorkspace(ctx, db)
}

type adoption struct {
	o       Options
	system  cms.System
	site    *site.Site // its workspace is made last
	result  *Result
	missing []cms.Missing
	reach   fetching.Reach
	pages   *fetching.Fetcher // with the browser, if one is to look
}

func (a *adoption) doubt(what, do string) {
	a.result.Doubts = append(a.result.Doubts, runs.Reason{What: what, Do: advice.Steps(do)})
}

// findHost finds the machine of the site, and the folder there.
func (a *adoption) findHost(ctx context.Context) (on host.Host, folder string, err error) {
	if !workspace.IsElsewhere(a.o.Root) {
		if a.o.Root, err = filepath.Abs(a.o.Root); err != nil {
			return nil, "", err
		}
	}
	problems := a.o.Host.Problems(a.o.Root)
	if a.o.Reach.FromHost && (a.o.Address == "" || !workspace.IsElsewhere(a.o.Root)) {
		problems = append(problems, "pages are fetched from the site's own machine where that is another one, and the address is given")
	}
	if len(problems) > 0 {
		refusal := &runs.Refusal{}
		for _, problem := range problems {
			refusal.Reasons = append(refusal.Reasons, runs.Reason{What: problem, Do: advice.Steps("Here these are --put-helper, --host-key, --account-password-from, --from-host and --address.")})
		}
		return nil, "", refusal
	}
	on, folder, err = a.enterAt(ctx, a.o.Root)
	var shell *sshhost.ShellError
	if !errors.As(err, &shell) {
		return on, folder, err
	}
	root := strings.Replace(a.o.Root, "ssh://", "sftp://", 1)
	byFiles, at, filesErr := a.enterAt(ctx, root)
	if filesErr != nil {
		return nil, "", err
	}
	a.o.Root = root
	a.doubt(fmt.Sprintf("the account runs no programs of ours (its shell says %s), and lets files be moved: %s names the site by sftp://, where less is promised", shell.Said, workspace.ConfigName), "Ask your host for a full shell. Once there is one, write ssh:// there in place of sftp://.")
	return byFiles, at, nil
}

// enterAt finds and enters the host of a root.
func (a *adoption) enterAt(ctx context.Context, root string) (host.Host, string, error) {
	on, folder, err := a.o.Hosts(root, workspace.Config{Host: a.o.Host, Reach: a.o.Reach, Site: workspace.SiteConfig{Address: a.o.Address}})
	if err != nil {
		return nil, "", err
	}
	return on, folder, a.enter(ctx, on)
}

func (a *adoption) findSite(ctx context.Context, on host.Host, folder string, roots *files.Roots) error {
	root, err := on.Real(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		err = files.Missing(a.o.Root, err)
	}
	if err != nil {
		return fmt.Errorf("find the site: %w", err)
	}
	if err := roots.Reach(ctx, path.Dir(root)); err != nil {
		return fmt.Errorf("open the site's folder: %w", err)
	}
	if a.system, a.result.Because, err = cms.Detect(ctx, roots, root); err != nil {
		return fmt.Errorf("%w. ROOT is the folder that the web server hands out: the one with the CMS's own files in it", err)
	}
	if above := cms.Above(ctx, roots, root); above != "" {
		return &runs.Refusal{Reasons: []runs.Reason{{
			What: fmt.Sprintf("%s only holds the CMS itself; the site's root, which the web server hands out, is the folder above it", root),
			Do:   []advice.Step{advice.Lead("Name that one:", advice.AdoptSite, host.Whole(on, above))},
		}}}
	}
	opened, err := a.system.Open(ctx, roots, root, "")
	if err != nil {
		return err
	}
	a.site = &site.Site{Host: on, Files: roots, Root: root, CMS: opened, Workspace: &workspace.Workspace{}}
	a.result.System, a.result.Root = opened.System(), a.site.Place()
	a.result.Nested = cms.Nested(ctx, roots, root)
	if entry, err := a.site.Files.Lstat(ctx, root); err == nil && on.Accounts().Self(ctx) == 0 && entry.Owner > 0 {
		a.result.BelongsTo = on.Accounts().UserName(ctx, entry.Owner)
	}
	layout := opened.Layout()
	for _, area := range layout.Areas {
		for _, name := range area.LeaveOut {
			if slices.Contains(layout.DatabaseFiles, name) {
				continue
			}
			a.result.LeaveOut = append(a.result.LeaveOut, strings.TrimPrefix(area.Path+"/"+name, root+"/"))
		}
	}
	return nil
}

func (a *adoption) checkWorkspace(ctx context.Context) error {
	dir, err := filepath.Abs(a.o.Workspace)
	if err != nil {
		return err
	}
	a.o.Workspace = dir
	if err := a.site.CheckOutside(ctx, dir); err != nil {
		if errors.Is(err, site.ErrInsideWebRoot) {
			return &runs.Refusal{Reasons: []runs.Reason{{What: err.Error(), Do: advice.Steps("For example: --workspace " + filepath.Join(filepath.Dir(filepath.Dir(a.site.Root)), "care"))}}}
		}
		return err
	}
	if _, err := os.Stat(filepath.Join(dir, workspace.ConfigName)); err == nil {
		return &runs.Refusal{Reasons: []runs.Reason{{
			What: fmt.Sprintf("%s is a workspace already: it has a %s", dir, workspace.ConfigName),
			Do:   advice.Steps("Edit that file, or choose another folder with --workspace."),
		}}}
	}
	return nil
}

// checkWebUsers warns where whoever finds a hole in the site could change what stands in the
// workspace, or exchange all of it: the snapshots, and the commands that are run.
func (a *adoption) checkWebUsers(ctx context.Context) {
	if a.site.Host.Name() != "" {
		return // who finds a hole in it is not on this machine
	}
	const means = "whoever finds a hole in the site could change its snapshots, and what Wetland runs"
	for _, id := range accounts.WebUsers() {
		name := accounts.UserName(id)
		if id == os.Geteuid() {
			a.doubt(fmt.Sprintf("you run Wetland as %s, as which the web server runs: %s", name, means),
				"Run it as a user of its own who may write the site's themes and plugins, from a workspace that "+name+" may not write.")
		} else if folder := a.writableBy(ctx, id); folder != "" {
			a.doubt(fmt.Sprintf("%s, as which the web server runs, may write %s: %s", name, folder, means),
				"Choose a folder for the workspace elsewhere, or take that right away.")
		}
	}
}

// writableBy returns the folder at or above the workspace that a user may write; "" if there is
// none. In one with the sticky bit, such as /tmp, only owners exchange what is theirs.
func (a *adoption) writableBy(ctx context.Context, id int) string {
	folder, err := files.RealOfExisting(ctx, host.Here, filepath.ToSlash(a.o.Workspace))
	if err != nil {
		return "" // told when it is made
	}
	for ; ; folder = path.Dir(folder) {
		opened, err := host.Here.Open(ctx, folder)
		if err == nil {
			entry, lookErr := opened.Lstat(ctx, ".")
			_ = opened.Close()
			if lookErr == nil && accounts.MayWrite(id, entry) && (entry.Mode&0o1000 == 0 || entry.Owner == id) {
				return folder
			}
		}
		if path.Dir(folder) == folder {
			return ""
		}
	}
}

// readFiles makes sure that every file can be read, for the snapshots to come.
func (a *adoption) readFiles(ctx context.Context) error {
	var unreadable []string
	a.o.Report.Begin("reading files", 0, "")
	for _, area := range a.site.Areas() {
		var all []string
		err := files.Walk(ctx, a.site.Files, area.Path, site.ScopeOf(area), func(at string, entry files.Entry) error {
			if entry.Kind == files.File {
				all = append(all, at)
			}
			return nil
		})
		a.result.Files += len(all)
		if len(unreadable) >= mostUnreadable {
			continue
		}
		closed, openErr := a.openAll(ctx, area.Path, all, mostUnreadable-len(unreadable))
		unreadable, err = append(unreadable, closed...), errors.Join(err, openErr)
		if err != nil && ctx.Err() == nil {
			a.doubt(fmt.Sprintf("the site's files cannot all be read: %v", err), "Run Wetland as the user who owns them.")
		}
	}
	if n := len(unreadable); n > 0 {
		count := phrase.Plural(n, "file")
		if n == mostUnreadable {
			count = "at least " + count
		}
		a.doubt(fmt.Sprintf("%s cannot be read: %s", count, strings.Join(unreadable[:min(n, 3)], ", ")), "Run Wetland as the user who owns them: a snapshot without them would not be whole.")
	}
	return ctx.Err()
}

// Bounds of looking whether files can be read.
const (
	openedTogether = 5000 // files
	mostUnreadable = 100
)

// openAll opens the files of these names, and returns those that cannot be opened, up to so many.
func (a *adoption) openAll(ctx context.Context, top string, names []string, most int) (closed []string, err error) {
	enough := errors.New("enough")
	for several := range slices.Chunk(names, openedTogether) {
		var steps []files.Step
		for _, name := range several {
			steps = append(steps, files.Step{Do: files.DoOpen, Name: path.Join(top, name)})
		}
		err := files.TakeAll(ctx, a.site.Files, steps, func(step files.Step, err error) error {
			if ended := ctx.Err(); ended != nil {
				return ended
			}
			if closed = append(closed, strings.TrimPrefix(step.Name, top+"/")); len(closed) >= most {
				return enough
			}
			return nil
		})
		switch {
		case errors.Is(err, enough):
			return closed, nil
		case err != nil:
			return closed, err
		}
	}
	return closed, nil
}

// openDatabase logs in, or says why it cannot.
func (a *adoption) openDatabase(ctx context.Context) database.Database {
	login, missing := a.site.CMS.Database(cms.Given{})
	a.missing = missing
	for _, one := range missing {
		a.doubt(one.Why, fmt.Sprintf("Give it as %s in %s.", one.Key, workspace.ConfigName))
	}
	if len(missing) > 0 {
		return nil
	}
	db, err := a.site.Host.Databases().Open(ctx, login, a.site.CMS.Owns)
	if err != nil {
		a.doubt(err.Error(), session.DatabaseAdvice(err))
		return nil
	}
	if err := a.readDatabase(ctx, db); err != nil {
		a.doubt(fmt.Sprintf("the tables cannot be read: %v", err), "Give the database user the right to read them.")
	}
	return db
}

func (a *adoption) readDatabase(ctx context.Context, db database.Database) error {
	var err error
	if a.result.Engine, err = db.Engine(ctx); err != nil {
		return err
	}
	moment, err := db.Read(ctx)
	if err != nil {
		return err
	}
	a.result.Tables = len(moment.Tables())
	if a.result.Tables == 0 {
		a.doubt("the database holds no table of this site", "Check database name and table prefix in the CMS's own settings.")
	}
	return moment.Close()
}

func (a *adoption) findAddress(ctx context.Context, db database.Database) error {
	own := a.site.CMS.Address(ctx, db)
	given := a.o.Address
	if given == "" {
		given = own
	}
	address, err := workspace.ParseAddress(given)
	if err != nil {
		return fmt.Errorf("--address: %w", err)
	}
	if believed, err := workspace.ParseAddress(own); err == nil && believed.Host != address.Host {
		a.doubt(fmt.Sprintf("the CMS believes that it is reached at %s, but you gave %s", believed, address), "If this root is a copy of another site, give the copy's own address: else the wrong site is tested.")
	}
	a.site.Address, a.result.Address = address, address.String()
	return nil
}

// identify proves that the root is what answers.
func (a *adoption) identify(ctx context.Context, db database.Database) error {
	var err error
	if a.result.Components, err = a.site.CMS.Components(ctx, db); err != nil {
		return err
	}
	candidates, err := a.site.CMS.PublicFiles(ctx, a.result.Components)
	if err != nil {
		return fmt.Errorf("read the site's files: %w", err)
	}
	proof := identity.Identify(ctx, a.fetcher(), a.site.Files, candidates)
	a.result.Identity = proof
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case len(proof.Other) > 0:
		return &runs.Refusal{Reasons: []runs.Reason{{
			What: fmt.Sprintf("%s is not what answers at %s: %s (another content: %s)", a.site.Place(), a.site.Address, proof, strings.Join(proof.Other, ", ")),
			Do:   advice.Steps("Check both. Judging another site's pages would prove nothing."),
		}}}
	case len(proof.Same) == 0:
		a.doubt(fmt.Sprintf("it could not be proved that this root is what answers at %s: %s", a.site.Address, strings.Join(proof.Unasked, "; ")), "Is the web server running, and the address right? An update asks again.")
	}
	return nil
}

func (a *adoption) fetcher() *fetching.Fetcher {
	reach := a.reach
	if a.o.Reach.FromHost {
		reach.Dial = a.site.Host.Dial
	}
	return &fetching.Fetcher{Address: a.site.Address, Reach: reach}
}

// readReach makes sure that the site can be reached as was said: without it, what answers in
// front of the site would be taken for it.
func (a *adoption) readReach() error {
	refusal := &runs.Refusal{}
	for _, problem := range a.o.Reach.Problems() {
		refusal.Reasons = append(refusal.Reasons, runs.Reason{What: problem, Do: advice.Steps("Here these are --server, --certificates, --user and --password-from.")})
	}
	if len(refusal.Reasons) > 0 {
		return refusal
	}
	var err error
	if a.reach, err = session.ReachOf(a.o.Reach); err != nil {
		return &runs.Refusal{Reasons: []runs.Reason{{What: err.Error(), Do: advice.Steps("Nothing was written. Fix it, and adopt again.")}}}
	}
	return nil
}

// usualPools are where the packages of Debian, Fedora and their kin put php-fpm's sockets.
var usualPools = []string{"/run/php/*.sock", "/run/php-fpm/*.sock"}

// mostPools bounds how many pools are asked.
const mostPools = 20

// findPool finds the pool of PHP that serves the site: it keeps compiled code of its files,
// now that pages were fetched. One that does not answer is none.
func (a *adoption) findPool(ctx context.Context) {
	if !traits.Of(a.system.Name()).PHP {
		return
	}
	patterns := a.o.PoolSockets
	if patterns == nil {
		patterns = usualPools
	}
	defer func() { a.result.NoPool = a.result.Pool == "" }()
	asked := 0
	for _, pattern := range patterns {
		for _, socket := range a.matching(ctx, pattern) {
			if asked++; asked > mostPools {
				return
			}
			where := "unix:" + socket
			if keeps, err := a.site.Pool(where).Keeps(ctx, a.site.Root); err == nil && keeps {
				a.result.Pool = where
				return
			}
		}
	}
}

// matching lists the names on the site's host that a pattern fits, which may stand in its last
// part. What cannot be listed has none.
func (a *adoption) matching(ctx context.Context, pattern string) (names []string) {
	folder, err := a.site.Host.Real(ctx, path.Dir(pattern))
	if err != nil {
		return nil
	}
	opened, err := a.site.Host.Open(ctx, folder)
	if err != nil {
		return nil
	}
	defer opened.Close()
	entries, _ := opened.List(ctx, ".")
	for _, entry := range entries {
		if fits, _ := path.Match(path.Base(pattern), entry.Name); fits {
			names = append(names, path.Join(path.Dir(pattern), entry.Name))
		}
	}
	return names
}

func (a *adoption) findPages(ctx context.Context, db database.Database) error {
	a.o.Report.Begin("finding pages", 0, "")
	found := pagecheck.ChoosePages(ctx, a.pages, a.site.CMS, db)
	a.result.Pages, a.result.Dead = found.Pages, found.Dead
	if found.Broken != nil {
		a.doubt(fmt.Sprintf("the front page does not answer: %v", found.Broken), "Once it does, add the pages to test to "+workspace.ConfigName+".")
	}
	return ctx.Err()
}

// lookAtPages looks twice at the pages that were found, and takes those off the list that are
// broken now: the first update would be refused for them. What every site has stays on it.
func (a *adoption) lookAtPages(ctx context.Context) (baseline *smoke.Take, err error) {
	a.o.Report.Begin("looking twice", int64(2*len(a.result.Pages)), "pages")
	baseline, judgement, err := a.pages.LookTwice(ctx, a.result.Pages, nil, judging.Rules{}, a.o.Report)
	if err != nil {
		return nil, err
	}
	var off []string
	type state struct {
		words string
		taken bool
	}
	var states []smoke.Shared[state]
	for _, page := range judgement.Pages {
		if words := findingsOf(page); words != "" {
			taken := page.Verdict == smoke.Broken && !slices.Contains(a.site.CMS.FirstPages(), page.Path)
			states = smoke.Share(states, state{words, taken}, page.Path)
		}
	}
	for _, same := range states {
		if same.What.taken {
			a.doubt(pagesAre(same.Pages)+" "+same.What.words+". Not on the list of pages to test", "Fix what is wrong, then add them to "+workspace.ConfigName+", as [[pages]] path = "+workspace.Quote(same.Pages[0])+".")
			off = append(off, same.Pages...)
		} else {
			a.doubt(pagesAre(same.Pages)+" "+same.What.words, "Fix what is wrong, or take them out of "+workspace.ConfigName+".")
		}
	}
	a.result.Pages = slices.DeleteFunc(a.result.Pages, func(p smoke.Page) bool { return slices.Contains(off, p.Path) })
	baseline.Pages = slices.DeleteFunc(baseline.Pages, func(f smoke.Facts) bool { return slices.Contains(off, f.Path) })
	judgement.Leave(off)
	a.result.NotCompared = baseline.Moving
	if judgement.Verdict == smoke.Broken {
		return nil, nil // a baseline of broken pages would call breakage normal
	}
	return baseline, nil
}

// findingsOf says what is wrong with a page, "" if nothing is.
func findingsOf(page smoke.PageVerdict) string {
	var found []string
	for _, finding := range page.Findings {
		found = append(found, finding.String())
	}
	if len(found) == 0 {
		return ""
	}
	return fmt.Sprintf("%s now: %s", page.Verdict, strings.Join(found, "; "))
}

// pagesAre names pages as the beginning of a sentence.
func pagesAre(paths []string) string {
	const most = 4
	switch {
	case len(paths) == 1:
		return "the page " + paths[0] + " is"
	case len(paths) > most:
		return fmt.Sprintf("the pages %s and %d more are", strings.Join(paths[:most], ", "), len(paths)-most)
	}
	return "the pages " + strings.Join(paths, ", ") + " are"
}

// writeWorkspace writes wetland.toml and, if no page is broken, the baseline.
func (a *adoption) writeWorkspace(ctx context.Context, db database.Database) error {
	if a.o.Name == "" {
		a.o.Name = cmp.Or(oneLine(a.site.CMS.Title(ctx, db)), a.site.Address.Hostname())
	}
	baseline, err := a.lookAtPages(ctx)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(a.o.Workspace, 0o700); err != nil {
		return fmt.Errorf("make the workspace: %w", err)
	}
	text := a.config()
	if err := a.checkConfig(text); err != nil {
		return err
	}
	if err := durable.WriteFile(filepath.Join(a.o.Workspace, workspace.ConfigName), []byte(text)); err != nil {
		return fmt.Errorf("write %s: %w", workspace.ConfigName, err)
	}
	w, err := workspace.Load(a.o.Workspace, a.o.Hosts)
	if err != nil {
		return err
	}
	a.result.Workspace = w
	if baseline == nil {
		return nil
	}
	return baseline.Save(w.Baseline())
}
