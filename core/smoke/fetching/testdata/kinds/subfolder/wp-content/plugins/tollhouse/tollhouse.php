<?php
/* Plugin Name: Tollhouse
Version: 1.0 */
add_action( 'wp_enqueue_scripts', function () { wp_enqueue_style( 'tollhouse', plugins_url( 'tollhouse.css', __FILE__ ), array(), '1.0' ); } );
add_shortcode( 'tolls', function () {
	return '<table class="tolls"><thead><tr><th>Who</th><th>Toll</th></tr></thead><tbody><tr><td>On foot</td><td>$1.20</td></tr><tr><td>With a cart</td><td>$4.80</td></tr><tr><td>With a herd</td><td>$9.00</td></tr></tbody></table>';
} );
add_shortcode( 'pass', function () {
	return '<form class="pass" method="post" action="' . home_url( '/' ) . '"><input type="hidden" name="pass_kind" value="year"><label>Name <input name="holder"></label><label>Mail <input name="mail" type="email"></label><button>Ask for a pass</button></form>';
} );
add_action( 'wp_footer', function () { echo '<p class="toll-links"><a href="' . home_url( '/?s=toll' ) . '">Tolls of the past</a> <img src="' . plugins_url( 'house.svg', __FILE__ ) . '" alt="The toll house" width="40" height="40"></p>'; } );
