<h2><?php echo $part['title']; ?></h2>
<?php echo $part['text']; ?>
