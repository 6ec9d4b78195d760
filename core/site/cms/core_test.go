package cms

import (
	"slices"
	"testing"

	"wetland/core/database"
	"wetland/core/files"
)

func TestPartsOfARelease(t *testing.T) {
	core := (&wordpressSite{root: "/www"}).Core()
	file := func(name string) files.Item { return files.Item{Path: name, Kind: files.File} }
	brings := files.Tree{{Path: ".", Kind: files.Folder}, {Path: "wp-admin", Kind: files.Folder}, file("wp-admin/x.php"), {Path: "wp-content", Kind: files.Folder}, {Path: "extra", Kind: files.Folder},
		file("index.php"), file("xmlrpc.php"), file("readme.html"), file("wp-config.php"), file(".htaccess"), file("wp-new.php")}
	present := []files.Entry{{Name: "wp-admin", Kind: files.Folder}, {Name: "wp-includes", Kind: files.Folder}, {Name: "index.php", Kind: files.File}, {Name: "readme.html", Kind: files.File},
		{Name: "wp-old.php", Kind: files.File}, {Name: "mine.html", Kind: files.File}, {Name: "wp-config.php", Kind: files.File}}
	parts, stayAway := core.Parts(brings, present, []string{"wp-old.php", "wp-older.php", "wp-admin/gone.php", "wp-config.php"})
	if want := []string{"index.php", "readme.html", "wp-admin", "wp-includes", "wp-new.php", "wp-old.php"}; !slices.Equal(parts, want) {
		t.Errorf("replaced: %q", parts)
	}
	if !slices.Equal(stayAway, []string{"xmlrpc.php"}) {
		t.Errorf("stays away: %q", stayAway)
	}
}

func TestReleasesBetween(t *testing.T) {
	for _, one := range []struct {
		from, to              string
		wordpress, theRowlock int
	}{{"5.7.11", "7.1.4", 14, 2}, {"6.8", "6.8.1", 0, 0}, {"6.9", "7.0", 1, 1}, {"7.1", "6.8", 0, 0}, {"", "6.8", 0, 0}, {"3.2.0", "4.0.0", 8, 1}} {
		if n := (&wordpressSite{}).Between(one.from, one.to); n != one.wordpress {
			t.Errorf("WordPress %s to %s: %d", one.from, one.to, n)
		}
		if n := (&rowlockSite{}).Between(one.from, one.to); n != one.theRowlock {
			t.Errorf("Rowlock %s to %s: %d", one.from, one.to, n)
		}
	}
}

// A password that a newer release stored anew goes back; a row in which anything else changed is its owner's.
func TestPasswordsStoredAnew(t *testing.T) {
	w := &wordpressSite{prefix: "of_"}
	table := database.Table{Name: "of_users", Columns: []database.Column{{Name: "ID"}, {Name: "user_pass"}, {Name: "user_email"}}}
	row := func(pass, mail string) database.Row {
		text := func(s string) database.Value { return database.Value{Type: database.Text, Data: []byte(s)} }
		return database.Row{text("1"), text(pass), text(mail)}
	}
	storedAnew := w.StoredAnew(table)
	for _, one := range []struct {
		before, now database.Row
		is          bool
	}{
		{row("$P$Bold", "a@ferry.example"), row("$wp$2y$new", "a@ferry.example"), true},
		{row("$P$Bold", "a@ferry.example"), row("$wp$2y$new", "b@ferry.example"), false},
		{row("$P$Bold", "a@ferry.example"), row("$P$Bother", "a@ferry.example"), false},
		{row("$wp$2y$old", "a@ferry.example"), row("$wp$2y$new", "a@ferry.example"), false},
	} {
		if is := storedAnew(one.before, one.now); is != one.is {
			t.Errorf("%v to %v: %v", one.before, one.now, is)
		}
	}
	if table.Name = "of_posts"; w.StoredAnew(table) != nil {
		t.Error("posts have no passwords")
	}
}
