<?php
require getcwd() . '/wp-load.php';
wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'Landing stages', 'post_content' => 'Four of them. [stages]' ) );
$menu = get_theme_mod( 'nav_menu_locations' );
switch_theme( 'otterby-child' );
set_theme_mod( 'nav_menu_locations', $menu );
