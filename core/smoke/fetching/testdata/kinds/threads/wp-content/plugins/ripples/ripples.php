<?php
/* Plugin Name: Ripples
Version: 1.0 */
// Comments in its own way: who said it, when, and a link to answer.
add_filter( 'wp_list_comments_args', function ( $args ) {
	$args['callback'] = 'ripples_comment';
	return $args;
} );
function ripples_comment( $comment, $args, $depth ) {
	echo '<li id="comment-' . $comment->comment_ID . '" class="comment depth-' . $depth . '"><article class="comment-body"><footer class="comment-meta"><cite class="comment-author">' . get_comment_author( $comment ) . '</cite> <time>' . get_comment_date( '', $comment ) . '</time></footer><div class="comment-content">' . get_comment_text( $comment ) . '</div>';
	comment_reply_link( array_merge( $args, array( 'depth' => $depth, 'max_depth' => 5 ) ), $comment );
	echo '</article>';
}
add_action( 'wp_enqueue_scripts', function () {
	wp_enqueue_style( 'ripples', plugins_url( 'ripples.css', __FILE__ ), array(), '1.0' );
	wp_enqueue_script( 'comment-reply' );
} );
