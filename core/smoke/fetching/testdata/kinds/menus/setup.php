<?php
require getcwd() . '/wp-load.php';
update_option( 'active_plugins', array( 'twinmenu/twinmenu.php' ) );
