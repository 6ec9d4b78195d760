<h2><?php echo $part['title']; ?></h2>
<div class="pw-gallery"><?php foreach ( $part['pictures'] as $picture ) : ?>
	<figure><img src="<?php echo content_url( 'uploads/pagewright/' . $picture . '.svg' ); ?>" srcset="<?php echo content_url( 'uploads/pagewright/' . $picture . '.svg' ); ?> 2x" alt="The boat <?php echo $picture; ?>"><figcaption>Boat <?php echo $picture; ?></figcaption></figure>
<?php endforeach; ?></div>
