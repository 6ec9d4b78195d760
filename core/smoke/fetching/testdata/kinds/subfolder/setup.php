<?php
require getcwd() . '/wp-load.php';
update_option( 'active_plugins', array( 'tollhouse/tollhouse.php' ) );
wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'Tolls', 'post_content' => 'What the bridge before us asked. [tolls]' ) );
wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'A pass for the year', 'post_content' => 'Cross as often as you like. [pass]' ) );
