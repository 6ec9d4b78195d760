<?php
require getcwd() . '/wp-load.php';
update_option( 'active_plugins', array( 'stillwater/stillwater.php' ) );
$config = file_get_contents( 'wp-config.php' );
file_put_contents( 'wp-config.php', preg_replace( '/^<\?php/', "<?php define( 'WP_CACHE', true );", $config, 1 ) );
wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'The river today', 'post_content' => 'Measured each morning at eight. [levels]' ) );
wp_cache_flush();
