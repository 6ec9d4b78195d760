package cms

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/site/traits"
	"wetland/core/visible"
)

// Rowlock recognises sites of Rowlock, the CMS of the bundled demo site.
type Rowlock struct{}

// Name is "rowlock".
func (Rowlock) Name() string { return rowlock.Name }

// rowlock is what is known of it beforehand.
var rowlock = &traits.Rowlock

// Detect looks for rowlock.toml.
func (Rowlock) Detect(ctx context.Context, disk *files.Roots, root string) (bool, string) {
	entry, err := disk.Lstat(ctx, path.Join(root, rowlock.Marker))
	return err == nil && entry.Kind == files.File, rowlock.Marker
}

// Own is the root.
func (Rowlock) Own(context.Context, *files.Roots, string) string { return "" }

type rowlockSite struct {
	disk     *files.Roots
	root     string
	version  string
	address  string
	database string
}

// Open reads the settings.
func (Rowlock) Open(ctx context.Context, disk *files.Roots, root, _ string) (Site, error) {
	text, err := readAll(ctx, disk, path.Join(root, rowlock.Settings), 1<<20)
	if err != nil {
		return nil, fmt.Errorf("read the settings of Rowlock: %w", err)
	}
	var settings struct {
		Address  string `toml:"address"`
		Database string `toml:"database"`
	}
	if err := toml.Unmarshal([]byte(text), &settings); err != nil {
		return nil, fmt.Errorf("read rowlock.toml: %w", err)
	}
	version, err := readAll(ctx, disk, path.Join(root, "system/version.txt"), 100)
	if err != nil {
		version = "of unknown version"
	}
	return &rowlockSite{disk: disk, root: root, version: strings.TrimSpace(version), address: settings.Address, database: settings.Database}, nil
}

func (r *rowlockSite) System() string { return "Rowlock " + r.version }

func (r *rowlockSite) Layout() Layout {
	var engine []string
	if r.database != "" {
		for _, suffix := range []string{"", "-wal", "-shm", "-journal"} {
			engine = append(engine, path.Clean(r.database)+suffix)
		}
	}
	return Layout{
		Areas: []Area{{Name: "site", Path: r.root, LeaveOut: slices.Concat(rowlock.Volatile, engine)}}, DatabaseFiles: engine,
		Themes: path.Join(r.root, rowlock.Themes), Plugins: path.Join(r.root, rowlock.Plugins), Uploads: path.Join(r.root, rowlock.Uploads),
		Caches:       []string{path.Join(r.root, rowlock.Cache)},
		PublicThemes: rowlock.Themes, PublicPlugins: rowlock.Plugins, PublicUploads: rowlock.Uploads,
	}
}

func (r *rowlockSite) Database(given Given) (database.Login, []Missing) {
	file := given.File
	if file == "" && r.database != "" {
		file = path.Join(r.root, r.database)
	}
	if file == "" {
		return database.Login{}, []Missing{{Key: "database.file", Why: "rowlock.toml names no database"}}
	}
	return database.Login{Engine: "sqlite", File: file}, nil
}

func (r *rowlockSite) Owns(tables []string) []string { return tables }

func (r *rowlockSite) Components(ctx context.Context, db database.Database) ([]Component, error) {
	found, err := components(ctx, r.disk, r.Layout(), r.ReadHeader)
	found = append(found, r.coreComponent(ctx)...)
	if err != nil || db == nil {
		return found, err
	}
	active := map[string]bool{}
	theme, err := db.Query(ctx, `SELECT value FROM settings WHERE name = 'theme'`)
	if err != nil {
		return found, fmt.Errorf("ask which theme is active: %w", err)
	}
	plugins, err := db.Query(ctx, `SELECT folder FROM plugins WHERE active`)
	if err != nil {
		return found, fmt.Errorf("ask which plugins are active: %w", err)
	}
	for _, row := range theme {
		active["theme/"+row[0].String()] = true
	}
	for _, row := range plugins {
		active["plugin/"+row[0].String()] = true
	}
	markActive(found, active)
	return found, nil
}

// markActive marks the components whose kind and folder, joined by a slash, are
// in active, and the parent of the active theme.
func markActive(found []Component, active map[string]bool) {
	parent := ""
	for i := range found {
		found[i].Active = active[string(found[i].Kind)+"/"+found[i].Folder] || found[i].Kind == Core
		if found[i].Active && found[i].Kind == Theme {
			parent = found[i].Parent
		}
	}
	for i := range found {
		found[i].ParentOfActive = found[i].Kind == Theme && parent != "" && found[i].Folder == parent
	}
}

func (r *rowlockSite) ReadHeader(folder Folder) (Header, error) {
	for name, kind := range map[string]Kind{rowlock.ThemeHeader: Theme, rowlock.PluginHeader: Plugin} {
		text, err := readStart(folder, name, 64<<10)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return Header{Kind: kind}, err
		}
		var header struct {
			Name            string   `toml:"name"`
			Version         string   `toml:"version"`
			Author          string   `toml:"author"`
			Parent          string   `toml:"parent"`
			RequiresRowlock string   `toml:"requires_rowlock"`
			RequiresPlugins []string `toml:"requires_plugins"`
		}
		if err := toml.Unmarshal([]byte(text), &header); err != nil {
			return Header{Kind: kind}, fmt.Errorf("read %s: %w", name, err)
		}
		if header.Name == "" {
			return Header{Kind: kind}, fmt.Errorf("%s names no name", name)
		}
		return Header{
			Kind: kind, Name: visible.Line(header.Name), Version: visible.Line(header.Version), Author: visible.Line(header.Author), Parent: header.Parent,
			RequiresCMS: header.RequiresRowlock, RequiresPlugins: header.RequiresPlugins,
		}, nil
	}
	return readRowlock(folder)
}

func (r *rowlockSite) Address(context.Context, database.Database) string { return r.address }

func (r *rowlockSite) PublicFiles(ctx context.Context, components []Component) ([]PublicFile, error) {
	return publicFiles(ctx, r.disk, r.Layout(), components)
}

func (r *rowlockSite) Purpose(table string) Purpose { return purposeIn(rowlock, table) }

func (r *rowlockSite) RewrittenByItself(table database.Table, row database.Row) bool {
	at := slices.IndexFunc(table.Columns, func(c database.Column) bool { return c.Name == "name" })
	return table.Name == "settings" && at >= 0 && at < len(row) && isOwnSetting(rowlock, row[at].String())
}

// Counted: Rowlock counts nothing.
func (r *rowlockSite) Counted(string) []string { return nil }

// IsDesign: Rowlock keeps no templates in its tables.
func (r *rowlockSite) IsDesign(database.Table, database.Row) bool { return false }

func (r *rowlockSite) Title(ctx context.Context, db database.Database) string {
	if db == nil {
		return ""
	}
	rows, err := db.Query(ctx, `SELECT value FROM settings WHERE name = 'site_name'`)
	if err != nil || len(rows) == 0 {
		return ""
	}
	return rows[0][0].String()
}

func (r *rowlockSite) FirstPages() []string { return []string{"/", "/sign-in"} }

// Samples takes a page of each template.
func (r *rowlockSite) Samples(ctx context.Context, db database.Database) ([]Sample, error) {
	return r.pagesWhere(ctx, db, "1 = 1 GROUP BY template ORDER BY template")
}

// UsedOn finds the pages with a plugin's blocks, such as [[tidetable/board]].
func (r *rowlockSite) UsedOn(ctx context.Context, db database.Database, component Component) ([]Sample, error) {
	if component.Kind != Plugin {
		return nil, nil
	}
	return r.pagesWhere(ctx, db, "body LIKE ? ESCAPE '!' ORDER BY slug", "%[["+likeText(component.Folder)+"/%")
}

func (r *rowlockSite) pagesWhere(ctx context.Context, db database.Database, condition string, args ...any) ([]Sample, error) {
	if db == nil {
		return nil, nil
	}
	rows, err := db.Query(ctx, "SELECT slug, template FROM pages WHERE "+condition, args...)
	if err != nil {
		return nil, fmt.Errorf("look for pages: %w", err)
	}
	var found []Sample
	for _, row := range rows {
		template := row[1].String()
		found = append(found, Sample{"/" + row[0].String(), "a page of the template " + template, []string{template + ".html"}})
	}
	return found, nil
}

func (r *rowlockSite) UpgradeVisits() []string { return []string{"/"} }

func (r *rowlockSite) AutomaticUpdates(context.Context, database.Database) ([]Automatic, error) {
	return nil, nil
}

func (r *rowlockSite) Warnings(context.Context, database.Database, Component) []string { return nil }

func (r *rowlockSite) Busy(context.Context, database.Database) []string      { return nil }
func (r *rowlockSite) Obstacles(context.Context, database.Database) []string { return nil }
func (r *rowlockSite) ErrorLogs() []string                                   { return nil }

// ForgetCaches: Rowlock keeps nothing of that kind in its tables.
func (r *rowlockSite) ForgetCaches(context.Context, database.Database) (int, error) { return 0, nil }
func (r *rowlockSite) RebuildLinks(context.Context, database.Database) error {
	return errors.ErrUnsupported
}
func (r *rowlockSite) Notice(time.Time) (file, text string) { return "", "" }
func (r *rowlockSite) SettleTime() time.Duration            { return 0 }

// publicFiles names the newest uploads, which no other site has, then files of
// the active components.
func publicFiles(ctx context.Context, disk *files.Roots, layout Layout, components []Component) ([]PublicFile, error) {
	found, err := newestUploads(ctx, disk, layout.Uploads, layout.PublicUploads)
	if err != nil {
		return nil, err
	}
	styles := make([][]PublicFile, len(components))
	err = files.AtOnce(ctx, disk, len(components), func(ctx context.Context, i int) error {
		place, ok := components[i].OneFolder()
		if !ok || (!components[i].Active && !components[i].ParentOfActive) {
			return nil
		}
		entries, err := disk.List(ctx, place.Path)
		if err != nil {
			return err
		}
		for _, entry := range entries {
			if entry.Kind == files.File && entry.Size > 0 && path.Ext(entry.Name) == ".css" {
				styles[i] = []PublicFile{{Disk: path.Join(place.Path, entry.Name), Public: path.Join(place.Public, entry.Name)}}
				break
			}
		}
		return nil
	})
	return append(found, slices.Concat(styles...)...), err
}

// publicUpload lists the endings of uploads that any web server hands out as they are.
var publicUpload = []string{".jpg", ".jpeg", ".png", ".gif", ".webp", ".svg", ".pdf"}

func newestUploads(ctx context.Context, disk *files.Roots, uploads, public string) ([]PublicFile, error) {
	type upload struct {
		path string
		at   time.Time
	}
	var newest []upload
	err := files.Walk(ctx, disk, uploads, files.Scope{}, func(at string, entry files.Entry) error {
		if entry.Kind == files.File && entry.Size > 0 && slices.Contains(publicUpload, strings.ToLower(path.Ext(at))) {
			newest = append(newest, upload{at, entry.Modified})
		}
		return nil
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	slices.SortStableFunc(newest, func(a, b upload) int { return b.at.Compare(a.at) })
	var found []PublicFile
	for _, one := range newest[:min(2, len(newest))] {
		found = append(found, PublicFile{Disk: path.Join(uploads, one.path), Public: path.Join("/", public, one.path)})
	}
	return found, nil
}
