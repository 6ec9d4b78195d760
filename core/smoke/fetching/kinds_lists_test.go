package fetching

import (
	"wetland/core/smoke"
)

// What goes wrong, and what goes well, on each kind of site: written as lists, without a look at
// the rules, and measured before any rule was changed for them. Both measures are in
// docs/smoke.md.

const (
	rightward   = "wp-content/plugins/rightward/"
	pagewright  = "wp-content/plugins/pagewright/"
	quayshop    = "wp-content/plugins/quayshop/"
	drift       = "wp-content/plugins/drift/"
	ripples     = "wp-content/plugins/ripples/"
	stillwater  = "wp-content/plugins/stillwater/"
	tollhouse   = "stuff/plugins/tollhouse/"
	tollTheme   = "stuff/themes/twentytwentyone/"
	heron       = "wp-content/plugins/heron/"
	twinmenu    = "wp-content/plugins/twinmenu/"
	newestTheme = "wp-content/themes/twentytwentyfive/"
)

// to replaces once in a file.
func to(file, old, new string) []change { return []change{{file, old, new}} }

// bump changes nothing but a version.
func bump(file, old, new string) mutation {
	return mutation{name: "version only", changes: to(file, old, new)}
}

var rtlBreakages = []mutation{
	{name: "sheet for the other direction lost", want: smoke.Doubtful, changes: in("functions.php", "wp_style_add_data( 'twenty-twenty-one-style', 'rtl', 'replace' );", "wp_style_add_data( 'twenty-twenty-one-style', 'rtl', 'nothing' );")},
	{name: "sheet for the other direction empty", want: smoke.Broken, changes: in("style-rtl.css", "", "")},
	{name: "left to right", want: smoke.Doubtful, changes: to(rightward+"rightward.php", `lang="ar" dir="rtl"`, `lang="ar"`)},
	{name: "letters in the wrong character set", want: smoke.Doubtful, changes: to(rightward+"rightward.php", "return $out . '</tbody></table>';", "return mb_convert_encoding( $out . '</tbody></table>', 'UTF-8', 'ISO-8859-1' );")},
	{name: "letters turned to question marks", want: smoke.Doubtful, changes: to(rightward+"rightward.php", "return $out . '</tbody></table>';", "return mb_convert_encoding( $out . '</tbody></table>', 'ISO-8859-1', 'UTF-8' );")},
	{name: "times of departure gone", want: smoke.Doubtful, changes: to(rightward+"rightward.php", "'</td><td>' . $time . '</td></tr>'", "'</td><td></td></tr>'")},
	{name: "board without rows", want: smoke.Broken, changes: to(rightward+"rightward.php", "foreach ( $rows as", "foreach ( array() as")},
	{name: "telephone gone", want: smoke.Doubtful, changes: to(rightward+"rightward.php", `<a href="tel:+440000100200">٠٠٠٠١٠٠٢٠٠</a>`, "")},
	{name: "every text by its key", want: smoke.Doubtful, changes: to(rightward+"rightward.php", "<th>المرسى</th><th>المغادرة</th>", "<th>board_stage</th><th>board_departs</th>")},
}

var rtlHarmless = []mutation{
	bump(rightward+"rightward.php", "Version: 1.0", "Version: 1.1"),
	{name: "one more row", changes: to(rightward+"rightward.php", "'الرصيف القديم' => '١٧:٢٠'", "'الرصيف القديم' => '١٧:٢٠', 'الصفصاف' => '١٨:٠٥'")},
	{name: "colours of the board", changes: to(rightward+"rightward.css", "#ccc", "#bbb")},
	{name: "mirrored padding", changes: to(rightward+"rightward.css", "padding: .4rem", "padding: .4rem .6rem .4rem .2rem")},
}

var builderBreakages = []mutation{
	{name: "panels of the tabs gone but one", want: smoke.Doubtful, changes: to(pagewright+"parts/tabs.php", "<?php foreach ( $part['panels'] as $name => $text ) : ?>\n<div", "<?php foreach ( array_slice( $part['panels'], 0, 1 ) as $name => $text ) : ?>\n<div")},
	{name: "answers of the accordion empty", want: smoke.Doubtful, changes: to(pagewright+"parts/accordion.php", "<?php echo $answer; ?>", "")},
	{name: "price cards gone", want: smoke.Doubtful, changes: to(pagewright+"parts/cards.php", "foreach ( $part['cards']", "foreach ( array()")},
	{name: "prices as zero", want: smoke.Doubtful, changes: to(pagewright+"parts/cards.php", "<?php echo $card['price']; ?>", "0.00")},
	{name: "pictures of the gallery gone but one", want: smoke.Doubtful, changes: to(pagewright+"parts/gallery.php", "foreach ( $part['pictures']", "foreach ( array_slice( $part['pictures'], 0, 1 )")},
	{name: "pictures lead nowhere", want: smoke.Doubtful, changes: to(pagewright+"parts/gallery.php", `<img src="<?php echo content_url( 'uploads/pagewright/'`, `<img src="<?php echo content_url( 'uploads/pagewrite/'`)},
	{name: "larger pictures lead nowhere", want: smoke.Doubtful, changes: to(pagewright+"parts/gallery.php", `srcset="<?php echo content_url( 'uploads/pagewright/'`, `srcset="<?php echo content_url( 'uploads/pagewrite/'`)},
	{name: "row in one column", want: smoke.Doubtful, changes: to(pagewright+"pagewright.css", ".pw-row { display: flex; gap: 2rem; }", ".pw-row { display: block; }")},
	{name: "classes renamed, sheet left", want: smoke.Doubtful, changes: []change{{pagewright + "parts/row.php", "pw-row", "pwr-row"}, {pagewright + "parts/row.php", "pw-column", "pwr-column"}, {pagewright + "parts/cards.php", "pw-cards", "pwr-cards"}, {pagewright + "parts/gallery.php", "pw-gallery", "pwr-gallery"}}},
	{name: "styles in the uploads not named any more", want: smoke.Doubtful, changes: to(pagewright+"pagewright.php", "if ( file_exists( $file ) )", "if ( file_exists( $file . '.min' ) )")},
	{name: "first form without a field", want: smoke.Broken, changes: to(pagewright+"parts/form.php", "foreach ( $part['fields'] as $field )", "foreach ( 11 === $part['id'] ? array_slice( $part['fields'], 0, 2 ) : $part['fields'] as $field )")},
	{name: "last form gone", want: smoke.Broken, changes: to(pagewright+"pagewright.php", "$out .= pagewright_part( $part );", "$out .= 14 === ( $part['id'] ?? 0 ) ? '' : pagewright_part( $part );")},
	{name: "forms without their number", want: smoke.Broken, changes: to(pagewright+"parts/form.php", `<input type="hidden" name="form_id" value="<?php echo $part['id']; ?>">`, "")},
	{name: "buttons of the row gone", want: smoke.Doubtful, changes: to(pagewright+"parts/row.php", `<a class="pw-button" href="<?php echo home_url( '/?page_id=' . $column['to'] ); ?>">Read on</a>`, "")},
	{name: "buttons of the tabs gone", want: smoke.Doubtful, changes: to(pagewright+"parts/tabs.php", `<button role="tab"><?php echo $name; ?></button>`, "")},
	{name: "one part unknown to the new version", want: smoke.Doubtful, changes: to(pagewright+"pagewright.php", "foreach ( $parts as $part ) {", "foreach ( $parts as $part ) {\n\t\tif ( 'cards' === $part['kind'] ) { continue; }")},
	{name: "all shown as written in the editor", want: smoke.Broken, changes: to(pagewright+"pagewright.php", "'_pagewright', true", "'_pagewright_v2', true")},
}

var builderHarmless = []mutation{
	bump(pagewright+"pagewright.php", "Version: 1.0", "Version: 1.1"),
	{name: "one more wrapper", changes: []change{{pagewright + "parts/row.php", `<div class="pw-row">`, `<div class="pw-inner"><div class="pw-row">`}, {pagewright + "parts/row.php", "<?php endforeach; ?></div>", "<?php endforeach; ?></div></div>"}}},
	{name: "grid in place of flex", changes: to(pagewright+"pagewright.css", ".pw-row { display: flex; gap: 2rem; }", ".pw-row { display: grid; grid-auto-flow: column; grid-auto-columns: 1fr; gap: 2rem; }")},
	{name: "lazy pictures", changes: to(pagewright+"parts/gallery.php", "<img src=", `<img loading="lazy" decoding="async" src=`)},
	{name: "field against machines", changes: to(pagewright+"parts/form.php", "\t<button", "\t<input name=\"website\" style=\"display:none\">\n\t<button")},
	{name: "styles packed", changes: to(pagewright+"pagewright.css", "", ".pw-section{padding:2rem 1rem}.pw-row{display:flex;gap:2rem}.pw-column{flex:1}.pw-cards{display:grid;grid-template-columns:repeat(3,1fr);gap:1rem;list-style:none;padding:0}.pw-card{background:#f4ead5;padding:1rem}.pw-gallery{display:grid;grid-template-columns:repeat(4,1fr);gap:.5rem}.pw-gallery img{width:100%}.pw-panel{border:1px solid #ccc;padding:1rem}.pw-tablist button{padding:.5rem 1rem}.pw-button{display:inline-block;padding:.5rem 1rem;background:#0f4c5c;color:#fff}.pw-question summary{font-weight:bold}@media (max-width:600px){.pw-row{display:block}.pw-cards{display:block}.pw-gallery{grid-template-columns:1fr 1fr}}")},
}

var shopBreakages = []mutation{
	{name: "product's number gone from the form", want: smoke.Broken, changes: to(quayshop+"quayshop.php", `<input type="hidden" name="product_id" value="' . $id . '">`, "")},
	{name: "button to buy gone", want: smoke.Broken, changes: to(quayshop+"quayshop.php", `<button name="add">Add to basket</button>`, "")},
	{name: "how many gone", want: smoke.Broken, changes: to(quayshop+"quayshop.php", `<label>How many <input type="number" name="quantity" value="1"></label>`, "")},
	{name: "form to buy gone", want: smoke.Broken, changes: to(quayshop+"quayshop.php", "' in stock</p>' . quayshop_cart( $id )", "' in stock</p>'")},
	{name: "all prices zero", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", "(float) get_post_meta( $id, '_price', true )", "(float) get_post_meta( $id, '_regular', true )")},
	{name: "prices without their amount", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", "number_format( (float) get_post_meta( $id, '_price', true ), 2 )", "''")},
	{name: "prices a hundredfold", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", "(float) get_post_meta( $id, '_price', true ), 2", "100 * (float) get_post_meta( $id, '_price', true )")},
	{name: "one price for all", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", "get_post_meta( $id, '_price', true )", "12")},
	{name: "sign of the currency gone", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", `<span class="currency">£</span>`, "")},
	{name: "pictures gone", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", `<div class="product-pictures"><img src="' . content_url( 'uploads/shop/' . $id . '.svg' ) . '" alt="' . get_the_title() . '"></div>`, "")},
	{name: "pictures of the list dead", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", `<img src="' . content_url( 'uploads/shop/' . $product->ID . '.svg' )`, `<img src="' . content_url( 'uploads/shop/' . $product->ID . '-300.svg' )`)},
	{name: "list of products empty", want: smoke.Broken, changes: to(quayshop+"quayshop.php", "'numberposts' => 12", "'post_parent' => 999999, 'numberposts' => 12")},
	{name: "list lost half", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", "'numberposts' => 12", "'numberposts' => 4")},
	{name: "also liked gone", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", "'numberposts' => 4", "'post_parent' => 999999, 'numberposts' => 4")},
	{name: "links to buy from the list gone", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", `<a class="add" href="?add=' . $product->ID . '">Add</a>`, "")},
	{name: "details gone", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", `<table class="details"><tr><th>Weight</th><td>' . get_post_meta( $id, '_weight', true ) . ' kg</td></tr><tr><th>Made of</th><td>Oak</td></tr><tr><th>Number</th><td>Q-' . $id . '</td></tr></table>`, "")},
	{name: "basket's key gone", want: smoke.Broken, changes: to(quayshop+"quayshop.php", `<input type="hidden" name="basket_key" value="b1">`, "")},
	{name: "total gone", want: smoke.Doubtful, changes: to(quayshop+"quayshop.php", `<p class="total">Total £86.50</p>`, "")},
	{name: "picture above the text, not beside it", want: smoke.Doubtful, changes: to(quayshop+"quayshop.css", ".product { display: grid; grid-template-columns: 1fr 1fr; gap: 2rem; }", "")},
	{name: "products not found any more", want: smoke.Broken, changes: to(quayshop+"quayshop.php", "register_post_type( 'product', array( 'public' => true", "register_post_type( 'product', array( 'public' => false")},
}

var shopHarmless = []mutation{
	bump(quayshop+"quayshop.php", "Version: 1.0", "Version: 1.1"),
	{name: "stock counts down", changes: to(quayshop+"quayshop.php", "get_post_meta( $id, '_stock', true ) . ' in stock", "( get_post_meta( $id, '_stock', true ) - 1 ) . ' in stock")},
	{name: "word of the button", changes: to(quayshop+"quayshop.php", "Add to basket", "Put into the basket")},
	{name: "one price lower", changes: to(quayshop+"quayshop.php", "(float) get_post_meta( $id, '_price', true )", "( get_the_title( $id ) === 'Rope' ? 8.5 : (float) get_post_meta( $id, '_price', true ) )")},
	{name: "one more hidden field", changes: to(quayshop+"quayshop.php", `<button name="add">`, `<input type="hidden" name="from" value="page"><button name="add">`)},
	{name: "prices with what they were made of", changes: to(quayshop+"quayshop.php", `'<span class="price">`, `'<span class="price" data-kind="plain">`)},
}

var movingBreakages = []mutation{
	{name: "slider left empty", want: smoke.Doubtful, changes: to(drift+"drift.php", "foreach ( array_keys( $slides ) as $i => $name ) {", "foreach ( array() as $i => $name ) {")},
	{name: "pictures of the slider dead", want: smoke.Doubtful, changes: to(drift+"drift.php", `content_url( "uploads/drift/$name.svg" ) . '" alt="' . $slides`, `content_url( "uploads/drift-2/$name.svg" ) . '" alt="' . $slides`)},
	{name: "lazy pictures without their address", want: smoke.Doubtful, changes: to(drift+"drift.php", `data-src="' . content_url( "uploads/drift/seen-$i.svg" ) . '"`, "")},
	{name: "lazy pictures dead", want: smoke.Doubtful, changes: to(drift+"drift.php", `data-src="' . content_url( "uploads/drift/seen-$i.svg" )`, `data-src="' . content_url( "uploads/drift/seen-$i.jpg" )`)},
	{name: "lazy pictures wait for a script that does not know them", want: smoke.Doubtful, onlyBrowser: true, changes: to(drift+"drift.js", `"img.lazy"`, `"img.drift-lazy"`)},
	{name: "settings of the script not printed", want: smoke.Doubtful, onlyBrowser: true, changes: to(drift+"drift.php", "wp_localize_script( 'drift', 'driftSettings'", "wp_localize_script( 'drift-2', 'driftSettings'")},
	{name: "countdown counts from nothing", want: smoke.Doubtful, changes: to(drift+"drift.php", "( 900 - drift_count() % 700 ) . ' hours", "'NaN hours")},
	{name: "reviews gone", want: smoke.Doubtful, changes: to(drift+"drift.php", `<blockquote>' . $said[ $n % 5 ] . '</blockquote><blockquote>' . $said[ ( $n + 2 ) % 5 ] . '</blockquote>`, "")},
	{name: "consent cannot be given", want: smoke.Doubtful, changes: to(drift+"drift.php", `<button class="consent-yes">Good</button> <button class="consent-no">No thanks</button>`, "")},
	{name: "consent over all of the page", want: smoke.Broken, onlyBrowser: true, changes: to(drift+"drift.css", ".consent { position: fixed; bottom: 0;", ".consent { position: fixed; top: 0; z-index: 99999; bottom: 0;")},
	{name: "map empty", want: smoke.Doubtful, changes: to(drift+"map.html", "<h1>The landing at Otterby Steps</h1><p>Ten minutes on foot from the mill, down the lane and past the willows. The far stage is below Sallow End.</p>", "")},
	{name: "map dead", want: smoke.Doubtful, changes: to(drift+"drift.php", "map.html", "map-2.html")},
	{name: "button of the slider gone", want: smoke.Doubtful, changes: to(drift+"drift.php", `<button class="slider-next">Next picture</button>`, "")},
	{name: "script cannot be read", want: smoke.Doubtful, changes: to(drift+"drift.js", "(function () {", "(function () { let = ;")},
}

var movingHarmless = []mutation{
	bump(drift+"drift.php", "Version: 1.0", "Version: 1.1"),
	{name: "slower slides", changes: to(drift+"drift.js", "var turn = 0", "var pace = 4000, turn = 0")},
	{name: "words of the consent", changes: to(drift+"drift.php", "We keep one cookie.", "We keep one cookie, to remember your answer.")},
	{name: "one more review to turn", changes: to(drift+"drift.php", "'My dog went free.'", "'My dog went free too.'")},
	{name: "higher slides", changes: to(drift+"drift.css", "height: 220px", "height: 260px")},
}

var threadsBreakages = []mutation{
	{name: "authors gone", want: smoke.Doubtful, changes: to(ripples+"ripples.php", "get_comment_author( $comment )", "''")},
	{name: "links to answer gone", want: smoke.Doubtful, changes: to(ripples+"ripples.php", "comment_reply_link( array_merge( $args, array( 'depth' => $depth, 'max_depth' => 5 ) ), $comment );", "")},
	{name: "what was said is gone", want: smoke.Doubtful, changes: to(ripples+"ripples.php", "get_comment_text( $comment )", "''")},
	{name: "all comments one", want: smoke.Doubtful, changes: to(ripples+"ripples.php", "$args['callback'] = 'ripples_comment';", "$args['callback'] = 'ripples_comment'; $args['per_page'] = 1; $args['page'] = 1;")},
	{name: "dates gone", want: smoke.Doubtful, changes: to(ripples+"ripples.php", "get_comment_date( '', $comment )", "''")},
	{name: "answers not below what they answer", want: smoke.Doubtful, unseen: true, changes: to(ripples+"ripples.css", ".comment .children { margin-left: 2rem; }", ""), onlyBrowser: true},
	{name: "form to comment without the post's number", want: smoke.Broken, changes: to(ripples+"ripples.php", "Version: 1.0 */", "Version: 1.0 */\nadd_filter( 'comment_id_fields', '__return_empty_string' );")},
	{name: "form to comment without the text", want: smoke.Broken, changes: to(ripples+"ripples.php", "Version: 1.0 */", "Version: 1.0 */\nadd_filter( 'comment_form_field_comment', '__return_empty_string' );")},
	{name: "comments closed", want: smoke.Broken, changes: to(ripples+"ripples.php", "Version: 1.0 */", "Version: 1.0 */\nadd_filter( 'comments_open', '__return_false' );")},
	{name: "Array in place of names", want: smoke.Doubtful, changes: to(ripples+"ripples.php", "get_comment_author( $comment )", "'Array'")},
}

var threadsHarmless = []mutation{
	bump(ripples+"ripples.php", "Version: 1.0", "Version: 1.1"),
	{name: "date before the name", changes: to(ripples+"ripples.php", `<cite class="comment-author">' . get_comment_author( $comment ) . '</cite> <time>' . get_comment_date( '', $comment ) . '</time>`, `<time>' . get_comment_date( '', $comment ) . '</time> <cite class="comment-author">' . get_comment_author( $comment ) . '</cite>`)},
	{name: "word of the link to answer", changes: to(ripples+"ripples.php", "'max_depth' => 5 )", "'max_depth' => 5, 'reply_text' => 'Answer' )")},
	{name: "more room", changes: to(ripples+"ripples.css", "padding: 1rem 0", "padding: 1.4rem 0")},
	{name: "one more comment", changes: to(ripples+"ripples.php", "$args['callback'] = 'ripples_comment';", "$args['callback'] = 'ripples_comment'; $args['reverse_children'] = false;")},
}

var cachedBreakages = []mutation{
	{name: "levels gone", want: smoke.Doubtful, changes: []change{{stillwater + "stillwater.php", "wp_cache_get( 'levels', 'stillwater' )", "wp_cache_get( 'levels', 'still' )"}, {stillwater + "stillwater.php", "'Otterby Steps' => 142, 'The mill' => 138, 'Sallow End' => 151, 'Old stage' => 129, 'The willows' => 133", ""}}},
	{name: "levels but one gone", want: smoke.Doubtful, changes: []change{{stillwater + "stillwater.php", "wp_cache_get( 'levels', 'stillwater' )", "wp_cache_get( 'levels', 'still' )"}, {stillwater + "stillwater.php", "'Otterby Steps' => 142, 'The mill' => 138, 'Sallow End' => 151, 'Old stage' => 129, ", ""}}},
	{name: "fatal behind the cache", want: smoke.Broken, changes: to(stillwater+"stillwater.php", "add_action( 'wp_footer'", "no_such_lantern(); add_action( 'wp_footer'")},
	{name: "fatal when the cache holds another shape", want: smoke.Broken, changes: to(stillwater+"stillwater.php", "if ( ! is_array( $levels ) ) {", "if ( is_array( $levels ) ) { $levels->draw(); }\n\tif ( ! is_array( $levels ) ) {")},
	{name: "style sheet lost", want: smoke.Doubtful, changes: to(stillwater+"stillwater.php", "stillwater.css", "still.css")},
	{name: "levels one below the other", want: smoke.Doubtful, changes: to(stillwater+"stillwater.css", "display: grid; grid-template-columns: repeat(5, 1fr); gap: .5rem;", "")},
	{name: "note gone", want: smoke.Doubtful, changes: to(stillwater+"stillwater.php", `<p>Above one hundred and eighty centimetres we do not row.</p>`, "")},
	{name: "shortcode not known any more", want: smoke.Broken, changes: to(stillwater+"stillwater.php", "'levels', function", "'river_levels', function")},
}

var cachedHarmless = []mutation{
	bump(stillwater+"stillwater.php", "Version: 1.0", "Version: 1.1"),
	{name: "levels of today", changes: []change{{stillwater + "stillwater.php", "wp_cache_get( 'levels', 'stillwater' )", "wp_cache_get( 'levels', 'still' )"}, {stillwater + "stillwater.php", "142, 'The mill' => 138", "144, 'The mill' => 139"}}},
	{name: "kept for longer", changes: to(stillwater+"stillwater.php", "60 );", "600 );")},
	{name: "another colour", changes: to(stillwater+"stillwater.css", "#eef6f6", "#e4f0f0")},
}

var subfolderBreakages = []mutation{
	{name: "links leave the subfolder", want: smoke.Broken, changes: to(tollTheme+"functions.php", "\nif ( ! function_exists( 'twenty_twenty_one_setup' ) ) {", "\nadd_filter( 'page_link', function ( $l ) { return str_replace( '/ferry/', '/', $l ); } );\nif ( ! function_exists( 'twenty_twenty_one_setup' ) ) {")},
	{name: "style sheet asked for in the usual folder", want: smoke.Broken, changes: to(tollTheme+"functions.php", "wp_enqueue_style( 'twenty-twenty-one-style', get_template_directory_uri() . '/style.css'", "wp_enqueue_style( 'twenty-twenty-one-style', home_url( '/wp-content/themes/twentytwentyone' ) . '/style.css'")},
	{name: "plugin's sheet asked for in the usual folder", want: smoke.Broken, changes: to(tollhouse+"tollhouse.php", "plugins_url( 'tollhouse.css', __FILE__ )", "home_url( '/wp-content/plugins/tollhouse/tollhouse.css' )")},
	{name: "picture over plain HTTP", want: smoke.Doubtful, changes: to(tollhouse+"tollhouse.php", "plugins_url( 'house.svg', __FILE__ )", "str_replace( 'https:', 'http:', plugins_url( 'house.svg', __FILE__ ) )")},
	{name: "form sends to the host's root", want: smoke.Broken, changes: to(tollhouse+"tollhouse.php", `action="' . home_url( '/' ) . '"`, `action="/send-pass"`)},
	{name: "form without its kind", want: smoke.Broken, changes: to(tollhouse+"tollhouse.php", `<input type="hidden" name="pass_kind" value="year">`, "")},
	{name: "tolls without their amounts", want: smoke.Doubtful, changes: []change{{tollhouse + "tollhouse.php", "$1.20", "$"}, {tollhouse + "tollhouse.php", "$4.80", "$"}, {tollhouse + "tollhouse.php", "$9.00", "$"}}},
	{name: "everything led to the host's root", want: smoke.Broken, changes: to(tollhouse+"tollhouse.php", "Version: 1.0 */", "Version: 1.0 */\nadd_action( 'template_redirect', function () { if ( is_page() ) { wp_redirect( 'https://' . $_SERVER['HTTP_HOST'] . '/' ); exit; } } );")},
}

var subfolderHarmless = []mutation{
	bump(tollhouse+"tollhouse.php", "Version: 1.0", "Version: 1.1"),
	{name: "addresses without the scheme", changes: to(tollhouse+"tollhouse.php", "plugins_url( 'house.svg', __FILE__ )", "str_replace( 'https:', '', plugins_url( 'house.svg', __FILE__ ) )")},
	{name: "one toll more", changes: to(tollhouse+"tollhouse.php", "<tr><td>With a herd</td>", "<tr><td>With a horse</td><td>$2.40</td></tr><tr><td>With a herd</td>")},
	{name: "label of a field", changes: to(tollhouse+"tollhouse.php", "<label>Name ", "<label>Your name ")},
}

// The package is the parent theme's.
var childBreakages = []mutation{
	{name: "handle renamed: the child's sheet not printed", want: smoke.Doubtful, changes: []change{{real + "functions.php", "wp_enqueue_style( 'twenty-twenty-one-style', get_template_directory_uri() . '/style.css'", "wp_enqueue_style( 'tt1-style', get_template_directory_uri() . '/style.css'"}}},
	{name: "hook above the page gone", want: smoke.Doubtful, changes: in("header.php", "<?php wp_body_open(); ?>", "")},
	{name: "foot of the page not called", want: smoke.Broken, changes: in("single.php", "get_footer();", "")},
	{name: "element around the page renamed", want: smoke.Doubtful, changes: []change{{real + "template-parts/header/site-header.php", "$wrapper_classes  = 'site-header';", "$wrapper_classes  = 'page-header-area';"}}},
	{name: "class of the titles renamed", want: smoke.Doubtful, changes: []change{{real + "template-parts/content/content-single.php", "entry-title", "post-heading"}, {real + "template-parts/header/entry-header.php", "entry-title", "post-heading"}}},
	{name: "parent calls what the child does not have", want: smoke.Broken, changes: in("template-parts/header/site-header.php", "<header id=\"masthead\"", "<?php otterby_child_levels(); ?><header id=\"masthead\"")},
	{name: "menu's place renamed", want: smoke.Broken, changes: []change{{real + "functions.php", "'primary' => esc_html__", "'main' => esc_html__"}, {real + "template-parts/header/site-nav.php", "has_nav_menu( 'primary' )", "has_nav_menu( 'main' )"}}},
	{name: "function of the child declared by the parent, too", want: smoke.Broken, changes: more("function otterby_child_level() { return ''; }")},
	{name: "shortcodes of the child taken out", want: smoke.Broken, changes: more("add_action( 'wp', function () { remove_all_shortcodes(); } );")},
	{name: "part of the footer renamed", want: smoke.Doubtful, changes: in("template-parts/content/content-single.php", "<?php twenty_twenty_one_entry_meta_footer(); ?>", "")},
}

var childHarmless = []mutation{
	bump(real+"style.css", "Version: 1.7", "Version: 1.8"),
	{name: "style sheets in another order", changes: in("functions.php", "wp_enqueue_style( 'twenty-twenty-one-print-style'", "wp_enqueue_style( 'dashicons' ); wp_enqueue_style( 'twenty-twenty-one-print-style'")},
	{name: "own footer changed that the child replaces", changes: in("footer.php", "Proudly powered by %s.", "Driven by %s.")},
	{name: "colour of the parent", changes: in("style.css", "--global--color-green: #d1e4dd", "--global--color-green: #c9ddd6")},
}

var newestBreakages = []mutation{
	{name: "footer's pattern gone", want: smoke.Doubtful, changes: to(newestTheme+"parts/footer.html", "", "")},
	{name: "navigation gone", want: smoke.Broken, changes: to(newestTheme+"patterns/header.php", `<!-- wp:navigation {"overlayBackgroundColor":"base","overlayTextColor":"contrast","layout":{"type":"flex","justifyContent":"right","flexWrap":"wrap"}} /-->`, "")},
	{name: "content of pages gone", want: smoke.Broken, changes: to(newestTheme+"templates/page.html", `<!-- wp:post-content {"align":"full","layout":{"type":"constrained"}} /-->`, "")},
	{name: "comments' pattern not found", want: smoke.Broken, changes: to(newestTheme+"templates/single.html", "twentytwentyfive/comments", "twentytwentyfive/comment")},
	{name: "who wrote it gone", want: smoke.Doubtful, unseen: true, changes: to(newestTheme+"templates/single.html", `<!-- wp:pattern {"slug":"twentytwentyfive/hidden-written-by"} /-->`, "")},
	{name: "more posts gone", want: smoke.Doubtful, changes: to(newestTheme+"templates/single.html", `<!-- wp:pattern {"slug":"twentytwentyfive/more-posts"} /-->`, "")},
	{name: "list of posts not found", want: smoke.Broken, changes: to(newestTheme+"templates/home.html", "twentytwentyfive/template-query-loop", "twentytwentyfive/template-loop")},
	{name: "settings lost", want: smoke.Doubtful, changes: to(newestTheme+"theme.json", "", `{"version": 3}`)},
	{name: "block's name changed", want: smoke.Doubtful, changes: to(heron+"heron.php", "'heron/sightings'", "'heron/sighting'")},
	{name: "block empty", want: smoke.Doubtful, changes: to(heron+"heron.php", "foreach ( array( 'Heron' => 14, 'Otter' => 2, 'Kingfisher' => 5, 'Teal' => 31 )", "foreach ( array()")},
	{name: "block's items one below the other", want: smoke.Doubtful, changes: to(heron+"heron.css", ".sightings { display: flex;", ".sightings { display: block;")},
	{name: "search without its form", want: smoke.Doubtful, changes: to(newestTheme+"templates/search.html", `<!-- wp:pattern {"slug":"twentytwentyfive/hidden-search"} /-->`, "")},
}

var newestHarmless = []mutation{
	bump(newestTheme+"style.css", "Version: 1.5", "Version: 1.6"),
	{name: "one more pattern", changes: to(newestTheme+"patterns/boat.php", "", "<?php\n/**\n * Title: Boat\n * Slug: twentytwentyfive/boat\n */\n?>\n<!-- wp:paragraph --><p>Boat</p><!-- /wp:paragraph -->\n")},
	{name: "count of the birds", changes: to(heron+"heron.php", "'Heron' => 14", "'Heron' => 15")},
	{name: "colour of the block", changes: to(heron+"heron.css", "#eef6f6", "#e0eeee")},
}

var menusBreakages = []mutation{
	{name: "menu for wide windows gone", want: smoke.Doubtful, changes: to(twinmenu+"twinmenu.php", "twinmenu( 'twin-wide' ); twinmenu( 'twin-phone' );", "twinmenu( 'twin-phone' );")},
	{name: "menu for phones gone", want: smoke.Doubtful, changes: to(twinmenu+"twinmenu.php", "twinmenu( 'twin-wide' ); twinmenu( 'twin-phone' );", "twinmenu( 'twin-wide' );")},
	{name: "menus empty", want: smoke.Broken, changes: to(twinmenu+"twinmenu.php", "wp_nav_menu( array( 'theme_location' => 'primary',", "wp_nav_menu( array( 'theme_location' => 'twin', 'fallback_cb' => false,")},
	{name: "both shown", want: smoke.Doubtful, unseen: true, onlyBrowser: true, changes: to(twinmenu+"twinmenu.css", ".twin-phone { display: none; } ", "")},
	{name: "menu of the footer gone", want: smoke.Doubtful, changes: to(twinmenu+"twinmenu.php", "twinmenu( 'twin-foot' );", "")},
	{name: "mail gone", want: smoke.Doubtful, changes: to(twinmenu+"twinmenu.php", `<a href="mailto:bell@otterby.example">the ferryman</a>`, "the ferryman")},
	{name: "links of the menus lead to the front page", want: smoke.Broken, changes: to(twinmenu+"twinmenu.php", "Version: 1.0 */", "Version: 1.0 */\nadd_filter( 'nav_menu_link_attributes', function ( $a ) { $a['href'] = '#'; return $a; } );")},
}

var menusHarmless = []mutation{
	bump(twinmenu+"twinmenu.php", "Version: 1.0", "Version: 1.1"),
	{name: "menus in the other order", changes: to(twinmenu+"twinmenu.php", "twinmenu( 'twin-wide' ); twinmenu( 'twin-phone' );", "twinmenu( 'twin-phone' ); twinmenu( 'twin-wide' );")},
	{name: "class of the menus", changes: to(twinmenu+"twinmenu.php", "'menu_class' => 'twin-list'", "'menu_class' => 'twin-list twin-2'")},
}
