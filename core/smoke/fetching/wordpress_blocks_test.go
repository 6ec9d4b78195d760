package fetching

import (
	"testing"

	"wetland/core/smoke"
)

// The corpus on a block theme, whose templates are no PHP, and on a plugin that reaches into
// all of the site.

const blocks = "wp-content/themes/twentytwentythree/"

func block(file, old, new string) []change { return []change{{blocks + file, old, new}} }

// plugged adds lines to the plugin.
func plugged(php string) []change {
	return []change{{lantern, "Version: 1.0 */", "Version: 1.0 */\n" + php}}
}

const (
	content    = `<!-- wp:post-content {"layout":{"type":"constrained"}} /-->`
	headerPart = `<!-- wp:template-part {"slug":"header","tagName":"header"} /-->`
	footerPart = `<!-- wp:template-part {"slug":"footer","tagName":"footer"} /-->`
	comments   = `<!-- wp:template-part {"slug":"comments","tagName":"section"} /-->`
)

var blockBreakages = []mutation{
	{name: "header part empty", want: smoke.Broken, changes: block("parts/header.html", "", "")},
	{name: "header part misspelled", want: smoke.Broken, changes: block("templates/page.html", `"slug":"header"`, `"slug":"heder"`)},
	{name: "navigation gone", want: smoke.Broken, changes: block("parts/header.html", `<!-- wp:navigation {"layout":{"type":"flex","setCascadingProperties":true,"justifyContent":"right"}} /-->`, "")},
	{name: "footer part empty", want: smoke.Doubtful, changes: block("parts/footer.html", "", "")},
	{name: "content of a post gone", want: smoke.Broken, changes: block("templates/single.html", content, "")},
	{name: "content of a page gone", want: smoke.Broken, changes: block("templates/page.html", content, "")},
	{name: "title of a post gone", want: smoke.Doubtful, changes: block("templates/single.html", `<!-- wp:post-title {"level":1,"style":{"spacing":{"margin":{"bottom":"var:preset|spacing|40"}}}} /-->`, "")},
	{name: "comments gone", want: smoke.Broken, changes: block("templates/single.html", comments, "")},
	{name: "list asks for another author", want: smoke.Broken, changes: block("templates/home.html", `"postType":"post","order":"desc","orderBy":"date","author":"","search":"","exclude":[],"sticky":"","inherit":true`, `"postType":"post","order":"desc","orderBy":"date","author":"999","search":"","exclude":[],"sticky":"","inherit":false`)},
	{name: "entries without their titles", want: smoke.Doubtful, changes: block("templates/home.html", `<!-- wp:post-title {"isLink":true} /-->`, "")},
	{name: "entries without their links", want: smoke.Doubtful, changes: block("templates/home.html", `<!-- wp:post-title {"isLink":true} /-->`, `<!-- wp:post-title /-->`)},
	{name: "page that is not there: blank", want: smoke.Broken, changes: block("templates/404.html", "", "")},
	{name: "search finds nothing", want: smoke.Broken, changes: block("templates/search.html", `"inherit":true`, `"inherit":false,"offset":900`)},
	{name: "settings cannot be read", want: smoke.Doubtful, changes: block("theme.json", `"version": 2,`, `"version": 2,,`)},
	{name: "letters as white as the page", want: smoke.Broken, changes: block("theme.json", `"text": "var(--wp--preset--color--contrast)"`, `"text": "var(--wp--preset--color--base)"`)},
	{name: "no width of the content", want: smoke.Doubtful, onlyBrowser: true, changes: block("theme.json", `"contentSize": "650px",`, `"contentSize": "100%",`)},
	{name: "fatal in a pattern", want: smoke.Broken, changes: block("patterns/footer-default.php", "<!-- wp:group", "<?php no_such_lantern(); ?>\n<!-- wp:group")},
	{name: "header twice", want: smoke.Doubtful, changes: block("templates/page.html", headerPart, headerPart+headerPart)},
	{name: "footer before the page", want: smoke.Doubtful, onlyBrowser: true, changes: block("templates/page.html", headerPart, headerPart+footerPart)},
	{name: "comment of a block not closed", want: smoke.Broken, changes: block("templates/page.html", content, "<!-- wp:post-content")},
	{name: "plugin: content emptied", want: smoke.Broken, changes: plugged(`add_filter( 'the_content', '__return_empty_string', 99 );`)},
	{name: "plugin: content says Array", want: smoke.Broken, changes: plugged(`add_filter( 'the_content', function () { return 'Array'; }, 99 );`)},
	{name: "plugin: entries lead nowhere", want: smoke.Doubtful, changes: plugged(`add_filter( 'post_link', '__return_empty_string' );`)},
	{name: "plugin: pages lead to what is not there", want: smoke.Broken, changes: plugged(`add_filter( 'page_link', function ( $l, $id ) { return home_url( '/?page_id=99' . $id . '999' ); }, 10, 2 );`)},
	{name: "plugin: all must sign in", want: smoke.Broken, changes: plugged(`add_action( 'template_redirect', function () { if ( is_page() ) { auth_redirect(); } } );`)},
	{name: "plugin: plain text", want: smoke.Broken, changes: plugged(`add_filter( 'pre_option_html_type', function () { return 'text/plain'; } );`)},
	{name: "plugin: noindex in a header", want: smoke.Broken, changes: plugged(`add_action( 'send_headers', function () { header( 'X-Robots-Tag: noindex' ); } );`)},
	{name: "plugin: feed without entries", want: smoke.Broken, changes: plugged(`add_action( 'pre_get_posts', function ( $q ) { if ( $q->is_feed() ) { $q->set( 'post__in', array( 999999 ) ); } } );`)},
	{name: "plugin: name of the site gone", want: smoke.Doubtful, changes: plugged(`add_filter( 'option_blogname', '__return_empty_string' );`)},
	{name: "plugin: right to left", want: smoke.Doubtful, changes: plugged(`add_filter( 'language_attributes', function () { return 'lang="en-US" dir="rtl"'; } );`)},
	{name: "plugin: its source in the page", want: smoke.Broken, changes: plugged(`add_action( 'wp_footer', function () { echo '<?php echo $tide; ?>'; } );`)},
	{name: "plugin: debugging left in", want: smoke.Broken, changes: plugged(`add_action( 'wp_footer', function () { var_dump( array( 'tide' => 3 ) ); } );`)},
	{name: "plugin: print_r left in", want: smoke.Broken, changes: plugged(`add_action( 'wp_head', function () { print_r( array( 'tide' => 3 ) ); } );`)},
	{name: "plugin: ends in the middle", want: smoke.Broken, changes: plugged(`add_action( 'wp_footer', function () { exit; }, 1 );`)},
	{name: "plugin: dies politely", want: smoke.Broken, changes: plugged(`add_action( 'wp', function () { if ( is_page() ) { wp_die( 'The boat is not here yet.', 'Otterby Ferry', array( 'response' => 200 ) ); } } );`)},
	{name: "plugin: dies politely everywhere, as a page", want: smoke.Broken, changes: plugged(`add_action( 'template_redirect', function () { if ( ! is_feed() ) { echo '<!DOCTYPE html><html lang="en-US"><head><title>Otterby Ferry</title></head><body><h1>Welcome</h1><p>Please enter your licence to go on using this plugin on your site.</p></body></html>'; exit; } } );`)},
	{name: "plugin: styles of the theme taken out", want: smoke.Doubtful, changes: plugged(`remove_action( 'wp_enqueue_scripts', 'wp_enqueue_global_styles' ); remove_action( 'wp_footer', 'wp_enqueue_global_styles', 1 );`)},
	{name: "plugin: script fails", want: smoke.Doubtful, onlyBrowser: true, changes: plugged(`add_action( 'wp_footer', function () { echo '<script>lantern.light();</script>'; } );`)},
	{name: "plugin: curtain", want: smoke.Broken, onlyBrowser: true, changes: plugged(`add_action( 'wp_footer', function () { echo '<div style="position:fixed;top:0;left:0;width:100vw;height:100vh;background:#123;z-index:99999">&nbsp;</div>'; } );`)},
	{name: "plugin: style meant for itself hides the page", want: smoke.Broken, changes: plugged(`add_action( 'wp_head', function () { echo '<style>.tide, main, .wp-site-blocks { display: none }</style>'; } );`)},
	{name: "plugin: comments form cannot be sent", want: smoke.Broken, changes: plugged(`add_filter( 'comment_form_submit_button', '__return_empty_string' );`)},
	{name: "plugin: sign-in form without password", want: smoke.Broken, changes: plugged(`add_action( 'login_head', function () { echo '<style>#loginform { display: none }</style>'; } );`)},
	{name: "plugin: shortcode shown as it is", want: smoke.Broken, changes: []change{{lantern, "add_shortcode( 'sailings',", "add_shortcode( 'sailing-board',"}}},
	{name: "plugin: waits for what does not answer", want: smoke.Doubtful, changes: plugged(`add_action( 'template_redirect', function () { if ( is_page() ) { sleep( 20 ); } } );`)},
}

var blockHarmless = []mutation{
	{name: "a little wider", changes: block("theme.json", `"contentSize": "650px"`, `"contentSize": "680px"`)},
	{name: "another green", changes: block("theme.json", "#9DFF20", "#90EE20")},
	{name: "dark grey instead of black", changes: block("theme.json", `"color": "#000000"`, `"color": "#1a1a1a"`)},
	{name: "date above the title", changes: []change{{blocks + "templates/home.html", `<!-- wp:post-date {"isLink":true} /-->`, ""}, {blocks + "templates/home.html", `<!-- wp:post-title {"isLink":true} /-->`, `<!-- wp:post-date {"isLink":true} /--><!-- wp:post-title {"isLink":true} /-->`}}},
	{name: "author told", changes: block("templates/single.html", content, `<!-- wp:post-author-name /-->`+content)},
	{name: "search in the header", changes: block("parts/header.html", `<!-- wp:navigation`, `<!-- wp:search {"label":"Search","buttonText":"Search"} /--><!-- wp:navigation`)},
	{name: "words of the footer", changes: block("patterns/footer-default.php", "Proudly powered by %s", "Powered by %s")},
	{name: "words of a heading", changes: block("templates/home.html", "Mindblown: a blog about philosophy.", "Mindblown: a blog about boats.")},
	{name: "words of older and newer", changes: block("templates/home.html", "Older Posts", "Earlier Posts")},
	{name: "more room between entries", changes: block("templates/home.html", `style="height:var(--wp--preset--spacing--40)"`, `style="height:var(--wp--preset--spacing--50)"`)},
	{name: "larger letters", changes: block("theme.json", `"fontSize": "var(--wp--preset--font-size--medium)"`, `"fontSize": "1.15rem"`)},
	{name: "spacer gone", changes: block("templates/archive.html", `<!-- wp:spacer {"height":"var(--wp--preset--spacing--50)"} -->
			<div style="height:var(--wp--preset--spacing--50)" aria-hidden="true" class="wp-block-spacer"></div>
			<!-- /wp:spacer -->`, "")},
	{name: "comment in a template", changes: block("templates/page.html", headerPart, "<!-- page, second edition -->"+headerPart)},
	{name: "version", changes: block("style.css", "Version: 1.0", "Version: 1.0.1")},
	{name: "plugin: structured data", changes: plugged(`add_action( 'wp_head', function () { echo '<script type="application/ld+json">{"@context":"https://schema.org","@type":"Organization","name":"Otterby Ferry"}</script>'; } );`)},
	{name: "plugin: style and script of its own", changes: plugged(`add_action( 'wp_head', function () { echo '<style>.tide { border-top: 1px solid; padding: 1rem; opacity: .9 }</style><script>window.tide = { at: ' . time() . ' };</script>'; } );`)},
	{name: "plugin: asks a host for fonts first", changes: plugged(`add_action( 'wp_head', function () { echo '<link rel="preconnect" href="https://fonts.example">'; } );`)},
	{name: "plugin: lightbox at the end", changes: plugged(`add_action( 'wp_footer', function () { echo '<div class="lightbox" style="display:none;position:fixed;inset:0;background:#000" aria-hidden="true"><button type="button">Close</button></div>'; } );`)},
	{name: "plugin: its block reworded", changes: []change{{lantern, "and the ferry waits for nobody", "and the ferry does not wait"}}},
	{name: "plugin: table instead of a sentence", changes: []change{{lantern, "<p>Today at ten past seven, tomorrow at eight, and the ferry waits for nobody.</p>", "<table><tr><td>Today</td><td>at ten past seven</td></tr><tr><td>tomorrow</td><td>at eight</td></tr></table><p>and the ferry waits for nobody.</p>"}}},
	{name: "plugin: form with labels and a hidden field", changes: []change{{lantern, `<input name="seats">`, `<label for="seats">Seats</label><input id="seats" name="seats" type="number" min="1"><input type="hidden" name="token" value="a1">`}}},
	{name: "plugin: form sent to its own address", changes: []change{{lantern, `<form id="seats">`, `<form id="seats" action="#seats">`}}},
	{name: "plugin: headers", changes: plugged(`add_action( 'send_headers', function () { header( 'Referrer-Policy: same-origin' ); header( 'X-Robots-Tag: max-image-preview:large' ); } );`)},
	{name: "plugin: statistics in a comment", changes: plugged(`add_action( 'wp_footer', function () { echo '<!-- ' . get_num_queries() . ' queries in ' . timer_stop() . ' seconds, no error -->'; }, 99 );`)},
	{name: "plugin: class on each entry", changes: plugged(`add_filter( 'post_class', function ( $c ) { $c[] = 'by-lantern'; return $c; } );`)},
	{name: "plugin: a line about cookies", changes: plugged(`add_action( 'wp_footer', function () { echo '<div role="dialog" aria-label="Cookies" style="position:fixed;bottom:0;left:0;right:0;background:#fff;padding:.6rem">We keep no cookies. <button type="button">Good</button></div>'; } );`)},
	{name: "plugin: first letter of each notice marked", changes: plugged(`add_filter( 'the_content', function ( $t ) { return preg_replace( '/<p>(\w)/', '<p><span class="first">$1</span>', $t, 1 ); } );`)},
	{name: "plugin: a line below each notice", changes: plugged(`add_filter( 'the_content', function ( $t ) { return $t . '<p>Written at the landing stage.</p>'; } );`)},
}

func TestCorpusOnABlockTheme(t *testing.T) {
	newWordPress(t, "twentytwentythree").measure(t, blockBreakages, blockHarmless, sample(12))
}

func TestCorporaOnWordPressWithABrowser(t *testing.T) {
	if sample(2) != 1 {
		t.Skip("in the long run only")
	}
	t.Run("block theme", func(t *testing.T) {
		looked(t, newWordPress(t, "twentytwentythree")).measure(t, blockBreakages, blockHarmless, 1)
	})
	t.Run("theme", func(t *testing.T) {
		looked(t, newWordPress(t, "twentytwentyone")).measure(t, wordpressBreakages, wordpressHarmless, 1)
	})
}
