package cms

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"wetland/core/database"
	"wetland/core/files/filestest"
)

// memory is a Folder of texts.
type memory map[string]string

func (m memory) Names() ([]string, error) {
	var names []string
	for name := range m {
		names = append(names, name)
	}
	return names, nil
}

func (m memory) Open(name string) (io.ReadCloser, error) {
	text, ok := m[name]
	if !ok {
		return nil, fs.ErrNotExist
	}
	return io.NopCloser(strings.NewReader(text)), nil
}

func TestPHPConfigConstants(t *testing.T) {
	for _, c := range []struct{ name, code, value, why string }{
		{"single quotes", `define('X', 'ferry');`, "ferry", ""},
		{"double quotes", `define("X", "ferry");`, "ferry", ""},
		{"mixed quotes and spaces", `define ( 'X' ,   "ferry"  ) ;`, "ferry", ""},
		{"upper case", `DEFINE('X', 'ferry');`, "ferry", ""},
		{"leading backslash", `\define('X', 'ferry');`, "ferry", ""},
		{"const", `const X = 'ferry';`, "ferry", ""},
		{"several lines", "define(\n\t'X',\n\t'ferry'\n);", "ferry", ""},
		{"third argument", `define('X', 'ferry', true);`, "ferry", ""},
		{"escaped quote", `define('X', 'it\'s \\ \n');`, `it's \ \n`, ""},
		{"escapes in double quotes", `define("X", "a\tb\\\"c\$d");`, "a\tb\\\"c$d", ""},
		{"dollar alone", `define("X", "cost $ 5");`, "cost $ 5", ""},
		{"number", `define('X', 3306);`, "3306", ""},
		{"true", `define('X', true);`, "1", ""},
		{"false", `define('X', false);`, "", ""},
		{"comment before", `// define('X', 'wrong');` + "\n" + `define('X', 'ferry');`, "ferry", ""},
		{"hash comment", `# define('X', 'wrong');` + "\n" + `define('X', 'ferry');`, "ferry", ""},
		{"block comment", `/* define('X', 'wrong'); */ define('X', /* here */ 'ferry'); // end`, "ferry", ""},
		{"comment signs in text", `define('X', 'a // b # c /* d */');`, "a // b # c /* d */", ""},
		{"first counts", `define('X', 'ferry'); define('X', 'late');`, "ferry", ""},
		{"guarded", `if (!defined('X')) { define('X', 'ferry'); }`, "ferry", ""},
		{"same in both branches", `if ($a) { define('X', 'ferry'); } else { define('X', 'ferry'); }`, "ferry", ""},
		{"either", `if ($a) { define('X', 'one'); } else { define('X', 'two'); }`, "", "in several places"},
		{"joined", `define('X', 'fer' . 'ry');`, "ferry", ""},
		{"folder", `define('X', __DIR__ . '/content');`, "/srv/www/content", ""},
		{"folder, older", `define('X', dirname(__FILE__) . '/content');`, "/srv/www/content", ""},
		{"folder above", `define('X', dirname(__DIR__) . '/content');`, "/srv/content", ""},
		{"other constant", `define('A', 'fer'); define('X', A . 'ry');`, "ferry", ""},
		{"ABSPATH", `define('X', ABSPATH . 'content');`, "/srv/www/content", ""},
		{"getenv", `define('X', getenv('DB'));`, "", "computed"},
		{"environment", `define('X', $_ENV['DB']);`, "", "computed"},
		{"default", `define('X', getenv('DB') ?: 'ferry');`, "", "computed"},
		{"interpolated", `define("X", "ferry_$stage");`, "", "computed"},
		{"interpolated in braces", `define("X", "ferry_{$stage}");`, "", "computed"},
		{"heredoc", "define('X', <<<END\nferry;\ndefine('X', 'wrong');\nEND\n);", "", "computed"},
		{"missing", `define('Y', 'ferry');`, "", "not set"},
		{"included", `require __DIR__ . '/local.php';`, "", "file that it includes"},
		{"cut off", `define('X', 'fer`, "", "computed"},
		{"not a definition", `$define = 'X'; echo "define('X', 'wrong')";`, "", "not set"},
		{"after the end of PHP", `?> define('X', 'wrong'); <?php define('X', 'ferry');`, "ferry", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			config := readPHPConfig("<?php\n"+c.code+"\n", "/srv/www", "/srv/www")
			value, why := config.constant("X")
			if value != c.value || (c.why == "") != (why == "") || !strings.Contains(why, c.why) {
				t.Errorf("%s\ngot %q, because %q", c.code, value, why)
			}
		})
	}
}

func TestPHPConfigVariables(t *testing.T) {
	for code, want := range map[string]string{
		`$table_prefix = 'of_';`:                                 "of_",
		`$table_prefix  =  "of_" ;`:                              "of_",
		`$table_prefix = 'wp_'; $table_prefix = 'of_';`:          "of_",
		`if ($x == 'a') {} $table_prefix='of_'; // 'wp_'`:        "of_",
		`if ($x) { $table_prefix = 'a_'; } $table_prefix = 'b';`: "b",
	} {
		if got, why := readPHPConfig("<?php "+code, "/", "/").variable("table_prefix"); got != want {
			t.Errorf("%s: %q %s", code, got, why)
		}
	}
	if got, why := readPHPConfig(`<?php $table_prefix = getenv('P');`, "/", "/").variable("table_prefix"); why == "" {
		t.Errorf("computed prefix: %q", got)
	}
}

func FuzzPHPConfig(f *testing.F) {
	f.Add("<?php define('X', 'a' . \"b\\n\"); /* x */ $table_prefix = <<<A\nb\nA;")
	f.Fuzz(func(t *testing.T, text string) {
		config := readPHPConfig(text, "/a", "/a")
		config.constant("X")
		config.variable("table_prefix")
	})
}

func TestUnserialize(t *testing.T) {
	got, err := unserializeStrings(`a:4:{i:0;s:23:"tidetable/tidetable.php";i:1;s:6:"fäh";i:5;a:1:{i:0;b:1;}s:1:"k";N;}`)
	if err == nil {
		t.Errorf("a wrong length was believed: %q", got)
	}
	got, err = unserializeStrings(`a:4:{i:0;s:23:"tidetable/tidetable.php";i:1;s:4:"fäh";i:5;a:1:{i:0;d:1.5;}s:1:"k";i:7;}`)
	if err != nil || !slices.Equal(got, []string{"tidetable/tidetable.php", "fäh"}) {
		t.Errorf("%q %v", got, err)
	}
	for _, bad := range []string{`x`, `a:1:{`, `a:1:{i:0;s:5:"ab";}`, `s:1:"a";`, `a:99999999999:{}`, `a:-1:{}`, `O:1:"A":0:{}`, `a:1:{i:0;O:1:"A":0:{}}`, strings.Repeat("a:1:{i:0;", 5000)} {
		if got, err := unserializeStrings(bad); err == nil {
			t.Errorf("%.40q gave %q", bad, got)
		}
	}
	if got, err := unserializeStrings(""); err != nil || got != nil {
		t.Errorf("empty: %q %v", got, err)
	}
}

func FuzzUnserialize(f *testing.F) {
	f.Add(`a:2:{i:0;s:1:"a";i:1;a:0:{}}`)
	f.Fuzz(func(t *testing.T, text string) { _, _ = unserializeStrings(text) })
}

// wordpressAt lays out just enough of WordPress in a folder.
func wordpressAt(t *testing.T, root, config string) *wordpressSite {
	t.Helper()
	write := func(name, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write(root+"/wp-includes/version.php", "<?php $wp_version = '6.1.9';")
	if config != "" {
		write(root+"/wp-config.php", config)
	}
	for _, folder := range []string{"themes", "plugins"} {
		if err := os.MkdirAll(root+"/wp-content/"+folder, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	site, err := WordPress{}.Open(t.Context(), filestest.Whole(t), root, "")
	if err != nil {
		t.Fatal(err)
	}
	return site.(*wordpressSite)
}

func TestDatabaseHost(t *testing.T) {
	for host, want := range map[string]database.Login{
		"db.example":             {Host: "db.example", Port: 3306},
		"db.example:3307":        {Host: "db.example", Port: 3307},
		"127.0.0.1":              {Host: "127.0.0.1", Port: 3306},
		"p:127.0.0.1:3308":       {Host: "127.0.0.1", Port: 3308},
		"[::1]:3307":             {Host: "::1", Port: 3307},
		"::1":                    {Host: "::1", Port: 3306},
		"localhost:/tmp/x.sock":  {Socket: "/tmp/x.sock", Port: 3306},
		":/var/run/db/my.socket": {Socket: "/var/run/db/my.socket", Port: 3306},
	} {
		w := wordpressAt(t, t.TempDir(), `<?php define('DB_NAME', 'n'); define('DB_USER', 'u'); define('DB_PASSWORD', 'p'); define('DB_HOST', '`+host+`'); $table_prefix = 'of_';`)
		login, missing := w.Database(Given{})
		if len(missing) > 0 || login.Host != want.Host || login.Port != want.Port || login.Socket != want.Socket || login.Name != "n" || login.Password != "p" {
			t.Errorf("%s: %v, missing %v", host, login, missing)
		}
	}
	w := wordpressAt(t, t.TempDir(), `<?php define('DB_HOST', 'localhost:3310');`)
	login, missing := w.Database(Given{Name: "n", User: "u"})
	if login.Host != "" || !strings.HasSuffix(login.Socket, ".sock") {
		t.Errorf("localhost is the socket: %v", login)
	}
	var keys []string
	for _, one := range missing {
		keys = append(keys, one.Key)
	}
	if !slices.Equal(keys, []string{"database.password_from", "database.prefix"}) {
		t.Errorf("missing: %v", keys)
	}
}

func TestConfigAboveTheRootAndMovedContent(t *testing.T) {
	dir := t.TempDir()
	above := `<?php define('WP_CONTENT_DIR', __DIR__ . '/assets/'); $table_prefix = 'of_';`
	if err := os.WriteFile(dir+"/wp-config.php", []byte(above), 0o644); err != nil {
		t.Fatal(err)
	}
	w := wordpressAt(t, dir+"/www", "")
	layout := w.Layout()
	if layout.Themes != dir+"/assets/themes" || len(layout.Areas) != 3 || layout.Areas[1].Path != dir+"/assets" || layout.Areas[2].Only != "wp-config.php" {
		t.Errorf("%+v", layout)
	}
	// A file above that belongs to another site there does not count.
	if err := os.WriteFile(dir+"/wp-settings.php", nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := (WordPress{}).Open(t.Context(), filestest.Whole(t), dir+"/www", ""); err == nil {
		t.Error("the settings of another site were taken")
	}
}

// Links that the site's own folders hold are told, and not followed.
func TestLinksInPlaceOfFolders(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	w := wordpressAt(t, dir, `<?php $table_prefix = 'of_';`)
	if err := os.WriteFile(outside+"/style.css", []byte("/* Theme Name: Private */"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.Mkdir(dir+"/wp-content/themes/quay", 0o755), os.Symlink(outside, dir+"/wp-content/themes/linked"), os.Symlink(outside+"/style.css", dir+"/wp-content/themes/file"), os.Symlink("nowhere", dir+"/wp-content/themes/dangling")); err != nil {
		t.Fatal(err)
	}
	found, err := w.Components(t.Context(), nil)
	if err != nil || len(found) != 3 || found[0].Folder != "linked" || found[0].Name != "" || !strings.Contains(found[0].Problem, "a link to "+outside) {
		t.Errorf("%+v %v", found, err)
	}
	if err := errors.Join(os.RemoveAll(dir+"/wp-content"), os.Symlink(outside, dir+"/wp-content")); err != nil {
		t.Fatal(err)
	}
	if _, err := (WordPress{}).Open(t.Context(), filestest.Whole(t), dir, ""); err == nil || !strings.Contains(err.Error(), "WP_CONTENT_DIR") {
		t.Errorf("%v", err)
	}
}

// What wetland.toml says of the prefix holds from the first call on.
func TestGivenPrefix(t *testing.T) {
	dir := t.TempDir()
	wordpressAt(t, dir, `<?php $table_prefix = 'of_';`)
	w, err := WordPress{}.Open(t.Context(), filestest.Whole(t), dir, "other_")
	if err != nil {
		t.Fatal(err)
	}
	if got := w.Owns([]string{"of_posts", "other_posts"}); !slices.Equal(got, []string{"other_posts"}) {
		t.Errorf("%v", got)
	}
	if got := w.Purpose("other_options"); got != Settings {
		t.Errorf("%v", got)
	}
}

func TestOwnTables(t *testing.T) {
	w := &wordpressSite{prefix: "wp_"}
	all := []string{"wp_options", "wp_posts", "wp_dev_options", "wp_dev_posts", "wp_dev_postmeta", "wp_dev_shop", "wp_tide_options", "wp_2_options", "wp_2_posts", "wp_2_postmeta", "wpx_posts", "WP_posts", "orders"}
	want := []string{"wp_options", "wp_posts", "wp_tide_options", "wp_2_options", "wp_2_posts", "wp_2_postmeta"}
	if got := w.Owns(all); !slices.Equal(got, want) {
		t.Errorf("got %v\nwant %v", got, want)
	}
}

func TestWordPressHeaders(t *testing.T) {
	w := &wordpressSite{}
	for _, c := range []struct {
		name   string
		folder memory
		want   Header
		err    error
	}{
		{"theme", memory{"style.css": "/*\r\nTheme Name: Harbourlight\r\nVersion: 2.4.1\r\nTemplate: quay\r\nRequires PHP: 7.4\r\nText Domain: harbour\r\nRequires Plugins: tidetable, enquiries,\r\n*/"},
			Header{Kind: Theme, Name: "Harbourlight", Version: "2.4.1", Parent: "quay", RequiresPHP: "7.4", TextDomain: "harbour", RequiresPlugins: []string{"tidetable", "enquiries"}}, nil},
		{"plugin", memory{"a.php": "<?php // nothing", "tide.php": "<?php\n/**\n * Plugin Name: Tidetable\n * Version: 1.3 */\n", "style.css": "body {}"},
			Header{Kind: Plugin, Name: "Tidetable", Version: "1.3", Alone: "tide.php"}, nil},
		{"on the first line", memory{"x.php": "<?php /* Plugin Name: Tidetable */ ?>"}, Header{Kind: Plugin, Name: "Tidetable", Alone: "x.php"}, nil},
		{"in place of a part of WordPress", memory{"db.php": "<?php // Version: 2.0\n"}, Header{Kind: DropIn, Version: "2.0", Alone: "db.php"}, nil},
		{"a plugin that is called like one", memory{"maintenance.php": "<?php /* Plugin Name: Quiet hours */ ?>"}, Header{Kind: Plugin, Name: "Quiet hours", Alone: "maintenance.php"}, nil},
		{"a plugin that has such a file, too", memory{"db.php": "<?php\n", "x.php": "<?php /* Plugin Name: Tidetable */ ?>"}, Header{Kind: Plugin, Name: "Tidetable", Alone: "x.php"}, nil},
		{"a language pack", memory{"tidetable-de_DE.po": "msgid \"\"\nmsgstr \"\"\n\"PO-Revision-Date: 2026-05-01 01:30:00+0200\\n\"\n", "tidetable-de_DE-0123456789abcdef0123456789abcdef.json": "{}"},
			Header{Kind: Language, Name: "tidetable-de_DE", Version: "2026.04.30.2330", Alone: "tidetable-de_DE"}, nil},
		{"of WordPress itself, compiled", memory{"de_DE_formal.mo": compiled("X: y\nPO-Revision-Date: 2026-05-01 10:00:00+0000\n"), "admin-de_DE_formal.l10n.php": "<?php\nreturn ['po-revision-date'=>'2026-05-01 11:00:00+0000'];"},
			Header{Kind: Language, Name: "de_DE_formal", Version: "2026.05.01.1100", Alone: "de_DE_formal"}, nil},
		{"compiled and cut off", memory{"de_DE.mo": compiled("PO-Revision-Date: 2026-05-01 10:00:00+0000\n")[:30]}, Header{Kind: Language, Name: "de_DE", Alone: "de_DE"}, nil},
		{"two language packs", memory{"tidetable-de_DE.po": "", "tidetable-fr_FR.po": ""}, Header{}, ErrNoHeader},
		{"too far down", memory{"x.php": "<?php\n" + strings.Repeat("/", 9000) + "\n/* Plugin Name: Late */"}, Header{}, ErrNoHeader},
		{"none", memory{"readme.txt": "Theme Name: no"}, Header{}, ErrNoHeader},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := w.ReadHeader(c.folder)
			if !reflect.DeepEqual(got, c.want) || !errors.Is(err, c.err) {
				t.Errorf("%+v %v", got, err)
			}
		})
	}
}

// compiled makes a compiled translation that says something of itself, and translates nothing else.
func compiled(says string) string {
	words := []uint32{0x950412de, 0, 1, 28, 36, 0, 0, 0, 44, uint32(len(says)), 45}
	var out bytes.Buffer
	for _, word := range words {
		_ = binary.Write(&out, binary.LittleEndian, word) // into memory
	}
	return out.String() + "\x00" + says
}

// Files of language packs are told apart by what they translate, and for whom.
func TestLanguageFiles(t *testing.T) {
	for file, want := range map[string]string{
		"de_DE.mo": "de_DE", "admin-network-de_DE.po": "de_DE", "continents-cities-pt_PT_ao90.l10n.php": "pt_PT_ao90", "ja.po": "ja",
		"tide-table-de_CH_informal.po": "tide-table-de_CH_informal", "tidetable-de_DE-0123456789abcdef0123456789abcdef.json": "tidetable-de_DE",
		"de_DE-0123456789abcdef0123456789abcdef.json": "de_DE", "index.php": "", "tidetable.pot": "", "tidetable-de_DE.txt": "", "readme.po.bak": "", "": "",
	} {
		if got := languageOf(file); got != want {
			t.Errorf("%s: %q, want %q", file, got, want)
		}
	}
}

func TestRewrittenByItself(t *testing.T) {
	w := &wordpressSite{prefix: "of_"}
	options := database.Table{Name: "of_options", Columns: []database.Column{{Name: "option_id"}, {Name: "option_name"}, {Name: "option_value"}}}
	for name, want := range map[string]bool{"cron": true, "_transient_x": true, "_site_transient_update_themes": true, "blogname": false, "transient_x": false, "theme_mods_x": false} {
		row := database.Row{database.IntegerValue(1), {Type: database.Bytes, Data: []byte(name)}, {Type: database.Null}}
		if got := w.RewrittenByItself(options, row); got != want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

func TestWordPressObstacles(t *testing.T) {
	root := t.TempDir()
	w := wordpressAt(t, root, `<?php define('MULTISITE', true); $table_prefix='of_';`)
	for _, name := range []string{"db.php", "object-cache.php"} {
		if err := os.WriteFile(root+"/wp-content/"+name, nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(root+"/.maintenance", nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if got := w.Obstacles(t.Context(), nil); len(got) != 2 || !strings.Contains(got[0], "multisite") || !strings.Contains(got[1], "db.php") {
		t.Errorf("obstacles: %q", got)
	}
	if got := w.Busy(t.Context(), nil); len(got) != 1 || !strings.Contains(got[0], ".maintenance") {
		t.Errorf("busy: %q", got)
	}
	again, err := WordPress{}.Open(t.Context(), filestest.Whole(t), root, "")
	if err != nil || again.Layout().ObjectCache != root+"/wp-content/object-cache.php" {
		t.Errorf("the object cache was not seen: %v", err)
	}
}
