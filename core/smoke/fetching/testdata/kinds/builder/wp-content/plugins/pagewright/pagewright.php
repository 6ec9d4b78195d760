<?php
/* Plugin Name: Pagewright
Version: 1.0 */
// A page is a list of parts, kept in the post's own data; its styles are written into the uploads.
function pagewright_styles() {
	$file = wp_upload_dir()['basedir'] . '/pagewright/post-' . get_queried_object_id() . '.css';
	wp_enqueue_style( 'pagewright', plugins_url( 'pagewright.css', __FILE__ ), array(), '1.0' );
	wp_enqueue_script( 'pagewright', plugins_url( 'pagewright.js', __FILE__ ), array(), '1.0', true );
	if ( file_exists( $file ) ) {
		wp_enqueue_style( 'pagewright-post', wp_upload_dir()['baseurl'] . '/pagewright/post-' . get_queried_object_id() . '.css', array(), '7' );
	}
}
add_action( 'wp_enqueue_scripts', 'pagewright_styles', 20 );
add_filter( 'the_content', function ( $content ) {
	$parts = get_post_meta( get_the_ID(), '_pagewright', true );
	if ( ! is_array( $parts ) || ! is_singular() ) {
		return $content;
	}
	$out = '<div class="pw-page">';
	foreach ( $parts as $part ) {
		$out .= pagewright_part( $part );
	}
	return $out . '</div>';
} );
function pagewright_part( $part ) {
	ob_start();
	include __DIR__ . '/parts/' . $part['kind'] . '.php';
	return '<section class="pw-section pw-' . $part['kind'] . '">' . ob_get_clean() . '</section>';
}
