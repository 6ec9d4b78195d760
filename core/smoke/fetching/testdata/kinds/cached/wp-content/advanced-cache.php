<?php
// Keeps whole pages for plain visitors.
$kept = WP_CONTENT_DIR . '/cache/pages/' . md5( $_SERVER['HTTP_HOST'] . $_SERVER['REQUEST_URI'] );
if ( 'GET' === $_SERVER['REQUEST_METHOD'] && '' === (string) ( $_SERVER['QUERY_STRING'] ?? '' ) && ! defined( 'WP_ADMIN' ) ) {
	if ( is_file( $kept ) && time() - filemtime( $kept ) < 600 ) {
		header( 'X-Page-Cache: HIT' );
		header( 'Content-Type: text/html; charset=UTF-8' );
		readfile( $kept );
		exit;
	}
	header( 'X-Page-Cache: MISS' );
	ob_start( function ( $page ) use ( $kept ) {
		if ( 200 === http_response_code() && false !== strpos( $page, '</html>' ) ) {
			@mkdir( dirname( $kept ), 0777, true );
			file_put_contents( $kept, $page );
		}
		return $page;
	} );
}
