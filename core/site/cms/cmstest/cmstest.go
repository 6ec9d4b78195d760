// Package cmstest holds a cms.System, and the sites that it opens, against their whole contract.
// Begin reading at TestSystem.
package cmstest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/site/cms"
	"wetland/core/site/traits"
)

// Subject is a site of the system, as it is found in the wild.
type Subject struct {
	System cms.System
	Root   string // of the site, whole, without links
	Prefix string // of its tables, where its settings do not say
	// Given is what wetland.toml would say in place of its settings.
	Given cms.Given
	// Empty is a folder in which there is no site.
	Empty string
}

// opened is a subject, opened.
type opened struct {
	Subject
	disk *files.Roots
	site cms.Site
	db   database.Database
}

// TestSystem holds a system and its site against the contract. Nothing of it may change anything on
// the site.
func TestSystem(t *testing.T, subject Subject) {
	s, err := open(t.Context(), subject)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = errors.Join(s.db.Close(), s.disk.Close()) })
	before, err := files.ReadTree(t.Context(), s.disk, subject.Root, files.Scope{})
	if err != nil {
		t.Fatal(err)
	}
	rows, err := survey(t.Context(), s)
	if err != nil {
		t.Fatal(err)
	}
	for name, law := range laws {
		t.Run(name, func(t *testing.T) {
			if err := law(t.Context(), s); err != nil {
				t.Error(err)
			}
		})
	}
	after, err := files.ReadTree(t.Context(), s.disk, subject.Root, files.Scope{})
	if differ := (files.Comparison{Modes: true}).Compare(before, after); err != nil || len(differ) > 0 {
		t.Errorf("the site's files changed: %v %v", differ, err)
	}
	if now, err := survey(t.Context(), s); err != nil || !slices.Equal(rows, now) {
		t.Errorf("the site's tables changed: %v\nwere %v (%v)", now, rows, err)
	}
}

func open(ctx context.Context, subject Subject) (*opened, error) {
	s := &opened{Subject: subject, disk: &files.Roots{Disk: host.Here}}
	err := errors.Join(s.disk.Reach(ctx, path.Dir(subject.Root)), s.disk.Reach(ctx, subject.Empty))
	if err == nil {
		s.site, err = subject.System.Open(ctx, s.disk, subject.Root, subject.Prefix)
	}
	if err != nil {
		return nil, err
	}
	login, missing := s.site.Database(subject.Given)
	if len(missing) > 0 {
		return nil, fmt.Errorf("the login lacks %v", missing)
	}
	s.db, err = host.Here.Databases().Open(ctx, login, s.site.Owns)
	return s, err
}

// survey describes each table and its rows in a line.
func survey(ctx context.Context, s *opened) (all []string, err error) {
	tables, err := database.Present(ctx, s.db)
	for _, table := range tables {
		all = append(all, fmt.Sprintf("%s %d %s", table.Name, table.Rows, table.Digest))
	}
	return all, err
}

var laws = map[string]func(context.Context, *opened) error{
	"it is known by its name":                       knownByName,
	"it finds its sites, and no others":             finds,
	"where things are":                              layout,
	"what cannot be read is listed":                 missingIsListed,
	"tables are owned":                              ownsTables,
	"components have a kind, a name, places":        componentsHavePlaces,
	"headers are read wherever they are":            headersAreRead,
	"what has no folder is recognised by its files": partsArePackages,
	"files for visitors are on the disk":            publicFiles,
	"every table has a purpose":                     purposes,
	"no row brings it down":                         anyRow,
	"pages are paths":                               pagesArePaths,
	"without a database nothing is made up":         withoutDatabase,
	"a notice is one and the same, or none":         notice,
	"a context that has ended ends all calls":       endedContext,
	"it can be replaced by its own kind":            replaceable,
}

func knownByName(_ context.Context, s *opened) error {
	found, err := cms.Find(s.System.Name())
	if err != nil || found.Name() != s.System.Name() {
		return fmt.Errorf("%q: %v", s.System.Name(), err)
	}
	if words := s.site.System(); words == "" || strings.ContainsFunc(words, func(r rune) bool { return r < ' ' }) {
		return fmt.Errorf("%q says nothing to people", words)
	}
	return nil
}

func finds(ctx context.Context, s *opened) error {
	if found, why := s.System.Detect(ctx, s.disk, s.Root); !found || why == "" {
		return fmt.Errorf("its own site: %v %q", found, why)
	}
	for _, system := range cms.Systems() {
		if found, _ := system.Detect(ctx, s.disk, s.Empty); found {
			return fmt.Errorf("%s finds a site in an empty folder", system.Name())
		}
		if found, _ := system.Detect(ctx, s.disk, s.Root); found && system.Name() != s.System.Name() {
			return fmt.Errorf("%s takes the site for its own", system.Name())
		}
	}
	if own := s.System.Own(ctx, s.disk, s.Root); own != "" && cms.Above(ctx, s.disk, path.Join(s.Root, own)) != s.Root {
		return fmt.Errorf("from %s, the site's root is not found", own)
	}
	if _, err := s.System.Open(ctx, s.disk, path.Join(s.Empty, "none"), s.Prefix); err == nil {
		return errors.New("a site is opened where there is none")
	}
	return nil
}

// inAreas tells whether a path belongs to the site.
func inAreas(layout cms.Layout, at string) bool {
	return slices.ContainsFunc(layout.Areas, func(area cms.Area) bool { return files.Within(at, area.Path) })
}

func layout(ctx context.Context, s *opened) error {
	layout := s.site.Layout()
	if len(layout.Areas) == 0 || !files.Within(s.Root, layout.Areas[0].Path) {
		return fmt.Errorf("the first area is not the root: %v", layout.Areas)
	}
	var names []string
	for _, area := range layout.Areas {
		if area.Name == "" || slices.Contains(names, area.Name) || !path.IsAbs(area.Path) || path.Clean(area.Path) != area.Path {
			return fmt.Errorf("an area: %+v", area)
		}
		names = append(names, area.Name)
		for _, left := range area.LeaveOut {
			if files.CheckName(left) != nil {
				return fmt.Errorf("%s leaves out %q", area.Name, left)
			}
		}
	}
	for _, folder := range append(layout.Folders(), layout.Loader) {
		if folder != "" && !inAreas(layout, folder) {
			return fmt.Errorf("%s is in no area", folder)
		}
	}
	var kinds []cms.Kind
	for _, home := range layout.Homes() {
		if slices.Contains(kinds, home.Kind) || home.Path == "" {
			return fmt.Errorf("a home: %+v", home)
		}
		kinds = append(kinds, home.Kind)
		entry, err := s.disk.Lstat(ctx, home.Path)
		if err != nil || entry.Kind != files.Folder {
			return fmt.Errorf("the home of every %s: %v %v", home.Kind, entry.Kind, err)
		}
		if around, ok := layout.HomeAround(path.Join(home.Path, "a", "b")); !ok || around.Kind != home.Kind {
			return fmt.Errorf("around what is in %s: %v", home.Path, around)
		}
		if folder, err := layout.Folder(home.Kind, "a"); err != nil || folder.Path != path.Join(home.Path, "a") || !path.IsAbs(folder.Public) {
			return fmt.Errorf("a %s: %+v %v", home.Kind, folder, err)
		}
	}
	for _, kind := range []cms.Kind{cms.Core, "", cms.MustUse, cms.DropIn, cms.Language} {
		if folder, err := layout.Folder(kind, "a"); !errors.Is(err, cms.ErrKind) {
			return fmt.Errorf("a %q would be put into %s: %v", kind, folder.Path, err)
		}
	}
	for _, file := range layout.DatabaseFiles {
		if files.CheckName(file) != nil {
			return fmt.Errorf("a file of the database: %q", file)
		}
	}
	return nil
}

func missingIsListed(_ context.Context, s *opened) error {
	_, missing := s.site.Database(cms.Given{})
	for _, one := range missing {
		if one.Key == "" || one.Why == "" {
			return fmt.Errorf("%+v says nothing", one)
		}
	}
	given := cms.Given{Host: "db.ferry.example", Port: 3310, Name: "ferry", User: "keeper", Password: "secret", File: "/srv/ferry.sqlite"}
	login, missing := s.site.Database(given)
	if len(missing) > 0 {
		return fmt.Errorf("all is given, and it lacks %v", missing)
	}
	if login.File != given.File && (login.Host != given.Host || login.Port != given.Port || login.Name != given.Name || login.User != given.User || login.Password != given.Password) {
		return fmt.Errorf("what is given does not count: %v", login)
	}
	return nil
}

func ownsTables(ctx context.Context, s *opened) error {
	if owned := s.site.Owns(nil); len(owned) > 0 {
		return fmt.Errorf("of no tables it owns %v", owned)
	}
	tables, err := database.Present(ctx, s.db)
	if err != nil || len(tables) == 0 {
		return fmt.Errorf("it owns no table: %w", err)
	}
	var names []string
	for _, table := range tables {
		names = append(names, table.Name)
	}
	once := s.site.Owns(names)
	if twice := s.site.Owns(once); !slices.Equal(once, twice) || len(once) != len(names) {
		return fmt.Errorf("of its own tables it owns %v, and of those %v", once, twice)
	}
	for _, name := range s.site.Owns(append(slices.Clone(names), "zz_of_somebody_else")) {
		if !slices.Contains(names, name) && len(names) > 0 && strings.Contains(s.site.System(), "WordPress") {
			return fmt.Errorf("it owns %s", name)
		}
	}
	return nil
}

func componentsHavePlaces(ctx context.Context, s *opened) error {
	layout := s.site.Layout()
	found, err := s.site.Components(ctx, s.db)
	if err != nil {
		return err
	}
	var keys []string
	themes := 0
	for _, c := range found {
		key := string(c.Kind) + "/" + c.Folder
		if c.Folder == "" || c.Kind == "" || len(c.Places) == 0 || slices.Contains(keys, key) {
			return fmt.Errorf("%+v, after %v", c, keys)
		}
		keys = append(keys, key)
		if c.Kind == cms.Theme && c.Active {
			themes++
		}
		for _, place := range c.Places {
			entry, err := s.disk.Lstat(ctx, place.Path)
			if err != nil || !inAreas(layout, place.Path) || place.Single != (entry.Kind == files.File) && entry.Kind != files.Link {
				return fmt.Errorf("%s: a place %+v is a %s: %v", c.Folder, place, entry.Kind, err)
			}
			if place.Public != "" && !path.IsAbs(place.Public) {
				return fmt.Errorf("%s: visitors fetch %s", c.Folder, place.Public)
			}
		}
		if _, whole := c.OneFolder(); whole == (c.Form != "") || !slices.Contains(cms.Kinds(), c.Kind) {
			return fmt.Errorf("%s: its kind is %q, its form is %q, and it is a folder: %v", c.Folder, c.Kind, c.Form, whole)
		}
		if stand, known := c.Stand(); known == (c.Kind == cms.Core) || known && len(stand.Parts) > 0 && len(stand.Parts) != len(c.Places) {
			return fmt.Errorf("%s stands in %+v: %v", c.Folder, stand, known)
		}
	}
	if themes > 1 { // that of the settings may have been deleted
		return fmt.Errorf("%d themes are active", themes)
	}
	return nil
}

// there is a folder of the disk.
type there struct {
	ctx  context.Context
	disk files.FS
	path string
}

func (f there) Names() (names []string, err error) {
	entries, err := f.disk.List(f.ctx, f.path)
	for _, entry := range entries {
		if entry.Kind == files.File {
			names = append(names, entry.Name)
		}
	}
	return names, err
}

func (f there) Open(name string) (io.ReadCloser, error) {
	return f.disk.Open(f.ctx, path.Join(f.path, name), 0)
}

func headersAreRead(ctx context.Context, s *opened) error {
	found, err := s.site.Components(ctx, nil)
	if err != nil {
		return err
	}
	read := 0
	for _, c := range found {
		place, whole := c.OneFolder()
		if !whole || c.Problem != "" {
			continue
		}
		header, err := s.site.ReadHeader(there{ctx, s.disk, place.Path})
		if err != nil || header.Kind != c.Kind || header.Name != c.Name || header.Version != c.Version {
			return fmt.Errorf("%s: %+v, listed as %+v: %v", c.Folder, header, c.Header, err)
		}
		read++
	}
	if _, err := s.site.ReadHeader(there{ctx, s.disk, s.Empty}); read == 0 || !errors.Is(err, cms.ErrNoHeader) {
		return fmt.Errorf("%d headers read; of an empty folder: %v", read, err)
	}
	return nil
}

// partsArePackages: what is installed without a folder of its own is recognised where its files alone are in one.
func partsArePackages(ctx context.Context, s *opened) error {
	found, err := s.site.Components(ctx, nil)
	if err != nil {
		return err
	}
	for _, c := range found {
		stand, known := c.Stand()
		if !known || len(stand.Parts) == 0 || c.Problem != "" {
			continue
		}
		tree, err := stand.Read(ctx, s.disk)
		if err != nil || len(tree) < len(stand.Parts) || slices.ContainsFunc(tree, func(item files.Item) bool { return len(cms.Only(files.Tree{item}, stand.Parts)) == 0 }) {
			return fmt.Errorf("%s is %v of %v: %w", c.Folder, tree, stand, err)
		}
		header, err := s.site.ReadHeader(alone{there{ctx, s.disk, stand.Folder}, stand.Parts})
		switch {
		case errors.Is(err, cms.ErrNoHeader) && c.Version == "" && c.Name == "":
		case err != nil || header.Version != c.Version || header.Alone == "" || !strings.HasPrefix(c.Folder, header.Alone):
			return fmt.Errorf("%s: %+v, listed as %+v: %w", c.Folder, header, c.Header, err)
		}
	}
	return nil
}

// alone is a folder of which some names are to be seen.
type alone struct {
	there
	only []string
}

func (f alone) Names() ([]string, error) {
	names, err := f.there.Names()
	return slices.DeleteFunc(names, func(name string) bool { return !slices.Contains(f.only, name) }), err
}

func (f alone) Open(name string) (io.ReadCloser, error) {
	if !slices.Contains(f.only, name) {
		return nil, fs.ErrNotExist
	}
	return f.there.Open(name)
}

func publicFiles(ctx context.Context, s *opened) error {
	components, err := s.site.Components(ctx, s.db)
	if err != nil {
		return err
	}
	public, err := s.site.PublicFiles(ctx, components)
	if err != nil || len(public) == 0 {
		return fmt.Errorf("none: %w", err)
	}
	for _, file := range public {
		if entry, err := s.disk.Lstat(ctx, file.Disk); err != nil || entry.Kind != files.File || entry.Size == 0 || !path.IsAbs(file.Public) {
			return fmt.Errorf("%+v: %v", file, err)
		}
	}
	return nil
}

func purposes(ctx context.Context, s *opened) error {
	tables, err := database.Present(ctx, s.db)
	known := 0
	for _, table := range tables {
		purpose := s.site.Purpose(table.Name)
		if !slices.Contains([]cms.Purpose{cms.Settings, cms.Visitors, cms.Volatile, cms.Unknown}, purpose) || purpose != s.site.Purpose(table.Name) {
			return fmt.Errorf("%s is for %q", table.Name, purpose)
		}
		if purpose != cms.Unknown {
			known++
		}
	}
	if purpose := s.site.Purpose("nobody_knows_this"); known == 0 || purpose != cms.Unknown {
		return fmt.Errorf("%d are known; a table that is not is for %q", known, purpose)
	}
	return err
}

// anyRow: rows are what plugins and visitors wrote, in tables that plugins may have changed.
func anyRow(ctx context.Context, s *opened) error {
	tables, err := database.Present(ctx, s.db)
	if err != nil {
		return err
	}
	values := []database.Value{{Type: database.Null}, database.IntegerValue(-1), {Type: database.Text, Data: []byte("a:1:{s:999999999:\"")}, {Type: database.Bytes, Data: []byte{0xff, 0}}}
	for _, table := range append(tables, database.Table{Name: ""}, database.Table{Name: tables[0].Name}) {
		for _, value := range values {
			row := make(database.Row, len(table.Columns))
			for i := range row {
				row[i] = value
			}
			s.site.RewrittenByItself(table, row)
			s.site.IsDesign(table, row)
			s.site.RewrittenByItself(table, nil)
			s.site.IsDesign(table, nil)
		}
	}
	return nil
}

func pagesArePaths(ctx context.Context, s *opened) error {
	all := append(s.site.FirstPages(), s.site.UpgradeVisits()...)
	if !slices.Contains(s.site.FirstPages(), "/") {
		return errors.New("the front page is not among the first")
	}
	samples, err := s.site.Samples(ctx, s.db)
	if err != nil {
		return err
	}
	components, err := s.site.Components(ctx, s.db)
	if err != nil {
		return err
	}
	for _, c := range components {
		used, err := s.site.UsedOn(ctx, s.db, c)
		if err != nil {
			return err
		}
		samples = append(samples, used...)
		for _, words := range s.site.Warnings(ctx, s.db, c) {
			if strings.TrimSpace(words) == "" {
				return fmt.Errorf("a warning about %s says nothing", c.Folder)
			}
		}
	}
	for _, sample := range samples {
		if sample.Kind == "" {
			return fmt.Errorf("%s: why is not said", sample.Path)
		}
		for _, file := range sample.Templates {
			if path.IsAbs(file) || path.Ext(file) == "" {
				return fmt.Errorf("%s: %q is no file of a theme", sample.Path, file)
			}
		}
		all = append(all, sample.Path)
	}
	for _, at := range all {
		if parsed, err := url.Parse(at); err != nil || !path.IsAbs(at) || parsed.Host != "" {
			return fmt.Errorf("%q is no path: %v", at, err)
		}
	}
	if address := s.site.Address(ctx, s.db); address != "" {
		if parsed, err := url.Parse(address); err != nil || parsed.Host == "" {
			return fmt.Errorf("it believes to be at %q: %v", address, err)
		}
	}
	return nil
}

func withoutDatabase(ctx context.Context, s *opened) error {
	found, err := s.site.Components(ctx, nil)
	if err != nil {
		return err
	}
	for _, c := range found {
		if _, whole := c.OneFolder(); c.ParentOfActive || c.Active && whole {
			return fmt.Errorf("%s is said to be active", c.Folder)
		}
	}
	samples, err1 := s.site.Samples(ctx, nil)
	used, err2 := s.site.UsedOn(ctx, nil, found[0])
	if err := errors.Join(err1, err2); err != nil || len(samples)+len(used) > 0 || s.site.Title(ctx, nil) != "" || len(s.site.Obstacles(ctx, nil)) > 0 {
		return fmt.Errorf("pages %v %v, title %q, obstacles %v: %w", samples, used, s.site.Title(ctx, nil), s.site.Obstacles(ctx, nil), err)
	}
	_ = s.site.Address(ctx, nil)
	_, _ = s.site.AutomaticUpdates(ctx, nil)
	_ = s.site.Busy(ctx, nil)
	return nil
}

func notice(_ context.Context, s *opened) error {
	now := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	file, text := s.site.Notice(now)
	later, other := s.site.Notice(now.Add(time.Hour))
	first, _, _ := strings.Cut(text, "\n")
	again, _, _ := strings.Cut(other, "\n")
	switch {
	case file == "" && text == "":
		return nil
	case file == "" || text == "" || file != later || first != again:
		return fmt.Errorf("%s %q, an hour later %s %q", file, first, later, again)
	case !inAreas(s.site.Layout(), file):
		return fmt.Errorf("%s is in no area", file)
	}
	if s.site.SettleTime() < 0 {
		return fmt.Errorf("it waits %s", s.site.SettleTime())
	}
	return nil
}

func replaceable(ctx context.Context, s *opened) error {
	site, can := s.site.(cms.Replaceable)
	if !can {
		return nil
	}
	core := site.Core()
	entries, err := s.disk.List(ctx, core.Root)
	if err != nil {
		return err
	}
	var tree files.Tree // a package with all that is there
	for _, entry := range entries {
		tree = append(tree, files.Item{Path: entry.Name, Kind: entry.Kind})
	}
	parts, stayAway := core.Parts(tree, entries, nil)
	settings := traits.Of(s.System.Name()).Settings
	switch {
	case len(stayAway) > 0:
		return fmt.Errorf("%v are there, and stay away", stayAway)
	case slices.Contains(parts, settings), slices.ContainsFunc(parts, func(name string) bool { return core.Content != "" && name == core.Content }):
		return fmt.Errorf("what is the owner's is replaced: %v", parts)
	case core.GateMark() == "" || !strings.HasPrefix(core.Gate, core.GateMark()+"\n"):
		return fmt.Errorf("a gate is known by %q", core.GateMark())
	case site.Between("1.0", "1.0") != 0 || site.Between("2.0", "1.0") != 0 || site.Between("3.0", "5.0") <= 1 || site.Between("one", "two") != 0:
		return errors.New("releases are counted otherwise than from an earlier one to a later one")
	}
	if visit, err := site.PendingUpgrade(ctx, nil); visit != "" || err != nil {
		return fmt.Errorf("without a database it wants %q: %v", visit, err)
	}
	if lost, err := site.LostWith(ctx, nil, "1.0"); len(lost) > 0 || err != nil {
		return fmt.Errorf("without a database %v is lost: %v", lost, err)
	}
	for _, one := range site.Vitals() {
		if one.What == "" || !path.IsAbs(one.Path) || one.Token != "" && (!one.SignedIn || !path.IsAbs(one.Token)) {
			return fmt.Errorf("%+v is asked", one)
		}
	}
	if jobs, err := site.Jobs(ctx, nil); len(jobs) > 0 || err != nil {
		return fmt.Errorf("without a database it does %v at set times: %v", jobs, err)
	}
	if jobs, err := site.Jobs(ctx, s.db); !slices.IsSorted(jobs) || len(slices.Compact(slices.Clone(jobs))) != len(jobs) || err != nil {
		return fmt.Errorf("at set times it does %v: %v", jobs, err)
	}
	_, err = site.Formerly(there{ctx, s.disk, core.Root})
	return err
}

func endedContext(ctx context.Context, s *opened) error {
	ended, end := context.WithCancel(ctx)
	end()
	if _, err := s.site.Components(ended, s.db); !errors.Is(err, context.Canceled) {
		return fmt.Errorf("components: %v", err)
	}
	if _, err := s.site.PublicFiles(ended, nil); !errors.Is(err, context.Canceled) {
		return fmt.Errorf("public files: %v", err)
	}
	if _, err := s.System.Open(ended, s.disk, s.Root, s.Prefix); err == nil {
		return errors.New("it opens the site all the same")
	}
	return nil
}
