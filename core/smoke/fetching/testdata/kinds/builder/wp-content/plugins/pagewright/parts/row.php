<h2><?php echo $part['title']; ?></h2>
<div class="pw-row"><?php foreach ( $part['columns'] as $column ) : ?>
	<div class="pw-column"><h3><?php echo $column['title']; ?></h3><p><?php echo $column['text']; ?></p><a class="pw-button" href="<?php echo home_url( '/?page_id=' . $column['to'] ); ?>">Read on</a></div>
<?php endforeach; ?></div>
