package testenv

import (
	"bytes"
	"crypto/x509"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"wetland/internal/ports"
)

//go:embed install.php
var installScript []byte

// Site is a running WordPress.
type Site struct {
	*Account
	Root    string // folder of the site
	Address string // ends in a slash
	Log     string // what PHP says
	Pool    string // the socket of php-fpm; "" without
	php     []string
}

// WordPress lays out a WordPress site in a folder of the test, installs it into a
// database of its own, fills it with the ferry's pages, and serves it with PHP's
// own web server.
func WordPress(t testing.TB) *Site {
	t.Helper()
	return WordPressOn(t, OwnMariaDB)
}

// WordPressOn is WordPress with its tables on this kind of server.
func WordPressOn(t testing.TB, kind Kind) *Site {
	t.Helper()
	s, port := layOutWordPress(t, kind)
	s.serve(t, port)
	return s
}

// WordPressIn is WordPress below a folder.
func WordPressIn(t testing.TB, dir string) *Site {
	t.Helper()
	s, port := layOutRelease(t, dir, OwnMariaDB, "wordpress", []string{"php"})
	s.serve(t, port)
	return s
}

// WordPressOf is WordPress as another release of Debian has it, on this machine's PHP.
func WordPressOf(t testing.TB, release string) *Site {
	t.Helper()
	s, port := layOutRelease(t, t.TempDir(), OwnMariaDB, release, []string{"php"})
	s.serve(t, port)
	return s
}

// NewestWordPress is WordPress with the newest release that Debian has of it, on a newer PHP and a
// newer MariaDB than this machine's.
func NewestWordPress(t testing.TB) *Site {
	t.Helper()
	php := newerPHP(t)
	s, port := layOutRelease(t, t.TempDir(), NewerMariaDB, "wordpress-new", php)
	s.serve(t, port)
	return s
}

// newerPHP is the command of the PHP of another Debian release.
func newerPHP(t testing.TB) []string {
	t.Helper()
	folder := filepath.Join(os.Getenv("WETLAND_TEST_SERVERS"), "php")
	programs, err1 := filepath.Glob(filepath.Join(folder, "usr/bin/php[0-9]*.[0-9]"))
	extensions, err2 := filepath.Glob(filepath.Join(folder, "usr/lib/php/[0-9]*/mysqli.so"))
	if errors.Join(err1, err2) != nil || len(programs) == 0 || len(extensions) == 0 {
		Missing(t, "a newer PHP (WETLAND_TEST_SERVERS)")
	}
	program, err := filepath.Rel(folder, programs[0])
	if err != nil {
		t.Fatal(err)
	}
	command := []string{filepath.Join(folder, "run"), program, "-n", "-d", "extension_dir=" + filepath.Dir(extensions[0]),
		"-d", "zend_extension=opcache", "-d", "opcache.enable_cli=1", "-d", "opcache.revalidate_freq=0", "-d", "opcache.file_update_protection=0"}
	for _, extension := range []string{"mysqlnd", "mysqli", "mbstring", "ctype", "dom", "simplexml", "xml", "xmlreader", "tokenizer", "iconv", "fileinfo", "phar"} {
		if _, err := os.Stat(filepath.Join(filepath.Dir(extensions[0]), extension+".so")); err == nil {
			command = append(command, "-d", "extension="+extension)
		}
	}
	return command
}

// SubfolderWordPress is WordPress below a folder of its host, over HTTPS, with its content in a
// folder of another name. certificates trusts the server.
func SubfolderWordPress(t testing.TB) (s *Site, certificates *x509.CertPool) {
	t.Helper()
	s, port := layOutWordPress(t, OwnMariaDB)
	public := s.Root
	moved := public + "-moved"
	if err := errors.Join(os.Rename(public, moved), os.Mkdir(public, 0o755), os.Rename(moved, public+"/ferry"), os.Rename(public+"/ferry/wp-content", public+"/ferry/stuff")); err != nil {
		t.Fatal(err)
	}
	behind := &url.URL{Scheme: "http", Host: fmt.Sprintf("127.0.0.1:%d", port)}
	front := httptest.NewTLSServer(&httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(behind)
		r.Out.Host = r.In.Host
	}})
	t.Cleanup(front.Close)
	s.Address = front.URL + "/ferry/"
	s.Root = public + "/ferry"
	s.Write(t, "wp-config.php", s.config(fmt.Sprintf("$_SERVER['HTTPS'] = 'on';\ndefine('WP_HOME', '%[1]s');\ndefine('WP_SITEURL', WP_HOME);\ndefine('WP_CONTENT_DIR', __DIR__ . '/stuff');\ndefine('WP_CONTENT_URL', WP_HOME . '/stuff');\n", strings.TrimSuffix(s.Address, "/"))))
	certificates = x509.NewCertPool()
	certificates.AddCert(front.Certificate())
	s.start(t, port, public)
	return s, certificates
}

// OwnDirectoryWordPress is WordPress in a directory of its own, with its content beside it and
// its settings above it.
func OwnDirectoryWordPress(t testing.TB) *Site {
	t.Helper()
	s, port := layOutWordPress(t, OwnMariaDB)
	core := filepath.Join(filepath.Dir(s.Root), "public", "wp")
	if err := errors.Join(os.Mkdir(filepath.Dir(core), 0o755), os.Rename(s.Root, core)); err != nil {
		t.Fatal(err)
	}
	s.Root = filepath.Dir(core)
	if err := errors.Join(os.Rename(core+"/wp-content", s.Root+"/content"), os.Remove(core+"/wp-config.php"), os.Remove(core+"/index.php")); err != nil {
		t.Fatal(err)
	}
	s.Write(t, "index.php", "<?php\ndefine( 'WP_USE_THEMES', true );\nrequire __DIR__ . '/wp/wp-blog-header.php';\n")
	s.Write(t, "wp-config.php", s.config(fmt.Sprintf("define('WP_HOME', '%[1]s');\ndefine('WP_SITEURL', WP_HOME . '/wp');\ndefine('WP_CONTENT_DIR', __DIR__ . '/content');\ndefine('WP_CONTENT_URL', WP_HOME . '/content');\n", strings.TrimSuffix(s.Address, "/"))))
	s.serve(t, port)
	return s
}

// layOutWordPress does all of it but serving.
func layOutWordPress(t testing.TB, kind Kind) (*Site, int) {
	t.Helper()
	return layOutRelease(t, t.TempDir(), kind, "wordpress", []string{"php"})
}

// layOutRelease does so below a folder, with the WordPress of this name among the tests' servers.
func layOutRelease(t testing.TB, dir string, kind Kind, release string, php []string) (*Site, int) {
	t.Helper()
	source := filepath.Join(os.Getenv("WETLAND_TEST_SERVERS"), release)
	if _, err := os.Stat(filepath.Join(source, "wp-includes/version.php")); err != nil {
		Missing(t, release+" (WETLAND_TEST_SERVERS)")
	}
	if _, err := exec.LookPath(php[0]); err != nil {
		Missing(t, "php")
	}
	s := &Site{Account: Start(t, kind).Database(t), Root: filepath.Join(dir, "www"), Log: filepath.Join(dir, "php.log"), php: php}
	if out, err := exec.Command("cp", "-a", source, s.Root).CombinedOutput(); err != nil {
		t.Fatalf("copy WordPress: %v\n%s", err, out)
	}
	port, err := ports.Free()
	if err != nil {
		t.Fatal(err)
	}
	s.Address = fmt.Sprintf("http://127.0.0.1:%d/", port)
	more := ""
	if release == "wordpress-bullseye" {
		more = "mysqli_report(MYSQLI_REPORT_OFF); // it is older than PHP 8.1, which throws otherwise\n"
	}
	s.Write(t, "wp-config.php", s.config(more))
	s.PHP(t, installScript, "WETLAND_ADDRESS="+strings.TrimSuffix(s.Address, "/"))
	return s, port
}

// config is written as people write it: mixed quotes, spaces, comments. more are further lines.
func (s *Site) config(more string) string {
	return fmt.Sprintf(`<?php
/** The settings of the ferry's site. define('DB_NAME', 'not_this_one'); */
define( 'DB_NAME', "%s" );  // the database
define('DB_USER','%s');
# define('DB_PASSWORD', 'nor this');
define( "DB_PASSWORD" , '%s' );
define('DB_HOST', '127.0.0.1:%d');
define('DB_CHARSET', 'utf8mb4');
define('DB_COLLATE', '');
define('AUTH_KEY', 'made up'); define('SECURE_AUTH_KEY', 'made up too');
$table_prefix  = 'of_';
define('WP_DEBUG', false);
define('AUTOMATIC_UPDATER_DISABLED', true);
define('WP_HTTP_BLOCK_EXTERNAL', true);
define('DISABLE_WP_CRON', true);
%sif ( ! defined( 'ABSPATH' ) ) {
	define( 'ABSPATH', __DIR__ . '/' );
}
require_once ABSPATH . 'wp-settings.php';
`, s.Name, s.User, strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s.Password), s.Port, more)
}

// Write writes a file below the site's root.
func (s *Site) Write(t testing.TB, name, text string) {
	t.Helper()
	file := filepath.Join(s.Root, name)
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// PHP runs a script in the site's root, read from standard input.
func (s *Site) PHP(t testing.TB, script []byte, environment ...string) string {
	t.Helper()
	command := exec.Command(s.php[0], append(slices.Clone(s.php[1:]), "-d", "display_errors=stderr", "-d", "error_reporting=E_ALL & ~E_DEPRECATED & ~E_WARNING & ~E_NOTICE")...)
	command.Dir, command.Stdin = s.Root, bytes.NewReader(script)
	command.Env = append(os.Environ(), environment...)
	out, err := command.CombinedOutput()
	if err != nil {
		t.Fatalf("php: %v\n%s", err, out)
	}
	return string(out)
}

func (s *Site) serve(t testing.TB, port int) {
	t.Helper()
	s.start(t, port, s.Root)
	if err := Until(func() error { _, err := s.Get("/"); return err }); err != nil {
		t.Fatal(err)
	}
}

// start starts PHP's own web server on a folder.
func (s *Site) start(t testing.TB, port int, folder string) {
	t.Helper()
	log, err := os.Create(s.Log)
	if err != nil {
		t.Fatal(err)
	}
	command := exec.Command(s.php[0], append(slices.Clone(s.php[1:]), "-d", "display_errors=0", "-d", "log_errors=1", "-S", fmt.Sprintf("127.0.0.1:%d", port), "-t", folder)...)
	command.Env = append(os.Environ(), "PHP_CLI_SERVER_WORKERS=4")
	command.Stdout, command.Stderr = log, log
	ownGroup(command)
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		killGroup(command)
		_ = command.Wait()
		_ = log.Close()
	})
	err = Until(func() error {
		answer, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			_ = answer.Close()
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// Get returns a page's text; an answer other than 200 is an error.
func (s *Site) Get(path string) (string, error) {
	response, err := http.Get(strings.TrimSuffix(s.Address, "/") + path)
	if err != nil {
		return "", err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err == nil && response.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s answers %d", path, response.StatusCode)
	}
	return string(text), err
}
