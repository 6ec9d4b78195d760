<?php
// The child's sheet comes after the parent's.
add_action( 'wp_enqueue_scripts', function () { wp_enqueue_style( 'otterby-child', get_stylesheet_uri(), array( 'twenty-twenty-one-style' ), '1.0' ); } );
add_action( 'wp_body_open', function () { echo '<div class="ferry-band">Today the river stands at ' . otterby_child_level() . '</div>'; } );
function otterby_child_level() { return 'the second step'; }
add_filter( 'twenty_twenty_one_can_show_post_thumbnail', '__return_true' );
add_shortcode( 'stages', function () { return '<ul class="stages"><li class="stage">Otterby Steps</li><li class="stage">The mill</li><li class="stage">Sallow End</li><li class="stage">Old stage</li></ul>'; } );
