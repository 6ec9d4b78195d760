package cms

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"

	"wetland/core/database"
	"wetland/core/files"
)

// Sample is one page of a kind, as the site's own tables know it.
type Sample struct {
	Path string // below the site's address; the site may lead on from it
	Kind string // in words, such as "a post" or "the archive of a month"
	// Templates are the files of a theme that may make it, the most special first.
	Templates []string
}

// notPages are kinds of posts that WordPress keeps for itself (wp-includes/post.php,
// create_initial_post_types).
var notPages = []string{"revision", "nav_menu_item", "custom_css", "customize_changeset", "oembed_cache", "user_request", "wp_block", "wp_template", "wp_template_part", "wp_global_styles", "wp_navigation", "wp_font_family", "wp_font_face"}

// mostTypes bounds how many kinds of posts and of archives are looked at.
const mostTypes = 12

// wordTooShort is the length, in letters, up to which a word finds everything.
const wordTooShort = 4

// together has each look for its pages at the same time, and returns them in the order of those.
func together(ctx context.Context, db database.Database, each ...func(q *query) []Sample) ([]Sample, error) {
	found := make([][]Sample, len(each))
	group, ctx := errgroup.WithContext(ctx)
	for i, look := range each {
		group.Go(func() error {
			q := &query{ctx: ctx, db: db}
			found[i] = look(q)
			return q.err
		})
	}
	err := group.Wait()
	return slices.Concat(found...), err
}

// query collects rows until one statement fails.
type query struct {
	ctx context.Context
	db  database.Database
	err error
}

func (q *query) rows(statement string, args ...any) []database.Row {
	if q.err != nil {
		return nil
	}
	rows, err := q.db.Query(q.ctx, statement, args...)
	q.err = err
	return rows
}

// one returns the cells of the first row, as many as are wanted; nil: there is none.
func (q *query) one(statement string, args ...any) database.Row {
	if rows := q.rows(statement, args...); len(rows) > 0 {
		return rows[0]
	}
	return nil
}

func (w *wordpressSite) table(name string) string {
	return "`" + strings.ReplaceAll(w.prefix+name, "`", "``") + "`"
}

// Samples lists one page of each kind that this site has.
func (w *wordpressSite) Samples(ctx context.Context, db database.Database) ([]Sample, error) {
	if db == nil {
		return nil, nil
	}
	samples, err := together(ctx, db, w.posts, w.pageTemplates, w.taxonomies, w.author, w.month, w.secondPage, w.searches, w.locked, w.attachment)
	if err != nil {
		return nil, fmt.Errorf("look for a page of each kind: %w", err)
	}
	for i, sample := range samples {
		samples[i].Templates = templateFiles(sample.Templates)
	}
	return samples, nil
}

// templateFiles are the files of templates: a program, or blocks (locate_block_template in
// wp-includes/block-template.php).
func templateFiles(templates []string) (all []string) {
	for _, template := range templates {
		all = append(all, template+".php", "templates/"+template+".html")
	}
	return all
}

// posts takes the post with the most comments of each kind.
func (w *wordpressSite) posts(q *query) []Sample {
	var each []func(q *query) []Sample
	for _, row := range q.rows("SELECT DISTINCT post_type FROM " + w.table("posts") + " WHERE post_status = 'publish' ORDER BY post_type") {
		if kind := row[0].String(); !slices.Contains(notPages, kind) && len(each) < mostTypes {
			each = append(each, func(q *query) []Sample { return w.postsOf(q, kind) })
		}
	}
	if q.err != nil {
		return nil
	}
	samples, err := together(q.ctx, q.db, each...)
	q.err = err
	return samples
}

func (w *wordpressSite) postsOf(q *query, kind string) []Sample {
	most := q.one("SELECT ID, post_name FROM "+w.table("posts")+" WHERE post_status = 'publish' AND post_type = ? AND post_password = '' ORDER BY comment_count DESC, ID DESC LIMIT 1", kind)
	if most == nil {
		return nil
	}
	id, name := most[0].String(), most[1].String()
	switch kind {
	case "page":
		return []Sample{{"/?page_id=" + id, "a page", []string{"page-" + name, "page-" + id, "page", "singular", "index"}}}
	case "post":
		return []Sample{{"/?p=" + id, "a post", []string{"single-post-" + name, "single-post", "single", "singular", "index"}}}
	}
	return []Sample{
		{"/?post_type=" + kind + "&p=" + id, "one of type " + kind, []string{"single-" + kind + "-" + name, "single-" + kind, "single", "singular", "index"}},
		{"/?post_type=" + kind, "the archive of type " + kind, []string{"archive-" + kind, "archive", "index"}},
	}
}

// pageTemplates takes a page of each template that authors chose.
func (w *wordpressSite) pageTemplates(q *query) (samples []Sample) {
	rows := q.rows("SELECT m.meta_value, MAX(p.ID) FROM " + w.table("postmeta") + " m JOIN " + w.table("posts") + " p ON p.ID = m.post_id WHERE m.meta_key = '_wp_page_template' AND m.meta_value NOT IN ('', 'default') AND p.post_status = 'publish' GROUP BY m.meta_value ORDER BY m.meta_value")
	for _, row := range rows[:min(len(rows), mostTypes)] {
		template := row[0].String()
		samples = append(samples, Sample{"/?p=" + row[1].String(), "a page with the template " + template, []string{strings.TrimSuffix(template, path.Ext(template))}})
	}
	return samples
}

// taxonomies takes the largest archive of each.
func (w *wordpressSite) taxonomies(q *query) (samples []Sample) {
	rows := q.rows("SELECT x.taxonomy, t.term_id, t.slug FROM " + w.table("term_taxonomy") + " x JOIN " + w.table("terms") + " t ON t.term_id = x.term_id WHERE x.count > 0 AND x.taxonomy NOT IN ('nav_menu', 'wp_theme', 'wp_template_part_area', 'link_category', 'post_format') ORDER BY x.count DESC, x.term_taxonomy_id LIMIT 200")
	known := map[string]bool{}
	for _, row := range rows {
		taxonomy, id, slug := row[0].String(), row[1].String(), row[2].String()
		if known[taxonomy] || len(samples) >= mostTypes {
			continue
		}
		known[taxonomy] = true
		switch taxonomy {
		case "category":
			samples = append(samples, Sample{"/?cat=" + id, "the archive of a category", []string{"category-" + slug, "category-" + id, "category", "archive", "index"}})
		case "post_tag":
			samples = append(samples, Sample{"/?tag=" + slug, "the archive of a tag", []string{"tag-" + slug, "tag-" + id, "tag", "archive", "index"}})
		default:
			samples = append(samples, Sample{"/?taxonomy=" + taxonomy + "&term=" + slug, "the archive of a " + taxonomy, []string{"taxonomy-" + taxonomy + "-" + slug, "taxonomy-" + taxonomy, "taxonomy", "archive", "index"}})
		}
	}
	return samples
}

const published = " WHERE post_status = 'publish' AND post_type = 'post'"

func (w *wordpressSite) author(q *query) (samples []Sample) {
	if author := q.one("SELECT post_author FROM " + w.table("posts") + published + " AND post_author > 0 GROUP BY post_author ORDER BY COUNT(*) DESC, post_author LIMIT 1"); author != nil {
		samples = append(samples, Sample{"/?author=" + author[0].String(), "the archive of an author", []string{"author", "archive", "index"}})
	}
	return samples
}

func (w *wordpressSite) month(q *query) (samples []Sample) {
	if newest := q.one("SELECT CAST(post_date AS CHAR) FROM " + w.table("posts") + published + " ORDER BY post_date DESC, ID LIMIT 1"); newest != nil {
		if digits := strings.ReplaceAll(newest[0].String(), "-", ""); len(digits) >= 6 {
			samples = append(samples, Sample{"/?m=" + digits[:6], "the archive of a month", []string{"date", "archive", "index"}})
		}
	}
	return samples
}

func (w *wordpressSite) secondPage(q *query) (samples []Sample) {
	if posts := q.one("SELECT COUNT(*) FROM " + w.table("posts") + published); posts != nil {
		if perPage := q.one("SELECT option_value FROM " + w.table("options") + " WHERE option_name = 'posts_per_page'"); perPage != nil && number(posts[0]) > number(perPage[0]) {
			samples = append(samples, Sample{"/?paged=2", "the second page of a list", []string{"home", "index"}})
		}
	}
	return samples
}

func number(v database.Value) int {
	n, _ := strconv.Atoi(v.String()) // what is no number counts as none
	return n
}

// searches takes one that finds something, and one that does not.
func (w *wordpressSite) searches(q *query) (samples []Sample) {
	for _, row := range q.rows("SELECT post_title FROM " + w.table("posts") + " WHERE post_status = 'publish' AND post_type IN ('post', 'page') ORDER BY comment_count DESC, ID LIMIT 20") {
		if word := longestWord(row[0].String()); utf8.RuneCountInString(word) > wordTooShort {
			samples = append(samples, Sample{"/?s=" + url.QueryEscape(word), "a search", []string{"search", "index"}})
			break
		}
	}
	return append(samples, Sample{"/?s=qqxxqqxx", "a search that finds nothing", []string{"search", "index"}})
}

func (w *wordpressSite) locked(q *query) (samples []Sample) {
	if locked := q.one("SELECT ID FROM " + w.table("posts") + " WHERE post_status = 'publish' AND post_password <> '' AND post_type IN ('post', 'page') ORDER BY ID DESC LIMIT 1"); locked != nil {
		samples = append(samples, Sample{"/?p=" + locked[0].String(), "a page with a password", []string{"single", "page", "singular", "index"}})
	}
	return samples
}

func (w *wordpressSite) attachment(q *query) (samples []Sample) {
	if attached := q.one("SELECT ID FROM " + w.table("posts") + " WHERE post_type = 'attachment' ORDER BY ID DESC LIMIT 1"); attached != nil {
		samples = append(samples, Sample{"/?attachment_id=" + attached[0].String(), "an attachment", []string{"attachment", "single", "singular", "index"}})
	}
	return samples
}

// mostUses bounds how many pages are looked for that use a component.
const mostUses = 40

var (
	shortcodeNames = regexp.MustCompile(`add_shortcode\(\s*['"]([\w-]+)['"]`)
	blockNames     = regexp.MustCompile(`register_block_type(?:_from_metadata)?\(\s*['"]([\w-]+/[\w-]+)['"]`)
	blockJSONName  = regexp.MustCompile(`"name"\s*:\s*"([a-z0-9-]+/[a-z0-9-]+)"`)
)

// Bounds of what is read of a plugin to find what it puts into pages.
const (
	mostRead    = 2000
	largestCode = 1 << 20
)

// marksOf lists the shortcodes and the blocks that a plugin's files declare, as they stand in
// what authors write.
func (w *wordpressSite) marksOf(ctx context.Context, component Component) (marks []string, err error) {
	read := 0
	place, whole := component.OneFolder()
	if !whole {
		return nil, nil
	}
	err = files.Walk(ctx, w.disk, place.Path, files.Scope{}, func(at string, entry files.Entry) error {
		name := path.Base(at)
		if entry.Kind != files.File || entry.Size > largestCode || path.Ext(name) != ".php" && name != "block.json" || read >= mostRead {
			return nil
		}
		read++
		text, err := readCode(ctx, w.disk, path.Join(place.Path, at))
		if err != nil {
			return nil // what cannot be read is told by those who copy it
		}
		note := func(shape *regexp.Regexp, before string) {
			for _, found := range shape.FindAllSubmatch(text, -1) {
				if mark := before + string(found[1]); !slices.Contains(marks, mark) {
					marks = append(marks, mark)
				}
			}
		}
		if name == "block.json" {
			note(blockJSONName, "<!-- wp:")
		} else {
			note(shortcodeNames, "[")
			note(blockNames, "<!-- wp:")
		}
		return nil
	})
	return marks, err
}

func readCode(ctx context.Context, disk files.FS, name string) ([]byte, error) {
	file, err := disk.Open(ctx, name, 0)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(io.LimitReader(file, largestCode))
}

// likeText writes a text so that LIKE takes it as it is, with the sign that both MySQL and SQLite
// are told of.
func likeText(text string) string {
	return strings.NewReplacer("!", "!!", "%", "!%", "_", "!_").Replace(text)
}

// longestWord is the longest of a title's words; the first of several.
func longestWord(title string) (longest string) {
	for _, word := range strings.FieldsFunc(title, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsMark(r) }) {
		if utf8.RuneCountInString(word) > utf8.RuneCountInString(longest) {
			longest = word
		}
	}
	return longest
}

// UsedOn lists pages whose content holds what a plugin puts into pages; the front page stands for
// those with a widget that does.
func (w *wordpressSite) UsedOn(ctx context.Context, db database.Database, component Component) ([]Sample, error) {
	if db == nil || component.Kind != Plugin {
		return nil, nil
	}
	marks, err := w.marksOf(ctx, component)
	if err != nil {
		return nil, fmt.Errorf("look for what %s puts into pages: %w", component.Folder, err)
	}
	q := &query{ctx: ctx, db: db}
	var found []Sample
	for _, mark := range marks {
		if q.one("SELECT option_name FROM "+w.table("options")+" WHERE option_name LIKE 'widget!_%' ESCAPE '!' AND option_value LIKE ? ESCAPE '!' LIMIT 1", "%"+likeText(mark)+"%") != nil {
			found = append(found, Sample{Path: "/", Kind: "a widget has " + mark})
		}
		rows := q.rows("SELECT ID, post_type FROM "+w.table("posts")+" WHERE post_status = 'publish' AND post_password = '' AND (post_content LIKE ? ESCAPE '!' OR post_content LIKE ? ESCAPE '!') ORDER BY post_type, ID LIMIT "+strconv.Itoa(mostUses),
			"%"+likeText(mark)+"]%", "%"+likeText(mark)+" %")
		for _, row := range rows {
			sample := Sample{Path: "/?p=" + row[0].String(), Kind: "its content has " + mark}
			switch kind := row[1].String(); {
			case slices.Contains(notPages, kind):
				continue
			case kind == "page":
				sample.Path = "/?page_id=" + row[0].String()
			case kind != "post":
				sample.Path = "/?post_type=" + kind + "&p=" + row[0].String()
			}
			if !slices.ContainsFunc(found, func(s Sample) bool { return s.Path == sample.Path }) {
				found = append(found, sample)
			}
		}
	}
	return found, q.err
}
