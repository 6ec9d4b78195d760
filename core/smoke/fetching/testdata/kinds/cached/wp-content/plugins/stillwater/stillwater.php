<?php
/* Plugin Name: Stillwater
Version: 1.0 */
// What is shown is kept in the object cache.
add_action( 'wp_enqueue_scripts', function () { wp_enqueue_style( 'stillwater', plugins_url( 'stillwater.css', __FILE__ ), array(), '1.0' ); } );
add_shortcode( 'levels', function () {
	$levels = wp_cache_get( 'levels', 'stillwater' );
	if ( ! is_array( $levels ) ) {
		$levels = stillwater_levels();
		wp_cache_set( 'levels', $levels, 'stillwater', 60 );
	}
	$out = '<h2>Levels of the river</h2><ul class="levels">';
	foreach ( $levels as $place => $level ) {
		$out .= '<li class="level"><strong>' . $place . '</strong> ' . $level . ' cm</li>';
	}
	return $out . '</ul>';
} );
function stillwater_levels() { return array( 'Otterby Steps' => 142, 'The mill' => 138, 'Sallow End' => 151, 'Old stage' => 129, 'The willows' => 133 ); }
add_action( 'wp_footer', function () { echo '<div class="still-note"><h2>Before you come</h2><p>Above one hundred and eighty centimetres we do not row.</p></div>'; } );
