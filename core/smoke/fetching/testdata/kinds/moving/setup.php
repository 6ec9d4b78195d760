<?php
require getcwd() . '/wp-load.php';
update_option( 'active_plugins', array( 'drift/drift.php' ) );
$dir = wp_upload_dir()['basedir'] . '/drift';
wp_mkdir_p( $dir );
foreach ( array( 'dawn' => 'f4c095', 'noon' => '9bd1e5', 'dusk' => '3d405b', 'seen-1' => '112233', 'seen-2' => '223344', 'seen-3' => '334455', 'seen-4' => '445566', 'seen-5' => '556677', 'seen-6' => '667788' ) as $name => $colour ) {
	file_put_contents( "$dir/$name.svg", '<svg xmlns="http://www.w3.org/2000/svg" width="600" height="300"><rect width="600" height="300" fill="#' . $colour . '"/></svg>' );
}
$home = wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'On the river', 'post_content' => '[slider] [countdown] The boats run from first light until dusk, every day of the year but one. [lazy] [reviews]' ) );
update_option( 'show_on_front', 'page' );
update_option( 'page_on_front', $home );
wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'Where we are', 'post_content' => 'The landing is easy to find. [map] Call us on <a href="tel:+440000100200">0000 100200</a> or write to <a href="mailto:bell@otterby.example">bell@otterby.example</a>. [reviews]' ) );
