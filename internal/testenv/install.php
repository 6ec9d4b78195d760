<?php
// Installs WordPress and fills it with the ferry's pages.
define( 'WP_INSTALLING', true );
$address = getenv( 'WETLAND_ADDRESS' );
define( 'WP_SITEURL', $address );
require getcwd() . '/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/upgrade.php';
wp_install( 'Otterby Ferry', 'ferryman', 'ferryman@otterby.example', true, '', 'a made-up passphrase' );
update_option( 'siteurl', $address );
update_option( 'home', $address );
update_option( 'blogdescription', 'Crossing the Otter since 1874' );
switch_theme( 'twentytwentyone' );

wp_delete_post( 1, true );
wp_delete_post( 2, true );
$pages = array(
	'Timetable'    => 'All sailings, from both landing stages. In fog the bell is rung every two minutes. [sailings]',
	'Fares'        => 'Pay on board, in coin or by card. An adult pays two forty, a child one twenty, a dog nothing at all.',
	'Getting here' => 'Otterby Steps are ten minutes on foot from the mill. On the far bank the path from Sallow End comes down to the stage.',
);
$ids = array();
foreach ( $pages as $title => $text ) {
	$ids[] = wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => $title, 'post_content' => $text ) );
}
$notices = array(
	'Spring tide on Thursday' => 'No crossings between two and four. The river will stand above the lower steps.',
	'A second boat joins us'  => 'Wagtail was built at the mill yard and carries twelve passengers.',
	'Lantern night'           => 'On the longest evening of the season we row by lantern. Bring a warm coat.',
	'Winter hours'            => 'From November the last boat leaves Otterby Steps at half past four.',
);
$day = 1;
foreach ( $notices as $title => $text ) {
	$last = wp_insert_post( array( 'post_status' => 'publish', 'post_title' => $title, 'post_content' => $text, 'post_date' => sprintf( '2026-09-%02d 08:00:00', $day++ ) ) );
}
wp_insert_comment( array( 'comment_post_ID' => $last, 'comment_author' => 'Maud Reedmace', 'comment_author_email' => 'maud@otterby.example', 'comment_content' => 'Half past four is early!', 'comment_approved' => 1 ) );

$menu = wp_create_nav_menu( 'Main' );
foreach ( $ids as $id ) {
	wp_update_nav_menu_item( $menu, 0, array( 'menu-item-object-id' => $id, 'menu-item-object' => 'page', 'menu-item-type' => 'post_type', 'menu-item-status' => 'publish' ) );
}
wp_update_nav_menu_item( $menu, 0, array( 'menu-item-object-id' => $last, 'menu-item-object' => 'post', 'menu-item-type' => 'post_type', 'menu-item-status' => 'publish' ) );
$mods = get_theme_mod( 'nav_menu_locations', array() );
$mods['primary'] = $menu;
set_theme_mod( 'nav_menu_locations', $mods );
echo "installed\n";
