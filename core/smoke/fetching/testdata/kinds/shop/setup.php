<?php
require getcwd() . '/wp-load.php';
update_option( 'active_plugins', array( 'quayshop/quayshop.php' ) );
require_once WP_PLUGIN_DIR . '/quayshop/quayshop.php';
do_action( 'init' );
$dir = wp_upload_dir()['basedir'] . '/shop';
wp_mkdir_p( $dir );
$n = 0;
foreach ( array( 'Lantern' => 24.5, 'Oar' => 31, 'Bell' => 18.75, 'Rope' => 9.9, 'Oilskin' => 64, 'Whistle' => 4.25, 'Chart of the Otter' => 12, 'Ferryman\'s cap' => 15.5 ) as $title => $price ) {
	$id = wp_insert_post( array( 'post_type' => 'product', 'post_status' => 'publish', 'post_title' => $title, 'comment_status' => 'open', 'post_content' => "The $title of the Otterby boats, made at the mill yard and tried on the river in all weathers. It lasts a working life, and we mend it if it does not." ) );
	update_post_meta( $id, '_price', $price );
	update_post_meta( $id, '_stock', 3 + $n );
	update_post_meta( $id, '_weight', 1.5 + $n++ );
	wp_set_object_terms( $id, $n % 2 ? 'On deck' : 'On shore', 'shelf' );
	file_put_contents( "$dir/$id.svg", '<svg xmlns="http://www.w3.org/2000/svg" width="300" height="300"><circle cx="150" cy="150" r="120" fill="#' . dechex( 0x336655 + $n * 0x101010 ) . '"/></svg>' );
	wp_insert_comment( array( 'comment_post_ID' => $id, 'comment_author' => 'Maud Reedmace', 'comment_content' => "A good $title, it came in two days.", 'comment_approved' => 1 ) );
	wp_insert_comment( array( 'comment_post_ID' => $id, 'comment_author' => 'Tom Sallow', 'comment_content' => "My second $title, as good as the first.", 'comment_approved' => 1 ) );
}
wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'The shop', 'post_content' => 'All that we sell. [shop]' ) );
update_option( 'quayshop_basket', wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'Your basket', 'post_content' => 'What is in your basket. [basket]' ) ) );
