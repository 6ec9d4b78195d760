package cms

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"go/version"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wetland/core/database"
)

// Core: wp-load.php is loaded before all else by each script of WordPress that visitors can ask for, but for the few
// that do not need the site's settings (load-scripts.php and load-styles.php in wp-admin) and those that set it up
// (setup-config.php there).
func (w *wordpressSite) Core() CoreFiles {
	return CoreFiles{
		Root: w.core(), Folders: []string{"wp-admin", "wp-includes"}, Content: "wp-content", Translation: "languages", Version: wordpress.Marker,
		Owners: []string{wordpress.Settings, ".*", "php.ini", "error_log", "robots.txt"},
		Spare: []string{"license.txt", "readme.html", "wp-activate.php", "wp-comments-post.php", "wp-config-sample.php", "wp-links-opml.php",
			"wp-mail.php", "wp-signup.php", "wp-trackback.php", "xmlrpc.php"},
		Loader: "wp-load.php", Gate: wordpressGate, Forgets: nothingCompiled, Forget: "/?" + forgetFolders + "=1",
	}
}

// nothingCompiled is a comment in the gate's page, and forgetFolders asks for it also for the folders.
const nothingCompiled, forgetFolders = "<!-- nothing stays compiled -->", "wetland_forget"

// wordpressGate answers every request, before anything of WordPress was loaded. Browsers may ask again by
// themselves after Retry-After, and search engines come back then.
const wordpressGate = "<?php // " + gateWords + `
if ( PHP_SAPI === 'cli' ) {
	fwrite( STDERR, "WordPress is being updated. Try again in a minute.\n" );
	exit( 1 );
}
// The script that was asked for, and this one, would be answered by their compiled code for a while after they were
// exchanged.
$compiles = extension_loaded( 'Zend OPcache' ) && ini_get( 'opcache.enable' );
foreach ( $compiles ? get_included_files() : array() as $file ) {
	$compiles = ! ( function_exists( 'opcache_invalidate' ) && @opcache_invalidate( $file, true ) );
	if ( $compiles ) {
		break;
	}
}
// Some scripts load files of the folders without passing this one (wp-admin/load-scripts.php).
if ( isset( $_GET['` + forgetFolders + `'] ) && extension_loaded( 'Zend OPcache' ) && ini_get( 'opcache.enable' ) && ! $compiles ) {
	$status   = function_exists( 'opcache_get_status' ) ? @opcache_get_status( true ) : false;
	$compiles = ! is_array( $status );
	foreach ( is_array( $status ) && isset( $status['scripts'] ) ? array_keys( $status['scripts'] ) : array() as $file ) {
		if ( strpos( $file, __DIR__ . '/wp-admin/' ) === 0 || strpos( $file, __DIR__ . '/wp-includes/' ) === 0 ) {
			opcache_invalidate( $file, true );
		}
	}
}
http_response_code( 503 );
header( 'Retry-After: 10' );
header( 'Cache-Control: no-store' );
header( 'Content-Type: text/html; charset=utf-8' );
echo '<!DOCTYPE html><meta charset="utf-8"><meta name="robots" content="noindex"><title>Back in a moment</title><p style="font:1.2em/1.5 sans-serif;margin:4em auto;max-width:30em;padding:0 1em">This site is being updated. It is back in a moment.</p>';
echo $compiles ? '' : '` + nothingCompiled + `';
exit;
`

// What version.php sets, as text.
var (
	coreDatabase = regexp.MustCompile(`\$wp_db_version\s*=\s*(\d+)`)
	corePHP      = regexp.MustCompile(`\$required_php_version\s*=\s*['"]([^'"]+)['"]`)
	coreServer   = regexp.MustCompile(`\$required_mysql_version\s*=\s*['"]([^'"]+)['"]`)
	quoted       = regexp.MustCompile(`'([^'\\]+)'`)
)

// readCoreHeader reads what WordPress itself says of its version (wp-includes/version.php).
func readCoreHeader(folder Folder) (Header, error) {
	text, err := readStart(folder, wordpress.Marker, 64<<10)
	if errors.Is(err, fs.ErrNotExist) {
		return Header{}, ErrNoHeader
	}
	if err != nil {
		return Header{Kind: Core}, err
	}
	first := func(of *regexp.Regexp) string {
		if found := of.FindStringSubmatch(text); found != nil {
			return found[1]
		}
		return ""
	}
	header := Header{Kind: Core, Name: wordpress.Title, Version: first(coreVersion), RequiresPHP: first(corePHP), RequiresDatabase: first(coreServer)}
	if header.Version == "" {
		return header, fmt.Errorf("%s names no version", wordpress.Marker)
	}
	return header, nil
}

// coreComponent is WordPress itself, as it is installed now.
func (w *wordpressSite) coreComponent(ctx context.Context) Component {
	c := Component{Folder: wordpress.Name, Form: Itself, Active: true}
	var err error
	if c.Header, err = readCoreHeader(diskFolder{ctx, w.disk, w.core()}); err != nil {
		c.Header, c.Problem = Header{Name: wordpress.Title}, err.Error()
	}
	c.Kind = Core
	core := w.Core()
	for _, name := range append(core.Folders, core.Loader) {
		c.Places = append(c.Places, Place{Path: path.Join(core.Root, name), Public: w.ownAddress(name), Single: name == core.Loader})
	}
	return c
}

// oldFiles is where WordPress lists what its own updates take away: $_old_files there.
const oldFiles = "wp-admin/includes/update-core.php"

// Formerly reads that list. Some of its names are folders.
func (w *wordpressSite) Formerly(of Folder) ([]string, error) {
	text, err := readStart(of, oldFiles, 1<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read which files earlier versions had: %w", err)
	}
	var all []string
	for _, list := range []string{"$_old_files = array(", "$_old_requests_files = array("} {
		_, after, _ := strings.Cut(text, list)
		inside, _, _ := strings.Cut(after, "\n);")
		for _, found := range quoted.FindAllStringSubmatch(inside, -1) {
			if name := path.Clean("/" + found[1])[1:]; name != "" {
				all = append(all, name)
			}
		}
	}
	return all, nil
}

// PendingUpgrade compares the option db_version with what version.php wants, as wp-admin/admin.php does; a visit of
// upgrade.php with step=1 runs wp_upgrade() (wp-admin/includes/upgrade.php).
func (w *wordpressSite) PendingUpgrade(ctx context.Context, db database.Database) (string, error) {
	text, err := readAll(ctx, w.disk, path.Join(w.core(), wordpress.Marker), 64<<10)
	if err != nil {
		return "", fmt.Errorf("read the version of WordPress: %w", err)
	}
	wants := coreDatabase.FindStringSubmatch(text)
	if wants == nil || db == nil {
		return "", nil
	}
	has, err := w.option(ctx, db, "db_version")
	if err != nil {
		return "", err
	}
	if number, err := strconv.Atoi(has); err == nil && wants[1] == strconv.Itoa(number) {
		return "", nil
	}
	return w.ownAddress("wp-admin/upgrade.php") + "?step=1", nil
}

// Vitals: what rest_api_loaded(), do_feed_rss2(), wp-cron.php, wp-admin/admin-ajax.php and auth_redirect() answer to
// somebody who is not signed in.
func (w *wordpressSite) Vitals() []Vital {
	return []Vital{
		{What: "the REST interface", Path: "/?rest_route=/", JSON: true},
		{What: "the REST interface's posts", Path: "/?rest_route=/wp/v2/posts", JSON: true},
		{What: "the feed", Path: "/?feed=rss2"},
		{What: "the dashboard's way to the sign-in page", Path: w.ownAddress("wp-admin/")},
		// The dashboard's first page and the editor make a draft whenever they are looked at (wp_dashboard_quick_press(),
		// get_default_post_to_edit()).
		{What: "the dashboard's list of posts, signed in", Path: w.ownAddress("wp-admin/edit.php"), SignedIn: true},
		{What: "its list of plugins, signed in", Path: w.ownAddress("wp-admin/plugins.php"), SignedIn: true},
		// What the editor loads. It changes nothing; the token is that of wp_ajax_rest_nonce() (wp-admin/includes/ajax-actions.php).
		{What: "the REST interface as the editor asks it, signed in", Path: "/?rest_route=/wp/v2/posts&context=edit&per_page=1&_wpnonce=", Token: w.ownAddress("wp-admin/admin-ajax.php?action=rest-nonce"), JSON: true, SignedIn: true},
		{What: "what pages ask in the background", Path: w.ownAddress("wp-admin/admin-ajax.php")},
		// Last, for it shows whether the addresses of pages were worked out rightly by all that was asked before.
		{What: "a page that is not there", Path: "/no-such-page-is-here/"},
	}
}

// Jobs: those of the option "cron" that come again (wp_schedule_event() in wp-includes/cron.php).
func (w *wordpressSite) Jobs(ctx context.Context, db database.Database) ([]string, error) {
	if db == nil {
		return nil, nil
	}
	serialized, err := w.option(ctx, db, "cron")
	if err != nil || serialized == "" {
		return nil, err
	}
	r := phpReader{rest: serialized}
	value, err := r.value(0)
	if err != nil {
		return nil, fmt.Errorf("read what WordPress does at set times: %w", err)
	}
	names := map[string]bool{}
	each(value, func(_ any, due any) { // by moment, by job, by what it is called with
		each(due, func(job, calls any) {
			each(calls, func(_, call any) {
				each(call, func(key, again any) {
					name, named := job.(string)
					if _, comes := again.(string); key == "schedule" && comes && named {
						names[name] = true
					}
				})
			})
		})
	})
	return slices.Sorted(maps.Keys(names)), nil
}

// newPasswords is the release that began to store passwords anew when somebody signs in, in a form that those before
// cannot read: wp_hash_password() in wp-includes/pluggable.php.
const newPasswords, newPassword, oldPassword = "6.8", "$wp$", "$P$"

// StoredAnew: the same password, in the form of a newer release, and nothing else.
func (w *wordpressSite) StoredAnew(table database.Table) func(before, now database.Row) bool {
	at := slices.IndexFunc(table.Columns, func(c database.Column) bool { return c.Name == "user_pass" })
	if table.Name != w.prefix+"users" || at < 0 {
		return nil
	}
	return func(before, now database.Row) bool {
		for i := range before {
			if i != at && (before[i].Type != now[i].Type || !bytes.Equal(before[i].Data, now[i].Data)) {
				return false
			}
		}
		return strings.HasPrefix(before[at].String(), oldPassword) && strings.HasPrefix(now[at].String(), newPassword)
	}
}

// MadeAnew: the options that an upgrade empties.
func (w *wordpressSite) MadeAnew(table database.Table, row database.Row) bool {
	return table.Name == w.prefix+"options" && slices.Contains(wordpress.MadeAnew, cellOf(table, row, "option_name"))
}

// Between: the first two numbers of a version name a major release, and the second counts to nine.
func (w *wordpressSite) Between(from, to string) int {
	number := func(v string) int {
		var major, minor int
		if n, _ := fmt.Sscanf(v, "%d.%d", &major, &minor); n < 2 || minor > 9 {
			return -1
		}
		return major*10 + minor
	}
	a, b := number(from), number(to)
	if a < 0 || b < 0 {
		return 0
	}
	return max(0, b-a)
}

// testedField matches the line by which themes and plugins say with which version they were tested last.
var testedField = regexp.MustCompile(`(?im)^[\s*#]*Tested up to:\s*([\d.]+)`)

// TestedUpTo: plugins say it in readme.txt, themes there or in style.css.
func (w *wordpressSite) TestedUpTo(ctx context.Context, component Component) string {
	place, whole := component.OneFolder()
	if !whole {
		return ""
	}
	for _, name := range []string{"readme.txt", wordpress.ThemeHeader} {
		text, err := readAll(ctx, w.disk, path.Join(place.Path, name), headerSize)
		if found := testedField.FindStringSubmatch(text); err == nil && found != nil {
			return found[1]
		}
	}
	return ""
}

// LostWith: whoever signed in with a release that stores passwords anew cannot with one before.
func (w *wordpressSite) LostWith(ctx context.Context, db database.Database, to string) ([]string, error) {
	if db == nil || version.Compare(to, newPasswords) >= 0 {
		return nil, nil
	}
	rows, err := db.Query(ctx, "SELECT COUNT(*) FROM `"+strings.ReplaceAll(w.prefix, "`", "``")+"users` WHERE user_pass LIKE ?", newPassword+"%")
	if err != nil || len(rows) == 0 || rows[0][0].String() == "0" {
		return nil, err
	}
	return []string{fmt.Sprintf("the passwords of %s users are stored in a form that WordPress before %s cannot read: they cannot sign in until they set a new one (\"Lost your password?\" on the sign-in page)", rows[0][0], newPasswords)}, nil
}

var _ Replaceable = (*wordpressSite)(nil)
