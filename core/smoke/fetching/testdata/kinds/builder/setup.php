<?php
require getcwd() . '/wp-load.php';
update_option( 'active_plugins', array( 'pagewright/pagewright.php' ) );
$words = explode( ' ', 'the ferry crosses the river under a low sky while herons stand at the steps and the bell is rung in fog every two minutes so that nobody misses the boat to the far bank where the path comes down from the willows' );
$some = function ( $from, $n ) use ( $words ) {
	$out = array();
	for ( $i = 0; $i < $n; $i++ ) {
		$out[] = $words[ crc32( "$from/$i" ) % count( $words ) ];
	}
	return ucfirst( implode( ' ', $out ) ) . '.';
};
$dir = wp_upload_dir()['basedir'] . '/pagewright';
wp_mkdir_p( $dir );
foreach ( range( 1, 8 ) as $n ) {
	file_put_contents( "$dir/$n.svg", '<svg xmlns="http://www.w3.org/2000/svg" width="300" height="200"><rect width="300" height="200" fill="#' . dechex( 0x446677 + $n * 0x0a0b0c ) . '"/></svg>' );
}
$form = function ( $id, $title, $fields, $button ) { return array( 'kind' => 'form', 'id' => $id, 'title' => $title, 'fields' => $fields, 'button' => $button ); };
$long = array();
foreach ( range( 1, 24 ) as $chapter ) {
	$text = '';
	foreach ( range( 1, 10 ) as $p ) {
		$text .= '<p>' . $some( $chapter * 31 + $p, 60 ) . '</p>';
	}
	$long[] = array( 'kind' => 'text', 'title' => 'Story ' . $chapter . ': ' . $some( $chapter, 4 ), 'text' => $text );
}
$parts = array_merge( array(
	array( 'kind' => 'row', 'title' => 'Three ways across', 'columns' => array(
		array( 'title' => 'By the early boat', 'text' => $some( 1, 30 ), 'to' => 4 ), array( 'title' => 'By the noon boat', 'text' => $some( 2, 30 ), 'to' => 5 ), array( 'title' => 'By lantern light', 'text' => $some( 3, 30 ), 'to' => 6 ) ) ),
	array( 'kind' => 'tabs', 'title' => 'On board', 'panels' => array( 'Seats' => $some( 11, 40 ), 'Dogs' => $some( 12, 40 ), 'Bicycles' => $some( 13, 40 ), 'Weather' => $some( 14, 40 ) ) ),
	$form( 11, 'Ask us', array( 'name', 'mail', 'question' ), 'Ask' ),
	array( 'kind' => 'cards', 'title' => 'Tickets', 'cards' => array(
		array( 'title' => 'Single', 'price' => '2.40', 'text' => $some( 21, 20 ) ), array( 'title' => 'Return', 'price' => '4.20', 'text' => $some( 22, 20 ) ), array( 'title' => 'Ten crossings', 'price' => '19.00', 'text' => $some( 23, 20 ) ) ) ),
	$form( 12, 'Letters from the river', array( 'mail' ), 'Send me letters' ),
	array( 'kind' => 'gallery', 'title' => 'Our boats', 'pictures' => range( 1, 8 ) ),
	array( 'kind' => 'accordion', 'title' => 'Often asked', 'answers' => array_combine( array_map( function ( $n ) { return "Question $n: may I bring item $n?"; }, range( 1, 8 ) ), array_map( function ( $n ) use ( $some ) { return $some( 40 + $n, 25 ); }, range( 1, 8 ) ) ) ),
	$form( 13, 'Book a crossing', array( 'name', 'mail', 'day', 'seats' ), 'Book' ),
), $long, array( $form( 14, 'Call me back', array( 'name', 'telephone' ), 'Call me' ) ) );
$home = wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'Welcome aboard', 'post_content' => 'Made with Pagewright.' ) );
update_post_meta( $home, '_pagewright', $parts );
update_option( 'show_on_front', 'page' );
update_option( 'page_on_front', $home );
$second = wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'Prices and groups', 'post_content' => 'Made with Pagewright.' ) );
update_post_meta( $second, '_pagewright', array( $parts[3], $parts[0], $parts[7] ) );
foreach ( array( $home, $second ) as $id ) {
	file_put_contents( "$dir/post-$id.css", '.pw-page { font-family: Georgia, serif; } .pw-cards .pw-card { border-top: 4px solid #e09f3e; } .pw-section:nth-child(odd) { background: #eef6f6; } .pw-form { display: grid; gap: .6rem; max-width: 30rem; }' );
}
