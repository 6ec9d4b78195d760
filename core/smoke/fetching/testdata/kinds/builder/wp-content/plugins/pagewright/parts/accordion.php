<h2><?php echo $part['title']; ?></h2>
<?php foreach ( $part['answers'] as $question => $answer ) : ?>
<details class="pw-question"><summary><?php echo $question; ?></summary><div class="pw-answer"><?php echo $answer; ?></div></details>
<?php endforeach; ?>
