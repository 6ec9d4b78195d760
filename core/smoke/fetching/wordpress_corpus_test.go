package fetching

import (
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wetland/core/smoke"
	"wetland/internal/testenv"
)

func TestMain(m *testing.M) { os.Exit(testenv.Run(m)) }

// The corpus on the real CMS: small changes of a real default theme, and of a plugin.

const (
	real    = "wp-content/themes/twentytwentyone/"
	lantern = "wp-content/plugins/lantern/lantern.php"
	// lanternText is a plugin that shows a block on each page and takes a shortcode.
	lanternText = `<?php
/* Plugin Name: Lantern
Version: 1.0 */
add_shortcode( 'sailings', function () { return '<form id="seats"><input name="seats"><button>Book</button></form>'; } );
add_action( 'wp_footer', function () { echo '<aside class="tide"><h2>High water</h2><p>Today at ten past seven, tomorrow at eight, and the ferry waits for nobody.</p></aside>'; } );
`
)

func in(file, old, new string) []change { return []change{{real + file, old, new}} }

// more adds lines to the theme's functions.php.
func more(php string) []change {
	return in("functions.php", "\nif ( ! function_exists( 'twenty_twenty_one_setup' ) ) {", "\n"+php+"\nif ( ! function_exists( 'twenty_twenty_one_setup' ) ) {")
}

var wordpressBreakages = []mutation{
	{name: "fatal in the template of a post", want: smoke.Broken, changes: in("single.php", "get_header();", "get_header(); no_such_lantern();")},
	{name: "fatal in every template", want: smoke.Broken, changes: more("no_such_lantern();")},
	{name: "does not parse", want: smoke.Broken, changes: in("header.php", "<?php wp_head(); ?>", "<?php wp_head( ; ?>")},
	{name: "warning on the page", want: smoke.Broken, changes: more("add_action( 'wp_body_open', function () { echo '<br /><b>Warning</b>:  Undefined array key 3 in <b>' . __FILE__ . '</b> on line <b>12</b><br />'; } );")},
	{name: "only the search", want: smoke.Broken, changes: in("search.php", "get_header();", "get_header(); no_such_lantern();")},
	{name: "only the page that is not there", want: smoke.Broken, changes: in("404.php", "get_header();", "get_header(); no_such_lantern();")},
	{name: "only the sign-in page", want: smoke.Broken, changes: more("add_action( 'login_init', function () { no_such_lantern(); } );")},
	{name: "only the feed", want: smoke.Broken, changes: more("add_action( 'rss2_head', function () { echo '<broken'; } );")},
	{name: "text before the feed", want: smoke.Broken, changes: more("add_action( 'do_feed_rss2', function () { echo \"lantern\\n\"; }, 1 );")},
	{name: "list of posts empty", want: smoke.Broken, changes: more("add_action( 'pre_get_posts', function ( $q ) { if ( $q->is_main_query() && $q->is_home() ) { $q->set( 'post__in', array( 999999 ) ); } } );")},
	{name: "template part not there", want: smoke.Broken, changes: in("single.php", "template-parts/content/content-single", "template-parts/content/content-sngle")},
	{name: "styles and scripts not printed", want: smoke.Broken, changes: in("header.php", "<?php wp_head(); ?>", "")},
	{name: "style sheet empty", want: smoke.Broken, changes: in("style.css", "", "")},
	{name: "style sheet hides the page", want: smoke.Broken, changes: in("style.css", "@charset \"UTF-8\";", "@charset \"UTF-8\"; #page { display: none; }")},
	{name: "menu gone", want: smoke.Broken, changes: in("template-parts/header/site-header.php", "<?php get_template_part( 'template-parts/header/site-nav' ); ?>", "")},
	{name: "header gone", want: smoke.Broken, changes: in("header.php", "<?php get_template_part( 'template-parts/header/site-header' ); ?>", "")},
	{name: "footer gone", want: smoke.Doubtful, changes: []change{{real + "footer.php", "<footer id=\"colophon\" class=\"site-footer\">", "<?php ob_start(); ?><footer>"}, {real + "footer.php", "</footer><!-- #colophon -->", "</footer><?php ob_end_clean(); ?>"}}},
	{name: "comments form gone", want: smoke.Broken, changes: in("single.php", "comments_template();", "")},
	{name: "noindex", want: smoke.Broken, changes: more("add_filter( 'wp_robots', 'wp_robots_no_robots' );")},
	{name: "redirects to itself", want: smoke.Broken, changes: more("add_action( 'template_redirect', function () { if ( is_page() ) { wp_redirect( add_query_arg( 'x', rand() ) ); exit; } } );")},
	{name: "another language", want: smoke.Doubtful, changes: more("add_filter( 'language_attributes', function () { return 'lang=\"sv\"'; } );")},
	{name: "titles gone", want: smoke.Doubtful, changes: more("add_filter( 'pre_get_document_title', function () { return ' '; } );")},
	{name: "script cannot be read", want: smoke.Doubtful, changes: []change{{real + "assets/js/primary-navigation.js", "", "function lantern( {"}, {real + "functions.php", "'/assets/js/primary-navigation.js'", "'/assets/js/primary-navigation.js?x'"}}},
	{name: "plugin: fatal", want: smoke.Broken, changes: []change{{lantern, "add_action( 'wp_footer'", "add_action( 'wp_footer', 'no_such_lantern' ); add_action( 'wp_footer'"}}},
	{name: "plugin: its form gone", want: smoke.Broken, changes: []change{{lantern, `<form id="seats"><input name="seats"><button>Book</button></form>`, ""}}},
	{name: "plugin: shortcode not known any more", want: smoke.Broken, changes: []change{{lantern, "'sailings'", "'departures'"}}},
	{name: "plugin: block gone", want: smoke.Doubtful, changes: []change{{lantern, "add_action( 'wp_footer'", "add_action( 'no_such_moment'"}}},
}

var wordpressHarmless = []mutation{
	{name: "version", changes: in("style.css", "Version: 1.7", "Version: 1.8")},
	{name: "comment in the style sheet", changes: in("style.css", "@charset \"UTF-8\";", "@charset \"UTF-8\"; /* of the lantern */")},
	{name: "another shade", changes: in("style.css", "--global--color-green: #d1e4dd", "--global--color-green: #d1e4de")},
	{name: "one more style sheet", changes: more("add_action( 'wp_enqueue_scripts', function () { wp_enqueue_style( 'more', get_template_directory_uri() . '/assets/css/print.css' ); } );")},
	{name: "one more meta tag", changes: more("add_action( 'wp_head', function () { echo '<meta name=\"theme-color\" content=\"#123456\">'; } );")},
	{name: "generator gone", changes: more("remove_action( 'wp_head', 'wp_generator' );")},
	{name: "class of the body", changes: more("add_filter( 'body_class', function ( $c ) { $c[] = 'lit'; return $c; } );")},
	{name: "white space", changes: in("single.php", "get_header();", "\n\n\nget_header();")},
	{name: "nonce and time", changes: more("add_action( 'wp_footer', function () { echo '<!-- ' . wp_create_nonce( 'x' . microtime() ) . ' ' . microtime() . ' -->'; } );")},
	{name: "words of the footer", changes: in("footer.php", "Proudly powered by %s.", "Powered by %s.")},
	{name: "images without lazy loading", changes: more("add_filter( 'wp_lazy_loading_enabled', '__return_false' );")},
	{name: "emoji script gone", changes: more("remove_action( 'wp_head', 'print_emoji_detection_script', 7 );")},
	{name: "link to the feed moved", changes: more("remove_action( 'wp_head', 'rsd_link' ); remove_action( 'wp_head', 'wlwmanifest_link' );")},
	{name: "script deferred", changes: more("add_filter( 'script_loader_tag', function ( $t, $handle ) { return 0 === strpos( $handle, 'twenty-twenty-one' ) ? str_replace( '<script ', '<script defer ', $t ) : $t; }, 10, 2 );")},
	{name: "plugin: version", changes: []change{{lantern, "Version: 1.0", "Version: 1.1"}}},
	{name: "plugin: tomorrow's tide", changes: []change{{lantern, "tomorrow at eight", "tomorrow at half past eight"}}},
	{name: "plugin: a button's word", changes: []change{{lantern, "Book", "Reserve"}}},
}

// newWordPress is a site with the theme and a plugin, and of each kind of page one.
func newWordPress(t *testing.T, theme string) *ferry {
	t.Helper()
	site := testenv.WordPress(t)
	site.Write(t, lantern, lanternText)
	// Changed files must be seen at once: the opcode cache looks only every few seconds, at
	// their times in seconds, and WordPress keeps the styles of a theme for a minute unless it
	// is being worked on.
	config, err := os.ReadFile(filepath.Join(site.Root, "wp-config.php"))
	if err != nil {
		t.Fatal(err)
	}
	site.Write(t, "wp-config.php", strings.Replace(string(config), "<?php", "<?php ini_set( 'opcache.revalidate_freq', '0' ); define( 'SCRIPT_DEBUG', true );", 1))
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; update_option( 'active_plugins', array( 'lantern/lantern.php' ) ); switch_theme( '`+theme+`' );`))
	address, err := url.Parse(site.Address)
	if err != nil {
		t.Fatal(err)
	}
	f := &ferry{root: site.Root, fetcher: &Fetcher{Address: address, Timeout: time.Minute}}
	found := f.fetcher.Discover(t.Context(), []string{"/", "/wp-login.php"}, nil)
	count := map[string]int{} // of each kind, three
	for _, page := range found.Pages {
		kind, _, _ := strings.Cut(page.Path, "=")
		if count[kind]++; page.Status == 0 && count[kind] > 3 {
			continue
		}
		f.pages = append(f.pages, page)
	}
	var paths []string
	for _, page := range f.pages {
		paths = append(paths, page.Path)
	}
	t.Logf("pages: %s", strings.Join(paths, " "))
	return f
}

func TestCorpusOnWordPress(t *testing.T) {
	newWordPress(t, "twentytwentyone").measure(t, wordpressBreakages, wordpressHarmless, sample(8))
}
