package cms

import (
	"context"
	"errors"
	"fmt"
	"html"
	"io/fs"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/site/traits"
	"wetland/core/visible"
)

// WordPress recognises WordPress sites.
type WordPress struct{}

// Name is "wordpress".
func (WordPress) Name() string { return traits.WordPress.Name }

// wordpress is what is known of it beforehand.
var wordpress = &traits.WordPress

// Detect looks for wp-includes/version.php, in the root or in the folder of its own that
// WordPress was given.
func (WordPress) Detect(ctx context.Context, disk *files.Roots, root string) (bool, string) {
	var own string
	var apart sync.WaitGroup
	apart.Go(func() { own = WordPress{}.Own(ctx, disk, root) })
	is := holdsWordPress(ctx, disk, root)
	apart.Wait()
	if is {
		return true, wordpress.Marker
	}
	return own != "", path.Join(own, wordpress.Marker)
}

func holdsWordPress(ctx context.Context, disk *files.Roots, folder string) bool {
	entry, err := disk.Lstat(ctx, path.Join(folder, wordpress.Marker))
	return err == nil && entry.Kind == files.File
}

// blogHeader matches what the root's index.php loads.
var blogHeader = regexp.MustCompile(`['"]([\w./-]*?)/?wp-blog-header\.php['"]`)

// Own is the folder that the root's index.php loads WordPress from, as WordPress's manual has it
// ("Giving WordPress Its Own Directory").
func (WordPress) Own(ctx context.Context, disk *files.Roots, root string) string {
	text, err := readAll(ctx, disk, path.Join(root, "index.php"), 64<<10)
	if err != nil {
		return ""
	}
	found := blogHeader.FindStringSubmatch(text)
	if found == nil {
		return ""
	}
	own := strings.Trim(path.Clean("/"+found[1]), "/")
	if own == "" || !holdsWordPress(ctx, disk, path.Join(root, own)) {
		return ""
	}
	return own
}

type wordpressSite struct {
	disk       *files.Roots
	root       string
	own        string // the folder of WordPress itself, below the root; mostly "", the root
	version    string
	configFile string // absolute; may be one folder above the root
	config     phpConfig
	content    string // absolute path of wp-content, wherever it was moved
	prefix     string // of the tables; from the settings or given
	prefixWhy  string // why the prefix is not known
	socket     string // of the database server on this machine
	objects    bool   // there is an object cache
}

var coreVersion = regexp.MustCompile(`\$wp_version\s*=\s*['"]([^'"]+)['"]`)

// Open reads wp-config.php, in the root or one folder above it, as WordPress
// looks for it (wp-load.php): the one above counts only when it does not belong
// to another site there.
func (WordPress) Open(ctx context.Context, disk *files.Roots, root, prefix string) (Site, error) {
	w := &wordpressSite{disk: disk, root: root, version: "of unknown version"}
	text, err := w.readCore(ctx)
	if errors.Is(err, fs.ErrNotExist) {
		above := path.Join(path.Dir(w.core()), wordpress.Settings)
		if _, other := disk.Lstat(ctx, path.Join(path.Dir(w.core()), "wp-settings.php")); errors.Is(other, fs.ErrNotExist) {
			if text, err = readAll(ctx, disk, above, 4<<20); err == nil {
				w.configFile = above
			}
		}
	}
	if err != nil {
		return nil, fmt.Errorf("read the settings of WordPress: %w", err)
	}
	w.config = readPHPConfig(text, path.Dir(w.configFile), w.core())
	if err := w.findContent(ctx); err != nil {
		return nil, err
	}
	var apart sync.WaitGroup
	defer apart.Wait()
	apart.Go(func() {
		_, err := disk.Lstat(ctx, w.objectCache())
		w.objects = err == nil
	})
	w.socket = LocalSockets()[0]
	if server, why := w.config.constant("DB_HOST"); why != "" || strings.Contains(server, "localhost") {
		apart.Go(func() { w.socket = localSocket(ctx, disk.Disk) })
	}
	if w.prefix = prefix; prefix == "" {
		w.prefix, w.prefixWhy = w.config.variable("table_prefix")
	}
	if err := w.checkContent(ctx); err != nil {
		return nil, err
	}
	return w, nil
}

// readCore finds the folder of WordPress itself, and reads its version and the settings there.
func (w *wordpressSite) readCore(ctx context.Context) (settings string, err error) {
	var version string
	var noVersion error
	read := func() {
		w.configFile = path.Join(w.core(), wordpress.Settings)
		var apart sync.WaitGroup
		apart.Go(func() { version, noVersion = readAll(ctx, w.disk, path.Join(w.core(), wordpress.Marker), 64<<10) })
		settings, err = readAll(ctx, w.disk, w.configFile, 4<<20)
		apart.Wait()
	}
	read()
	if noVersion != nil {
		if w.own = (WordPress{}).Own(ctx, w.disk, w.root); w.own != "" {
			read()
		}
	}
	if found := coreVersion.FindStringSubmatch(version); noVersion == nil && found != nil {
		w.version = found[1]
	}
	return settings, err
}

// core is the folder of WordPress itself (ABSPATH).
func (w *wordpressSite) core() string { return path.Join(w.root, w.own) }

// findContent finds the folder of themes, plugins and uploads. A link in its place below the root is
// not followed (checkContent), for whoever may write to the root could lead it anywhere; a folder
// elsewhere that the settings name may be reached through links, as its owner wrote it.
func (w *wordpressSite) findContent(ctx context.Context) error {
	w.content = path.Join(w.core(), "wp-content")
	if moved, why := w.config.constant("WP_CONTENT_DIR"); why == "" {
		w.content = path.Clean(moved)
	}
	if !strings.HasPrefix(w.content, w.root+"/") {
		if real, err := w.disk.Disk.Real(ctx, w.content); err == nil {
			w.content = real
		}
		if err := w.disk.ReachNearest(ctx, w.content); err != nil { // what is missing is told where it is looked at
			return fmt.Errorf("open the content folder: %w", err)
		}
		return w.disk.ReachTogether(ctx, w.content, path.Dir(w.root)) // new versions wait beside the root
	}
	return nil
}

// checkContent refuses a link in the place of the content folder.
func (w *wordpressSite) checkContent(ctx context.Context) error {
	if !strings.HasPrefix(w.content, w.root+"/") {
		return nil // its links were resolved
	}
	if entry, err := w.disk.Lstat(ctx, w.content); err == nil && entry.Kind == files.Link {
		return fmt.Errorf("%s is a symbolic link to %s, which is not followed. Name the real folder as WP_CONTENT_DIR in wp-config.php", w.content, entry.Target)
	}
	return nil
}

func (w *wordpressSite) objectCache() string { return path.Join(w.content, "object-cache.php") }

func (w *wordpressSite) System() string { return "WordPress " + w.version }

func (w *wordpressSite) Layout() Layout {
	rel, inside := strings.CutPrefix(w.content, w.root+"/")
	public := w.publicContent()
	site := Area{Name: "site", Path: w.root, LeaveOut: []string{path.Join(w.own, ".maintenance")}}
	layout := Layout{
		Themes: path.Join(w.content, wordpress.Themes), Plugins: path.Join(w.content, wordpress.Plugins), Uploads: path.Join(w.content, wordpress.Uploads),
		Caches:       []string{path.Join(w.content, wordpress.Cache)},
		PublicThemes: path.Join(public, wordpress.Themes), PublicPlugins: path.Join(public, wordpress.Plugins), PublicUploads: path.Join(public, wordpress.Uploads),
	}
	if inside {
		for _, name := range wordpress.Volatile {
			site.LeaveOut = append(site.LeaveOut, path.Join(rel, name))
		}
		layout.Areas = []Area{site}
	} else {
		layout.Areas = []Area{site, {Name: "content", Path: w.content, LeaveOut: wordpress.Volatile}}
	}
	layout.Loader = path.Join(w.core(), "wp-load.php")
	for _, name := range append([]string{"mu-plugins"}, wordpress.LooseFiles...) {
		layout.Always = append(layout.Always, path.Join(w.content, name))
	}
	if w.objects {
		layout.ObjectCache = w.objectCache()
	}
	if !strings.HasPrefix(w.configFile, w.root+"/") {
		layout.Areas = append(layout.Areas, Area{Name: "settings", Path: path.Dir(w.configFile), Only: wordpress.Settings})
	}
	return layout
}

// publicContent is where the content folder is below the site's address: as WP_CONTENT_URL says,
// else as it lies on the disk.
func (w *wordpressSite) publicContent() string {
	if stated, why := w.config.constant("WP_CONTENT_URL"); why == "" {
		if at, err := url.Parse(stated); err == nil {
			return strings.Trim(strings.TrimPrefix(strings.Trim(at.Path, "/")+"/", w.homePath()), "/")
		}
	}
	if rel, inside := strings.CutPrefix(w.content, w.root+"/"); inside {
		return rel
	}
	return path.Join(w.own, "wp-content")
}

// homePath is the path of the site's address, if wp-config.php says it: "sub/folder/", or "".
func (w *wordpressSite) homePath() string {
	home, why := w.config.constant("WP_HOME")
	at, err := url.Parse(home)
	if why != "" || err != nil || strings.Trim(at.Path, "/") == "" {
		return ""
	}
	return strings.Trim(at.Path, "/") + "/"
}

// Database reads the DB_ constants; what is given in wetland.toml wins.
func (w *wordpressSite) Database(given Given) (database.Login, []Missing) {
	login := database.Login{Engine: "mysql", Host: given.Host, Socket: given.Socket, Port: given.Port}
	var missing []Missing
	want := func(value, constant, key string) string {
		if value != "" {
			return value
		}
		value, why := w.config.constant(constant)
		if why != "" {
			missing = append(missing, Missing{Key: key, Why: why})
		}
		return value
	}
	login.Name = want(given.Name, "DB_NAME", "database.name")
	login.User = want(given.User, "DB_USER", "database.user")
	login.Password = want(given.Password, "DB_PASSWORD", "database.password_from")
	if given.Host == "" && given.Socket == "" {
		host := want("", "DB_HOST", "database.host")
		login.Host, login.Port, login.Socket = w.splitHost(host)
	}
	if login.Host == "localhost" {
		login.Host, login.Socket = "", w.socket
	}
	if login.Port == 0 {
		login.Port = 3306
	}
	if w.prefixWhy != "" {
		missing = append(missing, Missing{Key: "database.prefix", Why: w.prefixWhy})
	}
	return login, missing
}

// splitHost reads DB_HOST as wpdb::parse_db_host() does (wp-includes/class-wpdb.php):
// host, host:port, host:/socket, an IPv6 address with or without brackets.
// "localhost" stands for the local socket, whatever port is named.
func (w *wordpressSite) splitHost(text string) (host string, port int, socket string) {
	text = strings.TrimPrefix(text, "p:") // asks PHP for a lasting connection
	if i := strings.Index(text, ":/"); i >= 0 {
		return "", 0, text[i+1:]
	}
	if strings.Count(text, ":") > 1 { // IPv6
		host = text
		if inner, rest, ok := strings.Cut(strings.TrimPrefix(text, "["), "]"); ok {
			host, port = inner, portOf(strings.TrimPrefix(rest, ":"))
		}
		return host, port, ""
	}
	host, number, _ := strings.Cut(text, ":")
	return host, portOf(number), ""
}

func portOf(text string) int {
	port, err := strconv.Atoi(text)
	if err != nil {
		return 0
	}
	return port
}

// LocalSockets are the places where distributions put the socket of a database server.
func LocalSockets() []string {
	return []string{"/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"}
}

// localSocket returns the first socket there is, of the places where
// distributions put it.
func localSocket(ctx context.Context, disk files.Disk) string {
	usual := LocalSockets()
	for _, name := range usual {
		if _, err := disk.Real(ctx, name); err == nil {
			return name
		}
	}
	return usual[0]
}

// Owns takes the tables that begin with the prefix, but not those of a site
// whose longer prefix begins with it: "wp_" is also the beginning of "wp_dev_".
// Another site is known by its three tables options, posts and postmeta; the
// numbered tables of a multisite are its own.
func (w *wordpressSite) Owns(tables []string) []string {
	var others []string
	for _, table := range tables {
		prefix, isOptions := strings.CutSuffix(table, "options")
		longer, ok := strings.CutPrefix(prefix, w.prefix)
		if !isOptions || !ok || longer == "" || isNumbered(longer) {
			continue
		}
		if slices.Contains(tables, prefix+"posts") && slices.Contains(tables, prefix+"postmeta") {
			others = append(others, prefix)
		}
	}
	return slices.DeleteFunc(slices.Clone(tables), func(table string) bool {
		return !strings.HasPrefix(table, w.prefix) ||
			slices.ContainsFunc(others, func(other string) bool { return strings.HasPrefix(table, other) })
	})
}

func isNumbered(longer string) bool {
	_, err := strconv.Atoi(strings.TrimSuffix(longer, "_"))
	return err == nil
}

// option reads one of WordPress' settings; "" if it is not set, or db is nil.
func (w *wordpressSite) option(ctx context.Context, db database.Database, name string) (string, error) {
	if db == nil {
		return "", nil
	}
	rows, err := db.Query(ctx, "SELECT option_value FROM `"+strings.ReplaceAll(w.prefix, "`", "``")+"options` WHERE option_name = ?", name)
	if err != nil {
		return "", fmt.Errorf("read the option %s: %w", name, err)
	}
	if len(rows) == 0 {
		return "", nil
	}
	return rows[0][0].String(), nil
}

func (w *wordpressSite) Components(ctx context.Context, db database.Database) ([]Component, error) {
	var found, loose, packs []Component
	var theme, serialized, language string
	group, inner := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		found, err = components(inner, w.disk, w.Layout(), w.ReadHeader)
		return err
	})
	group.Go(func() error {
		loose = w.loosePlugins(inner)
		return nil
	})
	group.Go(func() error {
		packs = w.languagePacks(inner)
		return nil
	})
	var core Component
	group.Go(func() error {
		core = w.coreComponent(inner)
		return nil
	})
	var activeErr error // what is there is told all the same
	group.Go(func() error {
		theme, serialized, language, activeErr = w.activated(inner, db)
		return nil
	})
	err := group.Wait()
	found = slices.Concat(found, loose, packs, []Component{core})
	if err != nil || activeErr != nil || db == nil {
		return found, errors.Join(err, activeErr)
	}
	active := map[string]bool{"theme/" + theme: true}
	plugins, err := unserializeStrings(serialized)
	if err != nil {
		return found, fmt.Errorf("read which plugins are active: %w", err)
	}
	for _, file := range plugins {
		folder, _, _ := strings.Cut(file, "/")
		active["plugin/"+folder] = true
	}
	markActive(found, active)
	for i := range found {
		switch c := &found[i]; c.Kind {
		case MustUse, DropIn:
			c.Active = true
		case Language:
			c.Active = language != "" && (c.Folder == language || strings.HasSuffix(c.Name, "-"+language))
		}
	}
	return found, nil
}

// activated reads which theme, which plugins and which language are active; "" is that of the releases.
func (w *wordpressSite) activated(ctx context.Context, db database.Database) (theme, plugins, language string, err error) {
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		theme, err = w.option(ctx, db, "stylesheet")
		return err
	})
	group.Go(func() (err error) {
		plugins, err = w.option(ctx, db, "active_plugins")
		return err
	})
	group.Go(func() (err error) {
		language, err = w.option(ctx, db, "WPLANG")
		return err
	})
	err = group.Wait()
	return theme, plugins, language, err
}

// loosePlugins lists plugins that are files and not folders.
func (w *wordpressSite) loosePlugins(ctx context.Context) []Component {
	headed := func(_ string, headed bool) bool { return headed }
	kinds := []looseKind{
		{Plugin, path.Join(w.content, "plugins"), headed},
		{MustUse, path.Join(w.content, "mu-plugins"), func(string, bool) bool { return true }},
		{DropIn, w.content, func(name string, _ bool) bool { return slices.Contains(wordpress.LooseFiles, name) }},
	}
	found := make([][]Component, len(kinds))
	_ = files.AtOnce(ctx, w.disk, len(kinds), func(ctx context.Context, i int) error {
		found[i] = w.looseIn(ctx, kinds[i])
		return nil
	})
	return slices.Concat(found...)
}

// looseKind is where plugins of a kind are, and which files there are some.
type looseKind struct {
	kind   Kind
	folder string
	wanted func(name string, headed bool) bool
}

func (w *wordpressSite) looseIn(ctx context.Context, kind looseKind) []Component {
	entries, err := w.disk.List(ctx, kind.folder)
	if err != nil {
		return nil // most sites have no such folder
	}
	found := make([]Component, len(entries))
	_ = files.AtOnce(ctx, w.disk, len(entries), func(ctx context.Context, i int) error {
		entry := entries[i]
		if entry.Kind != files.File || path.Ext(entry.Name) != ".php" {
			return nil
		}
		text, err := readStart(diskFolder{ctx, w.disk, kind.folder}, entry.Name, headerSize)
		text = strings.ReplaceAll(text, "\r", "\n")
		name := headerField(text, "Plugin Name")
		if !kind.wanted(entry.Name, name != "") {
			return nil
		}
		found[i] = Component{Header: headerOf(kind.kind, name, text), Folder: entry.Name, Places: []Place{{Path: path.Join(kind.folder, entry.Name), Single: true}}, Form: SingleFile}
		if own, has := itsFolder(kind.kind, entry.Name, entries); has {
			found[i].Places, found[i].Form = append(found[i].Places, Place{Path: path.Join(kind.folder, own)}), Beside
		}
		if err != nil {
			found[i].Problem = err.Error()
		}
		return nil
	})
	return slices.DeleteFunc(found, func(c Component) bool { return c.Folder == "" })
}

// itsFolder is the folder beside a must-use plugin's file that bears its name: WordPress loads files of that place alone
// (wp_get_mu_plugins() in wp-includes/load.php), and they load what is in their folder.
func itsFolder(kind Kind, file string, entries []files.Entry) (string, bool) {
	own := strings.TrimSuffix(file, ".php")
	return own, kind == MustUse && slices.ContainsFunc(entries, func(entry files.Entry) bool {
		return entry.Name == own && entry.Kind == files.Folder
	})
}

// AutomaticUpdates reads the constants and the options that decide about them:
// WP_Automatic_Updater and wp_is_auto_update_enabled_for_type(). Language packs come by themselves wherever that is not
// switched off altogether.
func (w *wordpressSite) AutomaticUpdates(ctx context.Context, db database.Database) ([]Automatic, error) {
	if value, missing := w.config.constant("AUTOMATIC_UPDATER_DISABLED"); missing == "" && value != "" && value != "0" {
		return nil, nil
	}
	on := []Automatic{{Kind: Language, Words: "language packs"}}
	switch value, missing := w.config.constant("WP_AUTO_UPDATE_CORE"); {
	case missing != "" || value == "minor":
		on = append(on, Automatic{Kind: Core, Words: "WordPress itself, minor versions"})
	case value == "1" || value == "beta" || value == "rc":
		on = append(on, Automatic{Kind: Core, Words: "WordPress itself, every version"})
	}
	if db == nil {
		return on, nil
	}
	for _, kind := range []Kind{Theme, Plugin} {
		serialized, err := w.option(ctx, db, "auto_update_"+string(kind)+"s")
		if err != nil {
			return on, err
		}
		names, err := unserializeStrings(serialized)
		if err != nil {
			return on, fmt.Errorf("read which %ss are updated by themselves: %w", kind, err)
		}
		for _, name := range names {
			folder, _, _ := strings.Cut(name, "/")
			on = append(on, Automatic{Kind: kind, Folder: folder, Words: "the " + string(kind) + " " + folder})
		}
	}
	return on, nil
}

// headerField matches one field as get_file_data() does (wp-includes/functions.php).
func headerField(text, name string) string {
	field := regexp.MustCompile(`(?im)^(?:[ \t]*<\?php)?[ \t/*#@]*` + regexp.QuoteMeta(name) + `:(.*)$`)
	found := field.FindStringSubmatch(text)
	if found == nil {
		return ""
	}
	value, _, _ := strings.Cut(found[1], "*/")
	value, _, _ = strings.Cut(value, "?>")
	return visible.Line(strings.TrimSpace(value))
}

// ReadHeader reads style.css of a theme, or the first PHP file with a plugin's header. A file that stands in for a part of
// WordPress needs none: its name tells. One that has one may be any plugin: where it lies tells.
func (w *wordpressSite) ReadHeader(folder Folder) (Header, error) {
	var names []string
	var unlisted error
	var apart sync.WaitGroup
	apart.Go(func() { names, unlisted = folder.Names() })
	style, err := readStart(folder, wordpress.ThemeHeader, headerSize)
	apart.Wait()
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return Header{Kind: Theme}, err
	}
	style = strings.ReplaceAll(style, "\r", "\n")
	if name := headerField(style, "Theme Name"); name != "" {
		return headerOf(Theme, name, style), nil
	}
	if unlisted != nil {
		return Header{}, unlisted
	}
	if header, ok, err := readLanguage(folder, names); ok {
		return header, err
	}
	slices.Sort(names)
	names = slices.DeleteFunc(names, func(name string) bool { return path.Ext(name) != ".php" })
	for several := range slices.Chunk(names, headersAtOnce) {
		header, err := firstPlugin(folder, several)
		if !errors.Is(err, ErrNoHeader) {
			return header, err
		}
	}
	if len(names) == 1 && slices.Contains(wordpress.LooseFiles, names[0]) {
		return readDropIn(folder, names[0])
	}
	if slices.Contains(names, "wp-load.php") {
		return readCoreHeader(folder)
	}
	return Header{}, ErrNoHeader
}

// headersAtOnce is how many files are read at the same time for one that has a header.
const headersAtOnce = 8

// firstPlugin reads the header of the first of some files that has one.
func firstPlugin(folder Folder, names []string) (Header, error) {
	texts, failed := make([]string, len(names)), make([]error, len(names))
	var together sync.WaitGroup
	for i, name := range names {
		together.Go(func() { texts[i], failed[i] = readStart(folder, name, headerSize) })
	}
	together.Wait()
	for i, text := range texts {
		if failed[i] != nil {
			return Header{Kind: Plugin}, failed[i]
		}
		text = strings.ReplaceAll(text, "\r", "\n")
		if name := headerField(text, "Plugin Name"); name != "" {
			header := headerOf(Plugin, name, text)
			header.Alone = names[i]
			return header, nil
		}
	}
	return Header{}, ErrNoHeader
}

// readDropIn reads what a file says that stands in for a part of WordPress. It may say nothing.
func readDropIn(folder Folder, file string) (Header, error) {
	text, err := readStart(folder, file, headerSize)
	text = strings.ReplaceAll(text, "\r", "\n")
	header := headerOf(DropIn, headerField(text, "Plugin Name"), text)
	header.Alone = file
	return header, err
}

func headerOf(kind Kind, name, text string) Header {
	header := Header{
		Kind: kind, Name: name, Version: headerField(text, "Version"), Author: headerField(text, "Author"),
		TextDomain: headerField(text, "Text Domain"), RequiresCMS: headerField(text, "Requires at least"), RequiresPHP: headerField(text, "Requires PHP"),
	}
	// Folders, separated by commas: the header "Requires Plugins" of WordPress 6.5.
	for folder := range strings.SplitSeq(headerField(text, "Requires Plugins"), ",") {
		if folder = strings.TrimSpace(folder); folder != "" {
			header.RequiresPlugins = append(header.RequiresPlugins, folder)
		}
	}
	if kind == Theme {
		header.Parent = headerField(text, "Template")
	}
	return header
}

func (w *wordpressSite) Address(ctx context.Context, db database.Database) string {
	address, err := w.option(ctx, db, "home")
	if err != nil {
		return ""
	}
	return address
}

func (w *wordpressSite) PublicFiles(ctx context.Context, components []Component) ([]PublicFile, error) {
	found, err := publicFiles(ctx, w.disk, w.Layout(), components)
	for _, name := range wordpress.FilesForAll {
		found = append(found, PublicFile{Disk: path.Join(w.core(), name), Public: w.ownAddress(name)})
	}
	return found, err
}

func (w *wordpressSite) Purpose(table string) Purpose {
	return purposeIn(wordpress, strings.TrimPrefix(table, w.prefix))
}

func (w *wordpressSite) RewrittenByItself(table database.Table, row database.Row) bool {
	switch strings.TrimPrefix(table.Name, w.prefix) {
	case "options":
		name := cellOf(table, row, "option_name")
		return isOwnSetting(wordpress, name)
	case "usermeta":
		return cellOf(table, row, "meta_key") == "session_tokens"
	}
	return false
}

func (w *wordpressSite) Counted(table string) []string {
	return wordpress.Counted[strings.TrimPrefix(table, w.prefix)]
}

// cellOf returns the text in a column of a row; "" if there is none.
func cellOf(table database.Table, row database.Row, column string) string {
	i := slices.IndexFunc(table.Columns, func(c database.Column) bool { return c.Name == column })
	if i < 0 || i >= len(row) {
		return ""
	}
	return row[i].String()
}

func (w *wordpressSite) IsDesign(table database.Table, row database.Row) bool {
	return table.Name == w.prefix+"posts" && slices.Contains(wordpress.DesignPosts, cellOf(table, row, "post_type"))
}

// Title: WordPress keeps it with its entities escaped (wp-includes/formatting.php,
// sanitize_option).
func (w *wordpressSite) Title(ctx context.Context, db database.Database) string {
	if db == nil {
		return ""
	}
	title, err := w.option(ctx, db, "blogname")
	if err != nil {
		return ""
	}
	return html.UnescapeString(title)
}

// ownAddress is the path of one of WordPress's own files below the site's address.
func (w *wordpressSite) ownAddress(name string) string { return "/" + path.Join(w.own, name) }

func (w *wordpressSite) FirstPages() []string {
	return []string{"/", w.ownAddress(wordpress.FirstPages[0])}
}

// UpgradeVisits: the front page runs no hooks of the dashboard; an anonymous visit
// of admin-post.php does.
func (w *wordpressSite) UpgradeVisits() []string {
	return []string{"/", w.ownAddress("wp-admin/admin-post.php")}
}

// Warnings: templates of a block theme that were saved in the editor are in SQL and
// override the theme's files, like a child theme.
func (w *wordpressSite) Warnings(ctx context.Context, db database.Database, component Component) []string {
	warnings := []string{"if the new version fails badly, WordPress mails the administrator, even though the version before comes back"}
	if db == nil || component.Kind != Theme {
		return warnings
	}
	prefix := "`" + strings.ReplaceAll(w.prefix, "`", "``")
	rows, err := db.Query(ctx, "SELECT p.post_name FROM "+prefix+"posts` p JOIN "+prefix+"term_relationships` r ON r.object_id = p.ID JOIN "+prefix+"term_taxonomy` x ON x.term_taxonomy_id = r.term_taxonomy_id JOIN "+prefix+"terms` t ON t.term_id = x.term_id"+
		" WHERE p.post_type IN ('wp_template', 'wp_template_part') AND p.post_status = 'publish' AND x.taxonomy = 'wp_theme' AND t.slug = ?", component.Folder)
	if err != nil {
		return append(warnings, fmt.Sprintf("it cannot be known whether templates saved in the editor override the theme's files: %v", err))
	}
	var names []string
	for _, row := range rows {
		names = append(names, row[0].String())
	}
	if len(names) > 0 {
		warnings = append(warnings, "templates that were saved in the editor override the theme's own files, old and new: "+strings.Join(names, ", "))
	}
	return warnings
}

// maintenanceLife is how long WordPress believes its own .maintenance file:
// wp_is_maintenance_mode() in wp-includes/load.php.
const maintenanceLife = 10 * time.Minute

func (w *wordpressSite) Busy(ctx context.Context, db database.Database) (signs []string) {
	locks := []string{"auto_updater.lock", "core_updater.lock"}
	held := make([]string, len(locks))
	var together sync.WaitGroup
	for i, name := range locks {
		together.Go(func() { held[i], _ = w.option(ctx, db, name) })
	}
	if entry, err := w.disk.Lstat(ctx, path.Join(w.core(), ".maintenance")); err == nil && time.Since(entry.Modified) < maintenanceLife {
		signs = append(signs, "WordPress is updating itself: the file .maintenance is in the web root. Wait until it is gone")
	}
	together.Wait()
	for i, name := range locks {
		since, _ := strconv.ParseInt(held[i], 10, 64)
		// WP_Upgrader::create_lock() takes a lock for an hour.
		if time.Since(time.Unix(since, 0)) < time.Hour {
			signs = append(signs, "WordPress is updating itself: it holds "+name+" in its options. Wait until it is done")
		}
	}
	return signs
}

func (w *wordpressSite) Obstacles(ctx context.Context, db database.Database) []string {
	var why []string
	if value, missing := w.config.constant("MULTISITE"); missing == "" && value != "" && value != "0" {
		why = append(why, "this is a network of several sites (multisite), which this version of Wetland does not update")
	}
	if _, err := w.disk.Lstat(ctx, path.Join(w.content, "db.php")); err == nil {
		why = append(why, "the file db.php replaces the database layer of WordPress, so that its tables may be elsewhere: they cannot be snapshot safely")
	}
	return why
}

// RebuildLinks takes out the option rewrite_rules: WordPress makes it anew when it is empty
// (WP_Rewrite::wp_rewrite_rules()).
func (w *wordpressSite) RebuildLinks(ctx context.Context, db database.Database) error {
	_, err := w.takeOut(ctx, db, func(option string) bool { return option == "rewrite_rules" })
	if err != nil {
		return fmt.Errorf("have the addresses of pages rebuilt: %w", err)
	}
	return nil
}

// themeCaches begin the names of transients that hold what a theme says in its files: its
// styles, for a minute (wp_get_global_stylesheet() in WordPress 5.9 to 6.1), and its patterns
// (WP_Theme::get_block_patterns(), since 6.4).
var themeCaches = []string{"_transient_global_styles_", "_transient_timeout_global_styles_", "_site_transient_wp_theme_files_patterns-", "_site_transient_timeout_wp_theme_files_patterns-"}

// ForgetCaches takes out what WordPress remembers of the files of themes.
func (w *wordpressSite) ForgetCaches(ctx context.Context, db database.Database) (int, error) {
	n, err := w.takeOut(ctx, db, func(option string) bool {
		return slices.ContainsFunc(themeCaches, func(begin string) bool { return strings.HasPrefix(option, begin) })
	})
	if err != nil {
		return n, fmt.Errorf("clear what WordPress remembers of its themes: %w", err)
	}
	return n, nil
}

// takeOut removes options, and returns how many.
func (w *wordpressSite) takeOut(ctx context.Context, db database.Database, unwanted func(option string) bool) (int, error) {
	moment, err := db.Read(ctx)
	if err != nil {
		return 0, err
	}
	var patch database.Patch
	var gone []database.Row
	for _, table := range moment.Tables() {
		if table.Name != w.prefix+"options" {
			continue
		}
		patch.Table = table
		at := slices.IndexFunc(table.Columns, func(c database.Column) bool { return c.Name == "option_name" })
		err = moment.Rows(ctx, table, func(row database.Row) error {
			if at >= 0 && unwanted(row[at].String()) {
				gone = append(gone, row.Clone())
			}
			return nil
		})
	}
	if err := errors.Join(err, moment.Close()); err != nil || len(gone) == 0 {
		return 0, err
	}
	patch.Remove = database.RowsOf(gone)
	applied, err := db.Apply(ctx, database.Change{Patches: []database.Patch{patch}})
	if err != nil {
		return 0, err
	}
	return len(gone), applied.Finish(ctx)
}

// Notice: WordPress answers 503 while .maintenance names a time less than ten minutes ago
// (wp_is_maintenance_mode() in wp-includes/load.php).
func (w *wordpressSite) Notice(now time.Time) (file, text string) {
	return path.Join(w.core(), ".maintenance"), fmt.Sprintf("<?php // put up by Wetland\n$upgrading = %d;\n", now.Unix())
}

// ErrorLogs: WP_DEBUG_LOG names a file, or means debug.log (wp_debug_mode() in
// wp-includes/load.php); shared hosts commonly log to error_log in the root.
func (w *wordpressSite) ErrorLogs() []string {
	logs := []string{path.Join(w.content, "debug.log"), path.Join(w.root, "error_log")}
	if w.own != "" {
		logs = append(logs, path.Join(w.core(), "error_log"))
	}
	if own, why := w.config.constant("WP_DEBUG_LOG"); why == "" && path.IsAbs(own) {
		logs = append(logs, path.Clean(own))
	}
	return logs
}

// SettleTime: PHP's opcode cache looks at a file again only after
// opcache.revalidate_freq, two seconds unless changed, counted in whole seconds.
func (w *wordpressSite) SettleTime() time.Duration { return 3500 * time.Millisecond }
