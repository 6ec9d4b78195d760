<?php
require getcwd() . '/wp-load.php';
update_option( 'active_plugins', array( 'heron/heron.php' ) );
switch_theme( 'twentytwentyfive' );
wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'Birds', 'post_content' => '<!-- wp:heron/sightings /--><!-- wp:paragraph --><p>Counted by the ferryman, every day of this year.</p><!-- /wp:paragraph --><!-- wp:columns --><div class="wp-block-columns"><!-- wp:column --><div class="wp-block-column"><!-- wp:paragraph --><p>In spring the teal come up from the mouth of the river.</p><!-- /wp:paragraph --></div><!-- /wp:column --><!-- wp:column --><div class="wp-block-column"><!-- wp:paragraph --><p>In autumn the herons stand at the steps all morning.</p><!-- /wp:paragraph --></div><!-- /wp:column --></div><!-- /wp:columns -->' ) );
