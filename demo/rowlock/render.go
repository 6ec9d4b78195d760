package rowlock

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"text/template/parse"

	"github.com/pelletier/go-toml/v2"
)

// View is what a theme's templates see.
type View struct {
	Site    string
	Title   string
	Body    template.HTML
	Posted  string
	Menu    []MenuLink
	Notices []Notice
	Latest  []Notice
}

// MenuLink is one entry of the main menu.
type MenuLink struct{ Label, Path string }

// Notice is one entry of the list of notices.
type Notice struct{ Slug, Title, Posted, Summary string }

// page is a page's row, before its blocks are filled in.
type page struct {
	view     View
	template string
	body     string
	status   int
}

func (s *Server) render(ctx context.Context, clean string) (int, []byte, error) {
	p, err := s.load(ctx, clean)
	if err != nil {
		return 0, nil, err
	}
	if p.view.Body, err = s.fillBlocks(ctx, p.body); err != nil {
		return 0, nil, err
	}
	folders, err := s.themeFolders(ctx)
	if err != nil {
		return 0, nil, err
	}
	set := template.New("").Funcs(s.themeFuncs(ctx, folders))
	if err := parseWithParts(set, folders, p.template, map[string]bool{}); err != nil {
		return 0, nil, err
	}
	var out bytes.Buffer
	if err := set.ExecuteTemplate(&out, p.template, p.view); err != nil {
		return 0, nil, fmt.Errorf("render %s: %w", p.template, err)
	}
	return p.status, out.Bytes(), nil
}

func (s *Server) load(ctx context.Context, clean string) (page, error) {
	var p page
	var err error
	if p.view.Site, err = s.setting(ctx, "site_name"); err != nil {
		return p, err
	}
	if p.view.Menu, err = s.menu(ctx); err != nil {
		return p, err
	}
	if p.view.Notices, err = s.notices(ctx); err != nil {
		return p, err
	}
	p.view.Latest = p.view.Notices[:min(3, len(p.view.Notices))]
	p.status = http.StatusOK
	slug := strings.Trim(clean, "/")
	notice, isNotice := strings.CutPrefix(slug, "notices/")
	switch {
	case slug == "notices":
		p.view.Title, p.template = "Notices", "notices.html"
	case slug == "sign-in":
		p.view.Title, p.template = "Sign in", "sign-in.html"
	case isNotice:
		p.template = "notice.html"
		err = s.db.QueryRowContext(ctx, `SELECT title, posted, body FROM notices WHERE slug = ?`, notice).Scan(&p.view.Title, &p.view.Posted, &p.body)
	default:
		err = s.db.QueryRowContext(ctx, `SELECT title, template || '.html', body FROM pages WHERE slug = ?`, slug).Scan(&p.view.Title, &p.template, &p.body)
	}
	if errors.Is(err, sql.ErrNoRows) {
		p.status, p.view.Title, p.template, err = http.StatusNotFound, "No such page", "missing.html", nil
	}
	return p, err
}

func (s *Server) setting(ctx context.Context, name string) (string, error) {
	var value string
	err := s.db.QueryRowContext(ctx, `SELECT value FROM settings WHERE name = ?`, name).Scan(&value)
	if err != nil {
		return "", fmt.Errorf("read the setting %s: %w", name, err)
	}
	return value, nil
}

func (s *Server) menu(ctx context.Context) ([]MenuLink, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT label, path FROM menu ORDER BY position`)
	if err != nil {
		return nil, fmt.Errorf("read the menu: %w", err)
	}
	defer rows.Close()
	var links []MenuLink
	for rows.Next() {
		var link MenuLink
		if err := rows.Scan(&link.Label, &link.Path); err != nil {
			return nil, err
		}
		links = append(links, link)
	}
	return links, rows.Err()
}

func (s *Server) notices(ctx context.Context) ([]Notice, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT slug, title, posted, summary FROM notices ORDER BY posted DESC`)
	if err != nil {
		return nil, fmt.Errorf("read the notices: %w", err)
	}
	defer rows.Close()
	var notices []Notice
	for rows.Next() {
		var n Notice
		if err := rows.Scan(&n.Slug, &n.Title, &n.Posted, &n.Summary); err != nil {
			return nil, err
		}
		notices = append(notices, n)
	}
	return notices, rows.Err()
}

// themeFolders lists the folders a template is looked for in: the active theme,
// then its parent.
func (s *Server) themeFolders(ctx context.Context) ([]string, error) {
	active, err := s.setting(ctx, "theme")
	if err != nil {
		return nil, err
	}
	own := path.Join("themes", active)
	header, err := s.header(path.Join(own, "theme.toml"))
	if err != nil {
		return nil, err
	}
	folders := []string{filepath.Join(s.root, "themes", active)}
	if header.Parent != "" {
		if _, err := s.header(path.Join("themes", header.Parent, "theme.toml")); err != nil {
			return nil, err
		}
		folders = append(folders, filepath.Join(s.root, "themes", header.Parent))
	}
	return folders, nil
}

func (s *Server) header(name string) (Header, error) {
	var header Header
	text, err := os.ReadFile(filepath.Join(s.root, filepath.FromSlash(name)))
	if err != nil {
		return header, err
	}
	if err := toml.Unmarshal(text, &header); err != nil {
		return header, fmt.Errorf("read %s: %w", name, err)
	}
	return header, nil
}

func (s *Server) themeFuncs(ctx context.Context, folders []string) template.FuncMap {
	address := func(folder, name string) (string, error) {
		rel := path.Join("themes", filepath.Base(folder))
		header, err := s.header(path.Join(rel, "theme.toml"))
		return "/" + path.Join(rel, name) + "?ver=" + header.Version, err
	}
	return template.FuncMap{
		"asset":    func(name string) (string, error) { return address(folders[len(folders)-1], name) },
		"own":      func(name string) (string, error) { return address(folders[0], name) },
		"block_of": func(name string) (template.HTML, error) { return s.block(ctx, name) },
	}
}

// parseWithParts parses a template and every part it names, each from the first
// folder that has it. A part that is in no folder is an error.
func parseWithParts(set *template.Template, folders []string, name string, seen map[string]bool) error {
	if seen[name] {
		return nil
	}
	seen[name] = true
	text, err := firstOf(folders, name)
	if err != nil {
		return err
	}
	parsed, err := set.New(name).Parse(text)
	if err != nil {
		return fmt.Errorf("parse %s: %w", name, err)
	}
	if parsed.Tree == nil {
		return nil
	}
	for _, part := range partsOf(parsed.Tree.Root) {
		if err := parseWithParts(set, folders, part, seen); err != nil {
			return err
		}
	}
	return nil
}

func firstOf(folders []string, name string) (string, error) {
	for _, folder := range folders {
		text, err := os.ReadFile(filepath.Join(folder, filepath.FromSlash(name)))
		if err == nil {
			return string(text), nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
	}
	return "", fmt.Errorf("the theme has no file %s", name)
}

// partsOf lists the templates that a parsed template names.
func partsOf(list *parse.ListNode) []string {
	if list == nil {
		return nil
	}
	var names []string
	for _, node := range list.Nodes {
		switch n := node.(type) {
		case *parse.TemplateNode:
			names = append(names, n.Name)
		case *parse.IfNode:
			names = append(names, partsOf(n.List)...)
			names = append(names, partsOf(n.ElseList)...)
		case *parse.RangeNode:
			names = append(names, partsOf(n.List)...)
			names = append(names, partsOf(n.ElseList)...)
		case *parse.WithNode:
			names = append(names, partsOf(n.List)...)
			names = append(names, partsOf(n.ElseList)...)
		}
	}
	return names
}

var blockMark = regexp.MustCompile(`\[\[([a-z0-9-]+/[a-z0-9-]+)\]\]`)

// fillBlocks puts the plugins' blocks where a page's text names them.
func (s *Server) fillBlocks(ctx context.Context, body string) (template.HTML, error) {
	var failed error
	filled := blockMark.ReplaceAllStringFunc(body, func(mark string) string {
		html, err := s.block(ctx, strings.Trim(mark, "[]"))
		failed = errors.Join(failed, err)
		return string(html)
	})
	return template.HTML(filled), failed
}

// block renders PLUGIN/BLOCK. A plugin that is inactive or gone leaves no trace,
// as its pages would on a real site.
func (s *Server) block(ctx context.Context, name string) (template.HTML, error) {
	folder, block, _ := strings.Cut(name, "/")
	var active bool
	err := s.db.QueryRowContext(ctx, `SELECT active FROM plugins WHERE folder = ?`, folder).Scan(&active)
	if errors.Is(err, sql.ErrNoRows) || (err == nil && !active) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	if _, err := s.header(path.Join("plugins", folder, "plugin.toml")); errors.Is(err, fs.ErrNotExist) {
		return "", nil
	} else if err != nil {
		return "", err
	}
	text, err := os.ReadFile(filepath.Join(s.root, "plugins", folder, "blocks", block+".html"))
	if err != nil {
		return "", fmt.Errorf("the plugin %s: %w", folder, err)
	}
	set, err := template.New(block).Funcs(template.FuncMap{"query": s.query(ctx)}).Parse(string(text))
	if err != nil {
		return "", fmt.Errorf("the plugin %s: %w", folder, err)
	}
	var out bytes.Buffer
	if err := set.Execute(&out, nil); err != nil {
		return "", fmt.Errorf("the plugin %s: %w", folder, err)
	}
	return template.HTML(out.String()), nil
}

// query lets a block read its own tables; NULL is shown as nothing.
func (s *Server) query(ctx context.Context) func(string) ([]map[string]string, error) {
	return func(statement string) ([]map[string]string, error) {
		rows, err := s.db.QueryContext(ctx, statement)
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		columns, err := rows.Columns()
		if err != nil {
			return nil, err
		}
		var found []map[string]string
		for rows.Next() {
			cells := make([]sql.NullString, len(columns))
			targets := make([]any, len(columns))
			for i := range cells {
				targets[i] = &cells[i]
			}
			if err := rows.Scan(targets...); err != nil {
				return nil, err
			}
			row := map[string]string{}
			for i, column := range columns {
				row[column] = cells[i].String
			}
			found = append(found, row)
		}
		return found, rows.Err()
	}
}
