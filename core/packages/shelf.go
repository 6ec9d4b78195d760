package packages

import (
	"archive/zip"
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"wetland/core/durable"
	"wetland/core/files"
	"wetland/core/site/cms"
	"wetland/core/version"
)

// Shelf is the folder of package archives kept at hand, by kind and name.
type Shelf struct{ Dir string }

// place returns where the archive of this version is kept. What file systems
// cannot take in a name becomes an underscore.
func (s Shelf) place(kind cms.Kind, folder, version string) string {
	if version == "" {
		version = "unknown"
	}
	return filepath.Join(s.Dir, string(kind)+"s", plain(folder), plain(folder)+"@"+plain(version)+".zip")
}

func plain(text string) string {
	return strings.Map(func(r rune) rune {
		if r <= ' ' || r == 0x7f || strings.ContainsRune(`/\:*?"<>|`, r) {
			return '_'
		}
		return r
	}, text)
}

// Entry is one package on the shelf.
type Entry struct {
	Kind    cms.Kind  `json:"kind"`
	Folder  string    `json:"folder"`
	Name    string    `json:"name"`
	Version string    `json:"version"`
	Hash    string    `json:"hash"`    // of the archive's bytes
	Content string    `json:"content"` // of the files in it, however they are packed
	Source  string    `json:"source"`  // where it came from, in words
	Shelved time.Time `json:"shelved"`
	// Replaced marks a version that was installed here and replaced by an update.
	Replaced bool `json:"replaced,omitempty"`
	// FromSite marks files that were read off the site, with whatever was edited by
	// hand: they do not tell what the vendor's original was.
	FromSite bool   `json:"from_site,omitempty"`
	File     string `json:"file"` // the archive, absolute
	// Beside marks content that differs from another package of the same version.
	Beside bool `json:"beside,omitempty"`
	// Problem says why it cannot be used; it is described by its file's name then.
	Problem string `json:"problem,omitempty"`
}

// Title names the entry as it is asked for: harbourlight@2.5.2.
func (e Entry) Title() string { return e.Folder + "@" + e.Version }

// Keep writes an installed component's tree to the shelf, as a package of its
// version, and proves it by reading it back. source says where it came from.
func (s Shelf) Keep(
	ctx context.Context, component cms.Component, tree files.Tree, open files.Source, source string,
) (Entry, error) {
	entry := Entry{Kind: component.Kind, Folder: component.Folder, Name: component.Name, Version: component.Version,
		Content: ContentOf(tree), Source: source, Replaced: true, FromSite: true}
	return s.put(entry, func(part *os.File) error {
		return writeArchive(part, component.Folder, tree, open)
	}, func(name string) error { return proveArchive(ctx, name, component, tree) })
}

// Add puts a package on the shelf. source says where it came from.
func (s Shelf) Add(p *Package, source string) (Entry, error) {
	entry := Entry{Kind: p.Header.Kind, Folder: p.Folder, Name: p.Header.Name, Version: p.Header.Version,
		Content: ContentOf(p.Tree), Source: source}
	return s.put(entry, func(part *os.File) error { return p.copyTo(part) }, func(string) error { return nil })
}

// ContentOf identifies a tree by its paths, kinds and bytes: an installed component
// that is as its package has the package's Content.
func ContentOf(tree files.Tree) string {
	hasher := blake3.New()
	for _, item := range tree {
		fmt.Fprintf(hasher, "%q %s %s\n", item.Path, item.Kind, item.Hash)
	}
	return hex.EncodeToString(hasher.Sum(nil))
}

// put writes an archive and its label. What is there already is only labelled
// anew; the same version with other content is kept beside, under a name with its
// hash.
func (s Shelf) put(entry Entry, write func(*os.File) error, prove func(name string) error) (Entry, error) {
	entry.File, entry.Shelved = s.place(entry.Kind, entry.Folder, entry.Version), time.Now().UTC()
	known, err := readLabel(entry.File)
	if err == nil && known.Content != entry.Content {
		entry.File = strings.TrimSuffix(entry.File, ".zip") + "." + entry.Content[:8] + ".zip"
		entry.Beside = true
		known, err = readLabel(entry.File)
	}
	if err == nil {
		known.Replaced = known.Replaced || entry.Replaced
		known.FromSite = known.FromSite && entry.FromSite
		return known, known.save()
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return entry, err
	}
	return s.write(entry, write, prove)
}

func (s Shelf) write(entry Entry, write func(*os.File) error, prove func(name string) error) (Entry, error) {
	if err := os.MkdirAll(filepath.Dir(entry.File), 0o700); err != nil {
		return entry, err
	}
	part, err := os.CreateTemp(filepath.Dir(entry.File), ".part-*")
	if err != nil {
		return entry, err
	}
	defer os.Remove(part.Name()) // gone already once it was renamed
	if err := errors.Join(write(part), durable.Sync(part), part.Close()); err != nil {
		return entry, fmt.Errorf("write %s to the shelf: %w", entry.Folder, err)
	}
	if err := prove(part.Name()); err != nil {
		return entry, fmt.Errorf("prove what was written to the shelf: %w", err)
	}
	if entry.Hash, err = hashArchive(part.Name(), entry.File); err != nil {
		return entry, err
	}
	if err := os.Rename(part.Name(), entry.File); err != nil {
		return entry, err
	}
	return entry, entry.save()
}

// save writes the label beside the archive.
func (e Entry) save() error {
	label, err := json.MarshalIndent(e, "", "  ")
	if err != nil {
		return err
	}
	return durable.WriteFile(labelOf(e.File), append(label, '\n'))
}

func labelOf(archive string) string { return strings.TrimSuffix(archive, ".zip") + ".json" }

func readLabel(archive string) (Entry, error) {
	var entry Entry
	text, err := os.ReadFile(labelOf(archive))
	if errors.Is(err, fs.ErrNotExist) {
		return unlabelled(archive)
	}
	if err == nil {
		err = json.Unmarshal(text, &entry)
	}
	if err != nil || !entry.isOf(archive) { // what it said of where the files came from is not known any more
		entry, err = unlabelled(archive)
		entry.FromSite, entry.Source = true, "its label is damaged"
	}
	entry.File = archive
	return entry, err
}

// isOf tells whether a label says what the name of its archive says.
func (e Entry) isOf(archive string) bool {
	named := describeByName(archive)
	return e.Kind == named.Kind && plain(e.Folder) == named.Folder &&
		(e.Version == "" || plain(e.Version) == named.Version)
}

// unlabelled describes an archive by its name alone: one that a person put there,
// or whose label a crash prevented.
func unlabelled(archive string) (Entry, error) {
	entry := describeByName(archive)
	info, err := os.Stat(archive)
	if err != nil {
		return entry, err
	}
	entry.Source, entry.Shelved = "put there by hand", info.ModTime()
	known := func(cms.Folder) (cms.Header, error) { return cms.Header{}, nil }
	p, err := Open(context.Background(), archive, known)
	if err != nil {
		return entry, err
	}
	entry.Hash, entry.Content = p.Hash, ContentOf(p.Tree)
	return entry, p.Close()
}

// besideSuffix ends the names of archives that are kept beside others of their version.
var besideSuffix = regexp.MustCompile(`\.[0-9a-f]{8}$`)

func describeByName(archive string) Entry {
	folder := filepath.Dir(archive)
	_, version, _ := strings.Cut(strings.TrimSuffix(filepath.Base(archive), ".zip"), "@")
	return Entry{
		Kind: cms.Kind(strings.TrimSuffix(filepath.Base(filepath.Dir(folder)), "s")), Folder: filepath.Base(folder),
		Version: besideSuffix.ReplaceAllString(version, ""), File: archive,
	}
}

// List returns what is on the shelf and can be used, by kind and folder, newest version first.
func (s Shelf) List() ([]Entry, error) {
	all, err := s.All()
	return slices.DeleteFunc(all, func(e Entry) bool { return e.Problem != "" }), err
}

// All is List, with what is damaged.
func (s Shelf) All() ([]Entry, error) {
	archives, err := filepath.Glob(filepath.Join(s.Dir, "*", "*", "*.zip"))
	if err != nil {
		return nil, err
	}
	var entries []Entry
	for _, archive := range archives {
		entry, err := readLabel(archive)
		if err != nil {
			entry.Problem = err.Error()
		}
		entries = append(entries, entry)
	}
	slices.SortFunc(entries, func(a, b Entry) int {
		return cmp.Or(cmp.Compare(b.Kind, a.Kind), cmp.Compare(a.Folder, b.Folder), version.Compare(b.Version, a.Version),
			cmp.Compare(a.File, b.File))
	})
	return entries, nil
}

// ErrNotOnShelf says that the shelf has no such package.
var ErrNotOnShelf = errors.New("the shelf has no such package")

// Pick returns the package that NAME or NAME@VERSION means: the newest version if
// none is named. The vendor's package comes before the files of that version as they were on
// the site. A name that means several is an error that lists them.
func (s Shelf) Pick(name string) (Entry, error) {
	folder, wanted, named := strings.Cut(name, "@")
	entries, err := s.List()
	if err != nil {
		return Entry{}, err
	}
	fits := func(is func(Entry) bool) []Entry {
		return slices.DeleteFunc(slices.Clone(entries), func(e Entry) bool {
			return !is(e) || (named && version.Compare(e.Version, wanted) != 0)
		})
	}
	fit := fits(func(e Entry) bool { return e.Folder == folder })
	if len(fit) == 0 {
		fit = fits(func(e Entry) bool { return e.Name != "" && strings.EqualFold(e.Name, folder) })
	}
	if len(fit) == 0 {
		return Entry{}, s.whyNot(name, folder)
	}
	first := fit[0]
	same := slices.DeleteFunc(fit, func(e Entry) bool { return version.Compare(e.Version, first.Version) != 0 })
	if originals := slices.DeleteFunc(slices.Clone(same), func(e Entry) bool { return e.FromSite }); len(originals) > 0 {
		same = originals // what was read off the site may be edited, or damaged
	}
	for _, other := range same[1:] {
		if other.Content != same[0].Content {
			return Entry{}, fmt.Errorf("%s means several packages of the same version with different content: %s and %s. Name"+
				" the file", name, same[0].File, other.File)
		}
	}
	return same[0], nil
}

// whyNot says why the shelf has no package of a name: there is none, or it is damaged.
func (s Shelf) whyNot(name, folder string) error {
	all, err := s.All()
	for _, one := range all {
		if one.Problem != "" && one.Folder == folder && (name == folder || name == one.Title()) {
			return fmt.Errorf("%s is on the shelf, but cannot be used: %s", one.Title(), one.Problem)
		}
	}
	return errors.Join(err, fmt.Errorf("%s: %w", name, ErrNotOnShelf))
}

// OffSite returns the package on the shelf that has the version of another one as it was on
// the site, with whatever was edited there; ok is false if there is none.
func (s Shelf) OffSite(of Entry) (found Entry, ok bool) {
	entries, err := s.List()
	if err != nil {
		return Entry{}, false
	}
	i := slices.IndexFunc(entries, func(e Entry) bool {
		return e.FromSite && e.Kind == of.Kind && e.Folder == of.Folder && version.Compare(e.Version, of.Version) == 0 &&
			e.Content != of.Content
	})
	if i < 0 || of.FromSite {
		return Entry{}, false
	}
	return entries[i], true
}

func writeArchive(to io.Writer, folder string, tree files.Tree, source files.Source) error {
	archive := zip.NewWriter(to)
	for _, item := range tree {
		name := path.Join(folder, item.Path)
		switch item.Kind {
		case files.Folder:
			name += "/"
		case files.Link:
			return fmt.Errorf("%s is a symbolic link, which no package can hold", item.Path)
		}
		header := &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: item.Modified.UTC()}
		header.SetMode(fs.FileMode(item.Mode & 0o777))
		if item.Kind == files.Folder {
			header.SetMode(fs.ModeDir | fs.FileMode(item.Mode&0o777))
		}
		w, err := archive.CreateHeader(header)
		if err != nil {
			return err
		}
		if item.Kind != files.File {
			continue
		}
		if err := copyItem(w, item, source); err != nil {
			return err
		}
	}
	return archive.Close()
}

func copyItem(to io.Writer, item files.Item, source files.Source) error {
	from, err := source(item)
	if err != nil {
		return err
	}
	defer from.Close()
	_, err = io.Copy(to, from)
	return err
}

// proveArchive reads the archive back and compares it with the tree.
func proveArchive(ctx context.Context, file string, component cms.Component, tree files.Tree) error {
	known := func(cms.Folder) (cms.Header, error) { return component.Header, nil }
	p, err := Open(ctx, file, known)
	if err != nil {
		return err
	}
	defer p.Close()
	if differ := files.Content.Compare(tree, p.Tree); len(differ) > 0 {
		return fmt.Errorf("%d paths differ, the first is %s (%s)", len(differ), differ[0].Path, differ[0].What)
	}
	return nil
}
