<?php
/* Plugin Name: Drift
Version: 1.0 */
// What moves does so by the count of requests: nothing is left to chance.
function drift_count() {
	static $count = null;
	if ( null === $count ) {
		$file  = WP_CONTENT_DIR . '/uploads/drift-count';
		$count = (int) @file_get_contents( $file ) + 1;
		file_put_contents( $file, $count );
	}
	return $count;
}
add_action( 'wp_enqueue_scripts', function () {
	wp_enqueue_style( 'drift', plugins_url( 'drift.css', __FILE__ ), array(), '1.0' );
	wp_enqueue_script( 'drift', plugins_url( 'drift.js', __FILE__ ), array(), '1.0', true );
	wp_localize_script( 'drift', 'driftSettings', array( 'until' => '2027-05-01T10:00:00Z', 'words' => 'days to the regatta' ) );
} );
add_shortcode( 'slider', function () {
	$slides = array( 'dawn' => 'First boat at dawn', 'noon' => 'The noon crossing', 'dusk' => 'Home by lantern' );
	$first  = drift_count() % 3;
	$out    = '<div class="slider">';
	foreach ( array_keys( $slides ) as $i => $name ) {
		$name = array_keys( $slides )[ ( $i + $first ) % 3 ];
		$out .= '<figure class="slide"><img src="' . content_url( "uploads/drift/$name.svg" ) . '" alt="' . $slides[ $name ] . '"><figcaption>' . $slides[ $name ] . '</figcaption></figure>';
	}
	return $out . '</div><button class="slider-next">Next picture</button>';
} );
add_shortcode( 'countdown', function () { return '<p class="countdown">' . ( 900 - drift_count() % 700 ) . ' hours to the regatta</p>'; } );
add_shortcode( 'lazy', function () {
	$out = '<div class="lazy-pictures">';
	foreach ( range( 1, 6 ) as $i ) {
		$out .= '<img class="lazy" src="data:image/svg+xml,%3Csvg xmlns=%22http://www.w3.org/2000/svg%22/%3E" data-src="' . content_url( "uploads/drift/seen-$i.svg" ) . '" alt="Seen from the boat, ' . $i . '" width="200" height="120">';
	}
	return $out . '</div>';
} );
add_shortcode( 'reviews', function () {
	$said = array( 'The bell is lovely.', 'We saw three herons.', 'The ferryman sings.', 'Cheaper than the bridge.', 'My dog went free.' );
	$n    = drift_count();
	return '<section class="reviews"><h2>What passengers say</h2><blockquote>' . $said[ $n % 5 ] . '</blockquote><blockquote>' . $said[ ( $n + 2 ) % 5 ] . '</blockquote></section>';
} );
add_shortcode( 'map', function () { return '<iframe class="map" title="Map of the landing" src="' . plugins_url( 'map.html', __FILE__ ) . '" width="600" height="300"></iframe>'; } );
add_action( 'wp_footer', function () {
	echo '<div class="consent" role="dialog" aria-label="Cookies"><p>We keep one cookie.</p><button class="consent-yes">Good</button> <button class="consent-no">No thanks</button></div>';
	echo '<!-- served as number ' . drift_count() . ' -->';
} );
