// Package rowlock is a small, honest content management system. It reads its
// theme, child theme and plugins from disk and its pages from SQLite at every
// request, so that a bad package truly breaks it and putting the old one back
// truly mends it.
//
// A Rowlock site is a folder:
//
//	rowlock.toml        the address it answers at and where its database is
//	door.toml           whether it answers at all
//	system/version.txt  the version of Rowlock
//	system/tables/      NNN-*.sql, the steps of its own tables
//	themes/NAME/        theme.toml, templates (*.html), style sheets; a child
//	                    theme names its parent and overrides files of the same path
//	plugins/NAME/       plugin.toml, blocks/*.html, migrations/NNN-*.sql
//	uploads/            pictures
//	cache/              rendered pages, for visitors without a query or cookie
//	data/               the SQLite database
package rowlock

import (
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/pelletier/go-toml/v2"
	_ "modernc.org/sqlite" // the driver behind sql.Open("sqlite", ...)
)

// Settings is what rowlock.toml holds.
type Settings struct {
	Address  string `toml:"address"`  // where visitors reach the site
	Database string `toml:"database"` // path of the SQLite file, below the root
}

// Header is what theme.toml and plugin.toml hold.
type Header struct {
	Name            string `toml:"name"`
	Version         string `toml:"version"`
	Author          string `toml:"author"`
	Parent          string `toml:"parent"`
	RequiresRowlock string `toml:"requires_rowlock"`
}

// Server answers for one Rowlock site.
type Server struct {
	root string
	db   *sql.DB
	log  *slog.Logger

	migrating sync.Mutex // one visitor runs the migrations, the others wait
}

// Open reads rowlock.toml below root and opens the database it names.
// Close the server when done.
func Open(root string, log *slog.Logger) (*Server, error) {
	var settings Settings
	text, err := os.ReadFile(filepath.Join(root, "rowlock.toml"))
	if err != nil {
		return nil, fmt.Errorf("read the settings of Rowlock: %w", err)
	}
	if err := toml.Unmarshal(text, &settings); err != nil {
		return nil, fmt.Errorf("read rowlock.toml: %w", err)
	}
	db, err := OpenDatabase(filepath.Join(root, filepath.FromSlash(settings.Database)))
	if err != nil {
		return nil, err
	}
	return &Server{root: root, db: db, log: log}, nil
}

// OpenDatabase opens Rowlock's SQLite file so that readers and one writer get
// along: a write-ahead log, and up to ten seconds of patience.
func OpenDatabase(file string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file:"+filepath.ToSlash(file)+"?_pragma=journal_mode(WAL)&_pragma=busy_timeout(10000)")
	if err != nil {
		return nil, fmt.Errorf("open the database %s: %w", file, err)
	}
	return db, nil
}

// Close lets go of the database.
func (s *Server) Close() error { return s.db.Close() }

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("X-Powered-By", "Rowlock "+strings.TrimSpace(s.read("system/version.txt")))
	clean := path.Clean("/" + r.URL.Path)
	switch {
	case !s.isOpen():
		w.Header().Set("Retry-After", "5")
		http.Error(w, "This site is being updated. It is back in a moment.", http.StatusServiceUnavailable)
	case clean == "/system/upgrade":
		s.serveUpgrade(w, r)
	case isAsset(clean):
		s.serveAsset(w, r, clean)
	case clean == "/sitemap.xml":
		s.serveSitemap(w, r)
	case r.Method == http.MethodPost:
		s.servePost(w, r, clean)
	case r.Method != http.MethodGet && r.Method != http.MethodHead:
		w.Header().Set("Allow", "GET, HEAD, POST")
		http.Error(w, "method not allowed", http.StatusMethodNotAllowed)
	default:
		s.servePage(w, r, clean)
	}
}

// isOpen looks at the door. A site without one is open.
func (s *Server) isOpen() bool {
	door := struct {
		Open bool `toml:"open"`
	}{Open: true}
	return toml.Unmarshal([]byte(s.read("door.toml")), &door) == nil && door.Open
}

// isAsset tells which paths are files for browsers: never templates, settings,
// migrations or the database.
func isAsset(clean string) bool {
	if strings.HasPrefix(clean, "/uploads/") {
		return true
	}
	if !strings.HasPrefix(clean, "/themes/") && !strings.HasPrefix(clean, "/plugins/") {
		return false
	}
	switch path.Ext(clean) {
	case ".css", ".js", ".svg", ".png", ".jpg", ".woff2", ".md":
		return true
	}
	return false
}

func (s *Server) serveAsset(w http.ResponseWriter, r *http.Request, clean string) {
	file := filepath.Join(s.root, filepath.FromSlash(clean))
	if info, err := os.Stat(file); err != nil || !info.Mode().IsRegular() {
		http.NotFound(w, r)
		return
	}
	http.ServeFile(w, r, file)
}

func (s *Server) servePage(w http.ResponseWriter, r *http.Request, clean string) {
	cached := s.cacheFile(clean)
	cacheable := r.URL.RawQuery == "" && r.Header.Get("Cookie") == ""
	if cacheable && r.Header.Get("Cache-Control") != "no-cache" {
		if body, err := freshPage(cached); err == nil {
			w.Header().Set("X-Rowlock-Cache", "kept")
			writeHTML(w, http.StatusOK, body)
			return
		}
	}
	if err := s.Migrate(r.Context()); err != nil {
		s.sorry(w, clean, err)
		return
	}
	status, body, err := s.render(r.Context(), clean)
	if err != nil {
		s.sorry(w, clean, err)
		return
	}
	if cacheable && status == http.StatusOK {
		s.keepPage(cached, body)
	}
	w.Header().Set("X-Rowlock-Cache", "made")
	writeHTML(w, status, body)
}

// sorry is what a production site shows: an apology, and the reason in the log only.
func (s *Server) sorry(w http.ResponseWriter, clean string, err error) {
	s.log.Error("page failed", "path", clean, "error", err)
	writeHTML(w, http.StatusInternalServerError, []byte(`<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>Rowlock</title></head>
<body><h1>Rowlock could not show this page</h1><p>The reason is in the site's log. Please come back later.</p></body></html>
`))
}

func writeHTML(w http.ResponseWriter, status int, body []byte) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(body) // a visitor who has gone is no fault of the site
}

// pageLife is how long a kept page is shown before it is made anew.
const pageLife = 10 * time.Minute

func (s *Server) cacheFile(clean string) string {
	name := strings.ReplaceAll(strings.Trim(clean, "/"), "/", "__")
	return filepath.Join(s.root, "cache", "pages", name+".html")
}

func freshPage(file string) ([]byte, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if time.Since(info.ModTime()) > pageLife {
		return nil, errors.New("the kept page is too old")
	}
	return os.ReadFile(file)
}

// keepPage stores a rendered page; a cache that cannot be written costs speed only.
func (s *Server) keepPage(file string, body []byte) {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		s.log.Warn("cannot keep pages", "error", err)
		return
	}
	part, err := os.CreateTemp(filepath.Dir(file), ".part-*")
	if err != nil {
		s.log.Warn("cannot keep a page", "error", err)
		return
	}
	_, werr := part.Write(body)
	if err := errors.Join(werr, part.Close(), os.Rename(part.Name(), file)); err != nil {
		s.log.Warn("cannot keep a page", "error", err)
	}
	if _, err := s.db.Exec(`UPDATE settings SET value = ? WHERE name = 'last_sweep'`, time.Now().UnixNano()); err != nil {
		s.log.Warn("cannot note the sweep", "error", err)
	}
}

func (s *Server) servePost(w http.ResponseWriter, r *http.Request, clean string) {
	if err := r.ParseForm(); err != nil {
		http.Error(w, "the form could not be read", http.StatusBadRequest)
		return
	}
	switch clean {
	case "/contact":
		_, err := s.db.ExecContext(r.Context(), `INSERT INTO enquiries (sender, message, received) VALUES (?, ?, ?)`,
			r.PostForm.Get("sender"), r.PostForm.Get("message"), time.Now().UTC().Format(time.DateTime))
		if err != nil {
			s.sorry(w, clean, err)
			return
		}
		http.Redirect(w, r, "/contact", http.StatusSeeOther)
	case "/sign-in":
		http.Error(w, "the name or the password is wrong", http.StatusForbidden)
	default:
		http.NotFound(w, r)
	}
}

func (s *Server) serveSitemap(w http.ResponseWriter, r *http.Request) {
	rows, err := s.db.QueryContext(r.Context(), `SELECT '/' || slug FROM pages UNION ALL SELECT '/notices' UNION ALL SELECT '/notices/' || slug FROM notices`)
	if err != nil {
		s.sorry(w, "/sitemap.xml", err)
		return
	}
	defer rows.Close()
	w.Header().Set("Content-Type", "application/xml")
	_, _ = io.WriteString(w, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"+`<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">`+"\n")
	for rows.Next() {
		var where string
		if err := rows.Scan(&where); err != nil {
			s.log.Error("sitemap failed", "error", err)
			return
		}
		_, _ = fmt.Fprintf(w, "<url><loc>http://%s%s</loc></url>\n", r.Host, where)
	}
	_, _ = io.WriteString(w, "</urlset>\n")
}

func (s *Server) read(name string) string {
	text, err := os.ReadFile(filepath.Join(s.root, filepath.FromSlash(name)))
	if err != nil {
		return ""
	}
	return string(text)
}
