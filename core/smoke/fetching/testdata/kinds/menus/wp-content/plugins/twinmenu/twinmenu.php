<?php
/* Plugin Name: Twinmenu
Version: 1.0 */
// The same menu once for wide windows and once for phones, and again in the footer.
function twinmenu( $class ) {
	echo '<nav class="' . $class . '" aria-label="' . $class . '">';
	wp_nav_menu( array( 'theme_location' => 'primary', 'container' => false, 'menu_class' => 'twin-list' ) );
	echo '</nav>';
}
add_action( 'wp_body_open', function () { twinmenu( 'twin-wide' ); twinmenu( 'twin-phone' ); } );
add_action( 'wp_footer', function () { twinmenu( 'twin-foot' ); echo '<p class="twin-mail">Write to <a href="mailto:bell@otterby.example">the ferryman</a></p>'; } );
add_action( 'wp_enqueue_scripts', function () { wp_enqueue_style( 'twinmenu', plugins_url( 'twinmenu.css', __FILE__ ), array(), '1.0' ); } );
