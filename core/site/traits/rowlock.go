package traits

// Rowlock is the CMS of the bundled demo site.
var Rowlock = Traits{
	Name: "rowlock", Title: "Rowlock",
	Marker: "rowlock.toml", Settings: "rowlock.toml",
	Themes: "themes", Plugins: "plugins", Uploads: "uploads", ThemeHeader: "theme.toml", PluginHeader: "plugin.toml",
	ChildsOwn: []string{"theme.toml"},
	Volatile:  []string{"cache"}, Cache: "cache",
	Tables: map[string][]string{
		"settings":         {"settings", "plugins", "menu"},
		"visitors' writes": {"pages", "notices", "enquiries"},
	},
	OwnSettings: []string{"last_sweep"},
	Pages: Pages{
		Errors: []Shape{{"rowlock could not show", `(?i)<h1>Rowlock could not show this page</h1>`}},
	},
}
