<?php
// What the web server of a site does before PHP: it knows the site's own name, hands out the files that
// are there, and has the site's first script answer for all else.
$wetland = json_decode( getenv( 'WETLAND_COPY' ), true );
$_SERVER['SERVER_NAME'] = $wetland['name'];
$_SERVER['SERVER_PORT'] = $wetland['port'];
$_SERVER['SERVER_ADDR'] = '127.0.0.1';
if ( $wetland['https'] ) {
	$_SERVER['HTTPS'] = 'on';
	$_SERVER['REQUEST_SCHEME'] = 'https';
}
$wetland_path = rawurldecode( (string) parse_url( $_SERVER['REQUEST_URI'], PHP_URL_PATH ) );
$wetland_file = $_SERVER['DOCUMENT_ROOT'] . $wetland_path;
if ( strpos( $wetland_path, '.' ) === false || file_exists( $wetland_file ) || ! is_file( $wetland['first'] ) ) {
	unset( $wetland, $wetland_path, $wetland_file );
	return false;
}
$_SERVER['SCRIPT_NAME'] = $_SERVER['PHP_SELF'] = $wetland['script'];
$_SERVER['SCRIPT_FILENAME'] = $wetland['first'];
chdir( dirname( $wetland['first'] ) );
unset( $wetland_path, $wetland_file );
require $wetland['first'];
