<?php
require getcwd() . '/wp-load.php';
update_option( 'active_plugins', array( 'rightward/rightward.php' ) );
update_option( 'blogname', 'عبّارة أوتربي' );
update_option( 'blogdescription', 'نعبر النهر منذ زمن بعيد' );
$texts = array(
	'مواعيد العبّارة' => 'تبحر العبّارة من الفجر حتى الغسق كل يوم، وفي الضباب يُقرع الجرس كل دقيقتين. [departures]',
	'الأجرة' => 'تُدفع الأجرة على متن القارب نقدًا أو بالبطاقة. البالغ يدفع اثنين ونصفًا، والطفل نصف ذلك، والكلب لا يدفع شيئًا.',
	'הדרך אלינו' => 'הרציף נמצא עשר דקות הליכה מן הטחנה. בגדה השנייה השביל יורד מסוף הערבה אל הרציף, ומשם רואים את הפנס.',
);
foreach ( $texts as $title => $text ) {
	wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => $title, 'post_content' => $text ) );
	wp_insert_post( array( 'post_status' => 'publish', 'post_title' => $title . ' ١', 'post_content' => $text . ' ' . $text ) );
}
