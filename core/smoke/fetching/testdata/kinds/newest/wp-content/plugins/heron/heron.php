<?php
/* Plugin Name: Heron
Version: 1.0 */
add_action( 'init', function () {
	register_block_type( 'heron/sightings', array( 'render_callback' => 'heron_sightings' ) );
} );
function heron_sightings() {
	$out = '<div class="wp-block-heron-sightings"><h2>Seen from the boat</h2><ul class="sightings">';
	foreach ( array( 'Heron' => 14, 'Otter' => 2, 'Kingfisher' => 5, 'Teal' => 31 ) as $what => $n ) {
		$out .= '<li class="sighting">' . $what . ', ' . $n . ' times</li>';
	}
	return $out . '</ul></div>';
}
add_action( 'wp_enqueue_scripts', function () { wp_enqueue_style( 'heron', plugins_url( 'heron.css', __FILE__ ), array(), '1.0' ); } );
