package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// fleetPlugin shows boats at addresses of their own.
func fleetPlugin(version, upgrade string) map[string]string {
	return map[string]string{"fleet/fleet.php": `<?php
/**
 * Plugin Name: Fleet
 * Version: ` + version + `
 */
add_action( 'init', function () { register_post_type( 'boat', array( 'public' => true, 'label' => 'Boats', 'rewrite' => array( 'slug' => 'fleet' ) ) ); } );
` + upgrade}
}

// forgetsItsAddresses writes down the addresses of pages before its own are known, as plugins
// do that work them out too early.
const forgetsItsAddresses = `add_action( 'init', function () {
	if ( get_option( 'fleet_version' ) !== '1.1' ) {
		$rules = get_option( 'rewrite_rules' );
		update_option( 'rewrite_rules', array_filter( $rules, function ( $rule ) { return 0 !== strpos( $rule, 'fleet/' ); }, ARRAY_FILTER_USE_KEY ) );
		update_option( 'fleet_version', '1.1' );
	}
}, 1 );
`

// Pages that are not found any more, because WordPress has forgotten their addresses, are
// found again by having it work them out: no reason to go back.
func TestWordPressWorksOutItsLinksAnew(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	for name, text := range fleetPlugin("1.0", "") {
		site.Write(t, "wp-content/plugins/"+name, text)
	}
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; update_option( 'permalink_structure', '/%postname%/' ); update_option( 'active_plugins', array( 'fleet/fleet.php' ) );`))
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; flush_rewrite_rules( false );
wp_insert_post( array( 'post_type' => 'boat', 'post_status' => 'publish', 'post_title' => 'Wagtail', 'post_content' => 'Twelve passengers, two oars, one lantern.' ) );`))
	if text, err := site.Get("/fleet/wagtail/"); err != nil || !strings.Contains(text, "Twelve passengers") {
		t.Fatalf("the plugin does not work: %v", err)
	}
	workspace := care(t, site)
	config, err := os.ReadFile(filepath.Join(workspace, "wetland.toml"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(workspace, "wetland.toml"), append(config, "\n[[pages]]\npath = \"/fleet/wagtail/\"\n"...), 0o600); err != nil {
		t.Fatal(err)
	}
	next := zipOf(t, "fleet.zip", fleetPlugin("1.1", forgetsItsAddresses))
	wetland(t, workspace, "update", next).want(t, 0, "links rebuilt by the CMS helped", "Fleet 1.1 is in place")
	if text, err := site.Get("/fleet/wagtail/"); err != nil || !strings.Contains(text, "Twelve passengers") {
		t.Errorf("the boat is not found: %v", err)
	}
	nothingLeft(t, site.Root)
}

// WordPress keeps the styles of a block theme in its database for a minute: right after the
// swap the new ones are judged, not the remembered ones.
func TestWordPressForgetsTheStylesOfTheOldTheme(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; switch_theme( 'twentytwentythree' );`))
	workspace := t.TempDir()
	wetland(t, workspace, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0, "twentytwentythree")
	entries := entriesOf(t, filepath.Join(site.Root, "wp-content/themes/twentytwentythree"), "twentytwentythree")
	for name, change := range map[string][2]string{
		"style.css":  {"Version: 1.0", "Version: 1.1"},
		"theme.json": {`"text": "var(--wp--preset--color--contrast)"`, `"text": "var(--wp--preset--color--base)"`},
	} {
		changed := strings.Replace(entries["twentytwentythree/"+name], change[0], change[1], 1)
		if changed == entries["twentytwentythree/"+name] {
			t.Fatalf("%s has no %q", name, change[0])
		}
		entries["twentytwentythree/"+name] = changed
	}
	next := zipOf(t, "twentytwentythree.zip", entries)
	// A visitor right before: the styles of the old theme are remembered.
	if _, err := site.Get("/"); err != nil {
		t.Fatal(err)
	}
	wetland(t, workspace, "update", next).want(t, 3, "Put back.", "the page does not show any more")
	nothingLeft(t, site.Root)
}
