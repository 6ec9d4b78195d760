package preflight

import (
	"strings"
	"testing"

	"wetland/core/packages"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
)

// What is no folder of a theme or a plugin is refused by what it is, and never taken for one.
func TestOtherKindsAreRefused(t *testing.T) {
	layout := cms.Layout{Themes: "/srv/site/themes", Plugins: "/srv/site/plugins"}
	single := cms.Component{Header: cms.Header{Kind: cms.Plugin, Name: "Ferry bell", Version: "1.0"}, Folder: "bell.php", Form: cms.SingleFile,
		Places: []cms.Place{{Path: "/srv/site/plugins/bell.php", Single: true}}}
	several := cms.Component{Header: cms.Header{Kind: cms.Plugin, Name: "Tides", Version: "1.0"}, Folder: "tides",
		Places: []cms.Place{{Path: "/srv/site/plugins/tides"}, {Path: "/srv/site/tides.php", Single: true}}}
	s := &session.Session{Site: &site.Site{CMS: cms.Remembered{Kept: layout}}, Components: []cms.Component{single, several}}
	for _, c := range []struct {
		kind             cms.Kind
		folder, name     string
		refused          string
		notInstalledThen bool
	}{
		{cms.Core, "rowlock", "Rowlock", "themes and plugins that are folders", false},
		{cms.Language, "de", "German", "themes and plugins that are folders", false},
		{cms.DropIn, "db.php", "", "themes and plugins that are folders", false},
		{cms.Plugin, "bell.php", "Ferry bell", "no file that takes the place of bell.php", false},
		{cms.Plugin, "tides", "Tides", "in several places", false},
		{cms.Theme, "harbourlight", "Harbourlight", "", true},
	} {
		var why runs.Reasons
		target := TargetOf(s, &packages.Package{Folder: c.folder, Header: cms.Header{Kind: c.kind, Name: c.name, Version: "2.0"}}, Allowed{Major: true}, &why)
		said := ""
		if refusal := why.Refusal(); refusal != nil {
			said = refusal.Error()
		}
		if (said == "") != (c.refused == "") || !strings.Contains(said, c.refused) || target.New != c.notInstalledThen {
			t.Errorf("%s %s: new %v, %q", c.kind, c.folder, target.New, said)
		}
	}
}
