<?php
// An object cache in one file for each group, as hosts have it in memory.
class Kept_Objects {
	public $held = array();
	private function file( $group ) { return WP_CONTENT_DIR . '/cache/objects/' . md5( $group ); }
	public function group( $group ) {
		$group = $group ? $group : 'default';
		if ( ! isset( $this->held[ $group ] ) ) {
			$text = @file_get_contents( $this->file( $group ) );
			$held = $text ? @unserialize( $text ) : array();
			$this->held[ $group ] = is_array( $held ) ? $held : array();
		}
		return $group;
	}
	public function save( $group ) {
		if ( in_array( $group, array( 'stillwater', 'transient' ), true ) ) {
			@mkdir( WP_CONTENT_DIR . '/cache/objects', 0777, true );
			file_put_contents( $this->file( $group ), serialize( $this->held[ $group ] ), LOCK_EX );
		}
	}
	public function flush() {
		$this->held = array();
		foreach ( glob( WP_CONTENT_DIR . '/cache/objects/*' ) as $file ) {
			unlink( $file );
		}
		return true;
	}
}
function wp_cache_init() { $GLOBALS['wp_object_cache'] = new Kept_Objects(); }
function wp_cache_get( $key, $group = '', $force = false, &$found = null ) {
	global $wp_object_cache;
	$group = $wp_object_cache->group( $group );
	$found = array_key_exists( $key, $wp_object_cache->held[ $group ] );
	if ( ! $found ) { return false; }
	$value = $wp_object_cache->held[ $group ][ $key ];
	return is_object( $value ) ? clone $value : $value;
}
function wp_cache_set( $key, $data, $group = '', $expire = 0 ) {
	global $wp_object_cache;
	$group = $wp_object_cache->group( $group );
	$wp_object_cache->held[ $group ][ $key ] = is_object( $data ) ? clone $data : $data;
	$wp_object_cache->save( $group );
	return true;
}
function wp_cache_add( $key, $data, $group = '', $expire = 0 ) {
	wp_cache_get( $key, $group, false, $found );
	return $found ? false : wp_cache_set( $key, $data, $group );
}
function wp_cache_replace( $key, $data, $group = '', $expire = 0 ) { return wp_cache_set( $key, $data, $group ); }
function wp_cache_delete( $key, $group = '' ) {
	global $wp_object_cache;
	$group = $wp_object_cache->group( $group );
	unset( $wp_object_cache->held[ $group ][ $key ] );
	$wp_object_cache->save( $group );
	return true;
}
function wp_cache_incr( $key, $offset = 1, $group = '' ) { return wp_cache_set( $key, (int) wp_cache_get( $key, $group ) + $offset, $group ); }
function wp_cache_decr( $key, $offset = 1, $group = '' ) { return wp_cache_incr( $key, -$offset, $group ); }
function wp_cache_flush() { global $wp_object_cache; return $wp_object_cache->flush(); }
function wp_cache_close() { return true; }
function wp_cache_add_global_groups( $groups ) {}
function wp_cache_add_non_persistent_groups( $groups ) {}
function wp_cache_switch_to_blog( $id ) {}
