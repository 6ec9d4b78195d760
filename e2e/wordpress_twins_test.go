package e2e

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// twinMenus shows the same menu in the header, in the footer and in a widget, and the same
// form for searching in two widgets, as most small sites do.
const twinMenus = `<?php require getcwd() . '/wp-load.php';
$mods = get_theme_mod( 'nav_menu_locations', array() );
$mods['footer'] = $mods['primary'];
set_theme_mod( 'nav_menu_locations', $mods );
update_option( 'widget_nav_menu', array( 2 => array( 'title' => 'Crossings', 'nav_menu' => $mods['primary'] ), '_multiwidget' => 1 ) );
update_option( 'widget_search', array( 2 => array( 'title' => 'Find' ), 3 => array( 'title' => 'Find' ), '_multiwidget' => 1 ) );
update_option( 'sidebars_widgets', array( 'sidebar-1' => array( 'nav_menu-2', 'search-2', 'search-3' ), 'wp_inactive_widgets' => array(), 'array_version' => 3 ) );
`

// On a site whose menu stands several times, a version that changes nothing but its number is
// kept, and one that dies in one template is put back.
func TestWordPressWithTwinMenus(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	site.PHP(t, []byte(twinMenus))
	front, err := site.Get("/")
	if err != nil || strings.Count(front, ">Timetable<") < 3 || strings.Count(front, `role="search"`) < 2 {
		t.Fatalf("the menu does not stand three times: %v\n%s", err, front)
	}
	workspace := care(t, site)
	wetland(t, workspace, "smoke").want(t, 0, "Sound.")
	bad := themePackage(t, site, "1.9", map[string]string{"single.php": brokenSingle})
	wetland(t, workspace, "update", themePackage(t, site, "1.8", nil)).want(t, 0, "Kept.", "the pages are sound")
	wetland(t, workspace, "update", bad).want(t, 3, "Put back.", "files, tables and pages are as before")
	wetland(t, workspace, "smoke").want(t, 0, "Sound.")
}

// A theme broken on the live site does not stand against bringing back the older version.
func TestWordPressReturnFromABrokenTheme(t *testing.T) {
	t.Parallel()
	for name, broken := range map[string]struct{ file, old, new string }{
		"one page":  {"single.php", "get_header();", "get_header(); tideline_show_notice();"},
		"all pages": {"functions.php", "<?php", "<?php tideline_show_notice();"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			site := testenv.WordPress(t)
			workspace := care(t, site)
			wetland(t, workspace, "update", themePackage(t, site, "1.8", nil)).want(t, 0, "Kept.")
			edit(t, filepath.Join(site.Root, "wp-content/themes/twentytwentyone", broken.file), broken.old, broken.new)
			// PHP looks only every two seconds whether a file changed.
			if err := testenv.Until(func() error {
				if text, err := site.Get("/?p=10"); err == nil && strings.Contains(text, "</html>") {
					return errors.New("the page is still whole")
				}
				return nil
			}); err != nil {
				t.Fatal(err)
			}
			wetland(t, workspace, "restore", "twentytwentyone@1.7").want(t, 0, "was last here on", "That is no reason against a return", "Kept.", "the pages are sound", "sound now")
			wetland(t, workspace, "smoke").want(t, 0, "Sound.")
		})
	}
}

// lanternPlugin keeps a style sheet among the uploads, as builders of pages do, and writes it
// where it is not there.
func lanternPlugin(version, more string) map[string]string {
	return map[string]string{"lantern/lantern.php": `<?php
/**
 * Plugin Name: Lantern
 * Version: ` + version + `
 */
function lantern_put( $name, $text, $always ) {
	$file = WP_CONTENT_DIR . '/' . $name;
	if ( $always || ! file_exists( $file ) ) { wp_mkdir_p( dirname( $file ) ); file_put_contents( $file, $text ); }
}
add_action( 'init', function () { lantern_put( 'uploads/lantern/style.css', 'main { padding: 1px }', false ); } );
add_action( 'wp_head', function () { echo '<link rel="stylesheet" href="' . content_url( 'uploads/lantern/style.css' ) . '">'; } );
` + more}
}

// What an update wrote outside of its own folder is found when the pages are not as before, and
// put back where it is no one's work.
func TestWordPressRestOfTheSiteIsPutBack(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	for name, text := range lanternPlugin("1.0", "") {
		site.Write(t, "wp-content/plugins/"+name, text)
	}
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; update_option( 'active_plugins', array( 'lantern/lantern.php' ) );`))
	if _, err := site.Get("/"); err != nil {
		t.Fatal(err)
	}
	workspace := care(t, site)
	style := filepath.Join(site.Root, "wp-content/uploads/lantern/style.css")
	before, rows := tree(t, site.Root, "wp-content/cache", "wp-content/upgrade"), rowsOf(t, site.Account.Root, "of_")
	next := zipOf(t, "lantern.zip", lanternPlugin("2.0", `
add_action( 'init', function () {
	lantern_put( 'uploads/lantern/style.css', 'main { display: grid; grid-template-columns: 1fr 1fr 1fr }', true );
	lantern_put( 'uploads/lantern/extra.css', 'p { color: red }', true );
	lantern_put( 'uploads/lantern/photo.jpg', 'a picture', true );
	lantern_put( 'advanced-cache.php', '<?php // of Lantern', true );
	if ( ! get_posts( array( 'post_type' => 'wp_template', 'name' => 'lantern', 'post_status' => 'any' ) ) ) {
		wp_insert_post( array( 'post_type' => 'wp_template', 'post_status' => 'publish', 'post_name' => 'lantern', 'post_title' => 'Lantern', 'post_content' => 'x' ) );
	}
}, 5 );
add_action( 'wp', function () { if ( is_single() ) { lantern_no_such_thing(); } } );
`))
	result := wetland(t, workspace, "update", next, "--allow-major").want(t, 3, "Put back.", "files, tables and pages are as before",
		"rest of the site", "In the rest of the site", "style.css as in snap-1 again", "was not there before: taken away", "photo.jpg", "left as it is", "of of_posts templates and styles in the database")
	if text, err := os.ReadFile(style); err != nil || string(text) != "main { padding: 1px }" {
		t.Errorf("%v: %s\n%s", err, text, result)
	}
	saved, err := os.ReadFile(filepath.Join(workspace, "runs/run-1/files-before-going-back/site/wp-content/uploads/lantern/style.css"))
	if err != nil || !strings.Contains(string(saved), "grid") {
		t.Errorf("what was replaced is not kept: %v %s", err, saved)
	}
	photo := filepath.Join(site.Root, "wp-content/uploads/lantern/photo.jpg")
	if _, err := os.Stat(photo); err != nil {
		t.Errorf("what may be an author's is gone: %v", err)
	}
	must(t, os.Remove(photo))
	same(t, before, tree(t, site.Root, "wp-content/cache", "wp-content/upgrade"))
	sameRows(t, rows, rowsOf(t, site.Account.Root, "of_"))
	nothingLeft(t, site.Root)
}
