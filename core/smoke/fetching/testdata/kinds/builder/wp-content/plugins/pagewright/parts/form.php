<h2><?php echo $part['title']; ?></h2>
<form class="pw-form" method="post" action="<?php echo home_url( '/' ); ?>">
	<input type="hidden" name="form_id" value="<?php echo $part['id']; ?>"><input type="hidden" name="post_id" value="<?php echo get_the_ID(); ?>">
<?php foreach ( $part['fields'] as $field ) : ?>
	<label><?php echo ucfirst( $field ); ?> <input name="<?php echo $field; ?>"></label>
<?php endforeach; ?>
	<button type="submit"><?php echo $part['button']; ?></button>
</form>
