// Package site is the site of a workspace: its files, its CMS and its database. Begin reading at Open.
package site

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"wetland/core/advice"
	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/site/cms"
	"wetland/core/site/phppool"
	"wetland/core/workspace"
)

// Site is a site in care, opened.
type Site struct {
	Workspace *workspace.Workspace
	Host      host.Host
	Files     *files.Roots
	Root      string // absolute, slash-separated, symbolic links resolved
	Address   *url.URL
	CMS       cms.Site
	// Waiting are the folders in which the trees of the present run wait for their swap,
	// absolute. They are no part of the site.
	Waiting []string
	search  func() []string // waits for what nested returns; nil: there are none
}

// Open opens the workspace's site. It refuses a workspace inside a web root.
func Open(ctx context.Context, w *workspace.Workspace) (_ *Site, err error) {
	system, err := cms.Find(w.Config.Site.CMS)
	if err != nil {
		return nil, err
	}
	address, err := workspace.ParseAddress(w.Config.Site.Address)
	if err != nil {
		return nil, err
	}
	root, roots, err := openRoot(ctx, w)
	if err != nil {
		return nil, err
	}
	s := &Site{Workspace: w, Host: w.Host, Files: roots, Root: root, Address: address}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.Close())
		}
	}()
	s.search = later(func() []string { return cms.Nested(ctx, roots, root) })
	detected := later(func() bool { found, _ := system.Detect(ctx, roots, root); return found })
	opened, err := system.Open(ctx, roots, root, w.Config.Database.Prefix)
	found := detected()
	if !found {
		return nil, advice.With(fmt.Errorf("%s holds no %s site any more", root, system.Name()), whereItIs)
	}
	if err != nil {
		return nil, err
	}
	s.CMS = opened
	if own := w.Config.Smoke.WaitAfterSwap; own != nil && own.Duration < opened.SettleTime() && !w.Config.Smoke.ShorterWait {
		return nil, fmt.Errorf("[smoke] wait_after_swap = %q in %s is less than the %s that %s needs: old code would still answer when pages are judged. Take it out; or, if you are sure, add shorter_wait = true below it", own, workspace.ConfigName, opened.SettleTime(), opened.System())
	}
	return s, s.CheckOutside(ctx, w.Dir)
}

// openRoot finds the site's root and opens the folder around it. Mostly there is no link in the name, and
// both is done at once.
func openRoot(ctx context.Context, w *workspace.Workspace) (root string, roots *files.Roots, err error) {
	around := func(root string) (*files.Roots, error) { return files.NewRoots(ctx, w.Host, path.Dir(root)) }
	var unopened error
	as := later(func() (as *files.Roots) { as, unopened = around(w.Folder); return as })
	root, err = w.Host.Real(ctx, w.Folder)
	if roots = as(); roots != nil && root != w.Folder {
		err = errors.Join(err, roots.Close())
	}
	if errors.Is(err, fs.ErrNotExist) {
		err = files.Missing(w.Config.Site.Root, err)
	}
	switch {
	case errors.Is(err, host.ErrUnreachable):
		return "", nil, err
	case err != nil:
		return "", nil, advice.With(fmt.Errorf("find the site's root: %w", err), whereItIs)
	case root != w.Folder:
		roots, unopened = around(root)
	}
	if unopened != nil {
		return "", nil, fmt.Errorf("open the folder of the site's root: %w", unopened)
	}
	return root, roots, nil
}

// nested are other sites below the root, relative to it.
func (s *Site) nested() []string {
	if s.search == nil {
		return nil
	}
	return s.search()
}

// later does something at once, and returns what waits for its result.
func later[T any](do func() T) func() T {
	done := make(chan struct{})
	var result T
	go func() {
		result = do()
		close(done)
	}()
	return func() T { <-done; return result }
}

var whereItIs = advice.Lead("If the site was moved:", advice.Moved)

// Remember opens a site of which only what a snapshot noted is known.
func Remember(ctx context.Context, w *workspace.Workspace, root string, known cms.Remembered) (*Site, error) {
	address, err := workspace.ParseAddress(w.Config.Site.Address)
	if err != nil {
		return nil, err
	}
	roots := &files.Roots{Disk: w.Host}
	for _, area := range known.Kept.Areas {
		err = errors.Join(err, roots.ReachNearest(ctx, path.Dir(area.Path)), roots.ReachTogether(ctx, area.Path, path.Dir(root)))
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open the site's folders: %w", err), roots.Close())
	}
	s := &Site{Workspace: w, Host: w.Host, Files: roots, Root: root, Address: address, CMS: known}
	return s, s.CheckOutside(ctx, w.Dir)
}

// Place is the root as people and settings write it: with its host, where that is another machine.
func (s *Site) Place() string { return host.Whole(s.Host, s.Root) }

// Close closes the site's folders.
func (s *Site) Close() error {
	s.nested()
	return s.Files.Close()
}

// Nested lists other sites below the root, absolute. They are no part of this one:
// neither kept in snapshots nor restored.
func (s *Site) Nested() []string {
	var all []string
	for _, name := range s.nested() {
		all = append(all, path.Join(s.Root, name))
	}
	return all
}

// ErrInsideWebRoot says that a folder for snapshots could be fetched by the public.
var ErrInsideWebRoot = errors.New("inside the web root")

// CheckOutside refuses a folder of this machine inside a web root, whatever links lead there. The
// folder need not exist yet.
func (s *Site) CheckOutside(ctx context.Context, dir string) error {
	return CheckOutside(ctx, s.Host, s.CMS.Layout(), dir)
}

// CheckOutside refuses dir inside the folders that a layout names on a host.
func CheckOutside(ctx context.Context, on host.Host, layout cms.Layout, dir string) error {
	real, err := files.RealOfExisting(ctx, host.Here, filepath.ToSlash(dir))
	if err != nil {
		return fmt.Errorf("find %s: %w", dir, err)
	}
	for _, area := range layout.Areas {
		if area.Only == "" && within(real, area.Path) && isHere(ctx, on, real) {
			return fmt.Errorf("the workspace %s is %w %s: snapshots hold customers' data, and everybody could fetch them from there. Choose a folder outside of it", dir, ErrInsideWebRoot, area.Path)
		}
	}
	return nil
}

// isHere tells whether a folder of this machine is one of the host's, too: a host that is entered over a
// line may be this machine. Of a folder that does not exist yet, the nearest one above counts.
func isHere(ctx context.Context, on host.Host, folder string) bool {
	if on.Name() == "" {
		return true
	}
	for ; ; folder = path.Dir(folder) {
		sign, err := os.CreateTemp(filepath.FromSlash(folder), ".wetland-here-*")
		if errors.Is(err, fs.ErrNotExist) && path.Dir(folder) != folder {
			continue
		}
		if err != nil {
			return false // where nothing can be written, no workspace is made
		}
		_, unseen := on.Real(ctx, path.Join(folder, filepath.Base(sign.Name())))
		_ = errors.Join(sign.Close(), os.Remove(sign.Name()))
		return unseen == nil
	}
}

func within(name, folder string) bool {
	if runtime.GOOS == "windows" || runtime.GOOS == "darwin" {
		name, folder = strings.ToLower(name), strings.ToLower(folder)
	}
	return files.Within(name, folder)
}

// Areas returns the parts of the file system that a snapshot holds, with what
// wetland.toml leaves out.
func (s *Site) Areas() []cms.Area {
	areas := slices.Clone(s.CMS.Layout().Areas)
	for i, area := range areas {
		leaveOut := slices.Clone(area.LeaveOut)
		if i == 0 {
			leaveOut = slices.Concat(leaveOut, s.Workspace.Config.Files.Exclude, s.nested())
		}
		for _, folder := range s.Waiting {
			if below, inside := strings.CutPrefix(folder, area.Path+"/"); inside {
				leaveOut = append(leaveOut, below)
			}
		}
		areas[i].LeaveOut = leaveOut
	}
	return areas
}

// LeavesOutBelow tells whether a path below the area is left out, or is in a folder
// that is.
func LeavesOutBelow(area cms.Area, at string) bool {
	scope := ScopeOf(area)
	for ; at != "."; at = path.Dir(at) {
		if !scope.Has(at) && (area.Only == "" || !strings.HasPrefix(area.Only, at+"/")) {
			return true
		}
	}
	return false
}

// ScopeOf is what belongs to the area below its path.
func ScopeOf(area cms.Area) files.Scope {
	return files.Scope{Only: area.Only, LeaveOut: area.LeaveOut}
}

// Login returns how to log in to the site's database. All values that cannot be
// known are told at once.
func (s *Site) Login() (database.Login, error) {
	config := s.Workspace.Config.Database
	given := cms.Given{
		Host: config.Host, Port: config.Port, Socket: config.Socket, Name: config.Name,
		User: config.User, File: filepath.ToSlash(config.File),
	}
	var problems []error
	goesAnywhere := config.PasswordFrom != "" && config.Host == "" && config.Socket == ""
	if config.PasswordFrom != "" && !goesAnywhere {
		password, err := workspace.ReadSecret("password_from", config.PasswordFrom)
		problems = append(problems, err)
		given.Password = password
	}
	login, missing := s.CMS.Database(given)
	login.TLS = database.TLS(config.TLS)
	if goesAnywhere && login.File == "" {
		where := fmt.Sprintf("host = %q and port = %d", login.Host, login.Port)
		if login.Socket != "" {
			where = fmt.Sprintf("socket = %q", login.Socket)
		}
		return login, fmt.Errorf("[database] password_from needs host or socket beside it: the site's settings, which others may write, could lead the password anywhere. Now they say %s: if that is right, add it to %s", where, workspace.ConfigName)
	}
	var err error
	login.Trusted, err = workspace.ReadCertificates("[database] tls_certificates", config.TLSCertificates, x509.NewCertPool)
	problems = append(problems, err)
	for _, one := range missing {
		problems = append(problems, fmt.Errorf("%s. Give it as %s in %s", one.Why, one.Key, workspace.ConfigName))
	}
	return login, errors.Join(problems...)
}

// OpenDatabase logs in to the site's database.
func (s *Site) OpenDatabase(ctx context.Context) (database.Database, error) {
	login, err := s.Login()
	if err != nil {
		return nil, err
	}
	if err := s.checkDatabaseFile(ctx, &login); err != nil {
		return nil, err
	}
	return s.Host.Databases().Open(ctx, login, s.CMS.Owns)
}

// checkDatabaseFile refuses a link or a pipe in the place of an SQLite file: the engine opens
// it by its name. What wetland.toml names may be reached through links.
func (s *Site) checkDatabaseFile(ctx context.Context, login *database.Login) error {
	if login.File == "" {
		return nil
	}
	if s.Workspace.Config.Database.File != "" {
		if real, err := s.Host.Real(ctx, login.File); err == nil {
			login.File = real
		}
	}
	err := s.Files.Reach(ctx, path.Dir(login.File))
	var entry files.Entry
	if err == nil {
		entry, err = s.Files.Lstat(ctx, login.File)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil // which the engine tells
	}
	if err == nil && entry.Kind != files.File {
		err = fmt.Errorf("it is a %s, not a file", entry.Kind)
	}
	if err != nil {
		return fmt.Errorf("open the database %s: %w", login.File, err)
	}
	return nil
}

// Component returns the installed component of this kind and folder.
func Component(all []cms.Component, kind cms.Kind, folder string) (cms.Component, bool) {
	i := slices.IndexFunc(all, func(c cms.Component) bool { return c.Kind == kind && c.Folder == folder })
	if i < 0 {
		return cms.Component{}, false
	}
	return all[i], true
}

// PHPOfShell returns the version of the php on the host's command line, or "". The
// web server may well run another.
func (s *Site) PHPOfShell(ctx context.Context) string {
	said, err := s.Host.Run(ctx, "php", "-n", "-r", "echo PHP_VERSION;")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(said)
}

// Pool is the pool of PHP at a place that php_pool names.
func (s *Site) Pool(where string) phppool.Pool { return phppool.Pool{Host: s.Host, Where: where} }

// SettleTime is how long to wait after a swap before pages are judged.
func (s *Site) SettleTime() time.Duration {
	if own := s.Workspace.Config.Smoke.WaitAfterSwap; own != nil {
		return own.Duration
	}
	return s.CMS.SettleTime()
}
