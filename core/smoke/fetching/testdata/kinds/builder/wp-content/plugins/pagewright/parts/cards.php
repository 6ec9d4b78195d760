<h2><?php echo $part['title']; ?></h2>
<ul class="pw-cards"><?php foreach ( $part['cards'] as $card ) : ?>
	<li class="pw-card"><h3><?php echo $card['title']; ?></h3><p class="pw-price">€ <?php echo $card['price']; ?></p><p><?php echo $card['text']; ?></p></li>
<?php endforeach; ?></ul>
