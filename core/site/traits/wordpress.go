package traits

// WordPress is as its releases 5.7 to 7.1 are.
var WordPress = Traits{
	Name: "wordpress", Title: "WordPress", PHP: true,
	Marker: "wp-includes/version.php", Settings: "wp-config.php",
	Themes: "themes", Plugins: "plugins", Uploads: "uploads", ThemeHeader: "style.css",
	// wp-settings.php loads functions.php of both, WP_Theme_JSON_Resolver::get_theme_data() merges
	// theme.json, and the header of each is its own.
	ChildsOwn: []string{"style.css", "functions.php", "theme.json"},
	Volatile:  []string{"cache", "upgrade", "upgrade-temp-backup", "debug.log"}, Cache: "cache",
	// _get_dropins() in wp-admin/includes/plugin.php.
	LooseFiles: []string{"advanced-cache.php", "db.php", "db-error.php", "install.php", "maintenance.php", "object-cache.php", "php-error.php", "fatal-error-handler.php", "sunrise.php", "blog-deleted.php", "blog-inactive.php", "blog-suspended.php"},
	Tables: map[string][]string{
		"settings":         {"options"},
		"visitors' writes": {"posts", "postmeta", "comments", "commentmeta", "users", "usermeta", "terms", "term_taxonomy", "term_relationships", "termmeta", "links"},
		"volatile":         {"*_sessions", "actionscheduler_*"}, // of plugins that many shops have
	},
	// docs/wordpress.md lists them with the reasons.
	OwnSettings:      []string{"cron", "rewrite_rules", "recovery_keys", "auto_updater.lock", "core_updater.lock", "recently_activated", "fresh_site"},
	OwnSettingsBegin: []string{"_transient_", "_site_transient_"},
	MadeAnew:         []string{"rewrite_rules", "fresh_site"},
	// wp_update_comment_count_now() and wp_update_term_count_now() in wp-includes.
	Counted: map[string][]string{"posts": {"comment_count"}, "term_taxonomy": {"count"}},
	// create_initial_post_types() in wp-includes/post.php.
	DesignPosts: []string{"wp_template", "wp_template_part", "wp_global_styles", "custom_css", "wp_font_family", "wp_font_face"},
	FilesForAll: []string{"wp-includes/js/wp-embed.js", "wp-includes/css/buttons.css"},
	FirstPages:  []string{"wp-login.php"},
	Pages: Pages{
		// _default_wp_die_handler() in wp-includes/functions.php, and class-wpdb.php.
		Errors: []Shape{
			{"wp-die-message", `(?i)<[a-z]+[^>]*class="[^"]*\bwp-die-message\b[^"]*"[^>]*>.{0,200}`},
			{"error-page", `(?i)<body[^>]*id="error-page"`},
			{"there has been a critical error", `(?i)There has been a critical error on this website`},
			{"error establishing a database", `(?i)Error establishing a database connection`},
			{"wpdberror", `(?i)<div id="error"><p class="wpdberror">.{0,300}`},
		},
		Ornaments: ".emoji, .avatar, .wp-smiley",
		Known:     `meta[name="generator" i][content^="WordPress"], link[href*="/wp-includes/"], script[src*="/wp-includes/"]`,
		Search:    "s",
		Actions:   []string{"wp-admin", "wp-login", "replytocom"},
		// WP_Sitemaps::init(), with speaking addresses and without.
		Sitemaps: []string{"/wp-sitemap.xml", "/?sitemap=index"},
	},
}
