<?php
require getcwd() . '/wp-load.php';
update_option( 'active_plugins', array( 'ripples/ripples.php' ) );
update_option( 'thread_comments', 1 );
update_option( 'thread_comments_depth', 5 );
update_option( 'page_comments', 0 );
$who   = array( 'Maud Reedmace', 'Tom Sallow', 'Ida Bulrush', 'Ned Osier', 'Wren Alder' );
$said  = array( 'We crossed in the fog and the bell was a comfort.', 'The early boat was full, so be there in time.', 'Dogs are welcome, mine slept all the way across.', 'Does anybody know whether bicycles are let on at noon?', 'The ferryman waited for us, which I did not expect.', 'I liked the old boat better, it creaked so kindly.', 'Bring a coat: the wind on the water is colder than you think.' );
foreach ( get_posts( array( 'numberposts' => 2, 'orderby' => 'ID', 'order' => 'ASC' ) ) as $k => $post ) {
	wp_update_post( array( 'ID' => $post->ID, 'comment_status' => 'open' ) );
	$last = array();
	foreach ( range( 0, $k ? 11 : 59 ) as $n ) {
		$id = wp_insert_comment( array( 'comment_post_ID' => $post->ID, 'comment_author' => $who[ $n % 5 ], 'comment_author_email' => "reader$n@otterby.example", 'comment_content' => $said[ $n % 7 ] . ' Said as number ' . $n . '.', 'comment_approved' => 1, 'comment_parent' => $n % 4 && $last ? end( $last ) : 0, 'comment_date' => sprintf( '2026-09-%02d %02d:00:00', 1 + $n % 28, $n % 24 ) ) );
		$last = $n % 4 ? array_merge( $last, array( $id ) ) : array( $id );
	}
}
