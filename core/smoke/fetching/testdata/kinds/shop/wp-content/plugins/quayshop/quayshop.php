<?php
/* Plugin Name: Quayshop
Version: 1.0 */
add_action( 'init', function () {
	register_post_type( 'product', array( 'public' => true, 'label' => 'Products', 'has_archive' => true, 'supports' => array( 'title', 'editor', 'comments' ), 'rewrite' => array( 'slug' => 'product' ) ) );
	register_taxonomy( 'shelf', 'product', array( 'public' => true, 'label' => 'Shelves' ) );
} );
add_action( 'wp_enqueue_scripts', function () {
	wp_enqueue_style( 'quayshop', plugins_url( 'quayshop.css', __FILE__ ), array(), '1.0' );
	wp_enqueue_script( 'quayshop', plugins_url( 'quayshop.js', __FILE__ ), array(), '1.0', true );
} );
function quayshop_price( $id ) {
	return '<span class="price"><span class="currency">£</span>' . number_format( (float) get_post_meta( $id, '_price', true ), 2 ) . '</span>';
}
function quayshop_cart( $id ) {
	return '<form class="cart" method="post" action="' . esc_url( get_permalink( $id ) ) . '"><input type="hidden" name="product_id" value="' . $id . '"><label>How many <input type="number" name="quantity" value="1"></label><button name="add">Add to basket</button></form>';
}
add_filter( 'the_content', function ( $content ) {
	if ( 'product' !== get_post_type() || is_admin() ) {
		return $content;
	}
	$id = get_the_ID();
	if ( ! is_singular( 'product' ) ) {
		return '<p class="summary">' . wp_trim_words( $content, 12 ) . '</p>' . quayshop_price( $id );
	}
	$out = '<div class="product"><div class="product-pictures"><img src="' . content_url( 'uploads/shop/' . $id . '.svg' ) . '" alt="' . get_the_title() . '"></div><div class="product-summary">' . quayshop_price( $id ) . '<p class="stock">' . get_post_meta( $id, '_stock', true ) . ' in stock</p>' . quayshop_cart( $id ) . '</div></div>';
	$out .= '<h2>Description</h2><div class="description">' . $content . '</div>';
	$out .= '<h2>Details</h2><table class="details"><tr><th>Weight</th><td>' . get_post_meta( $id, '_weight', true ) . ' kg</td></tr><tr><th>Made of</th><td>Oak</td></tr><tr><th>Number</th><td>Q-' . $id . '</td></tr></table>';
	$out .= '<h2>You may also like</h2><ul class="related">';
	foreach ( get_posts( array( 'post_type' => 'product', 'exclude' => array( $id ), 'numberposts' => 4, 'orderby' => 'ID', 'order' => 'ASC' ) ) as $other ) {
		$out .= '<li class="related-product"><a href="' . get_permalink( $other ) . '">' . $other->post_title . '</a> ' . quayshop_price( $other->ID ) . '</li>';
	}
	return $out . '</ul>';
} );
add_shortcode( 'basket', function () {
	return '<form class="basket" method="post"><table><thead><tr><th>Item</th><th>Price</th><th>Number</th></tr></thead><tbody><tr><td>Lantern</td><td>£24.50</td><td><input name="qty[1]" value="1"></td></tr><tr><td>Oar</td><td>£31.00</td><td><input name="qty[2]" value="2"></td></tr></tbody></table><p class="total">Total £86.50</p><input type="hidden" name="basket_key" value="b1"><button>To the till</button></form>';
} );
add_shortcode( 'shop', function () {
	$out = '<ul class="products">';
	foreach ( get_posts( array( 'post_type' => 'product', 'numberposts' => 12, 'orderby' => 'ID', 'order' => 'ASC' ) ) as $product ) {
		$out .= '<li class="product-card"><a href="' . get_permalink( $product ) . '"><img src="' . content_url( 'uploads/shop/' . $product->ID . '.svg' ) . '" alt=""><h3>' . $product->post_title . '</h3></a>' . quayshop_price( $product->ID ) . '<a class="add" href="?add=' . $product->ID . '">Add</a></li>';
	}
	return $out . '</ul>';
} );
add_action( 'wp_footer', function () { echo '<div class="mini-basket"><a href="' . home_url( '/?page_id=' . get_option( 'quayshop_basket' ) ) . '">Basket</a> <span class="count">0</span></div>'; } );
