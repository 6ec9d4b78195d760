<h2><?php echo $part['title']; ?></h2>
<div class="pw-tablist" role="tablist"><?php foreach ( $part['panels'] as $name => $text ) : ?><button role="tab"><?php echo $name; ?></button><?php endforeach; ?></div>
<?php foreach ( $part['panels'] as $name => $text ) : ?>
<div class="pw-panel" role="tabpanel"><p><?php echo $text; ?></p></div>
<?php endforeach; ?>
