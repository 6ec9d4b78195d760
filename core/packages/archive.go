// Package packages reads the archives that themes and plugins come in. An archive
// is hostile until proved otherwise: it is read whole, and refused whole, before
// anything of it is written anywhere.
package packages

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"wetland/core/files"
	"wetland/core/site/cms"
	"wetland/core/visible"
)

// Limits of what an archive may hold; an ordinary theme is far below all of them.
const (
	maxFiles     = 100_000
	maxTotal     = 4 << 30 // bytes, unpacked
	maxRatio     = 250     // unpacked to packed; deflate's own bound is about 1030
	ratioMatters = 8 << 20 // bytes unpacked, from which on the ratio counts
	maxName      = 1024    // bytes of a whole path
	maxPart      = 255     // bytes of one part of a path, the limit of file systems
)

// Package is one installable theme or plugin, read and checked.
type Package struct {
	File   string // the archive
	Origin string // the archive or bundle that a person named
	Folder string // the archive's root folder
	Header cms.Header
	Tree   files.Tree // below the root folder
	Hash   string     // of the archive's bytes
	Junk   []string   // entries that were passed over

	within  string // its folder in the bundle that it was taken out of
	archive *zip.ReadCloser
	entries map[string]*zip.File // by path below the root folder
}

// Close closes the archive.
func (p *Package) Close() error { return p.archive.Close() }

// Source opens the bytes of the package's files.
func (p *Package) Source(item files.Item) (io.ReadCloser, error) {
	entry, ok := p.entries[item.Path]
	if !ok {
		return nil, fmt.Errorf("%s is not in %s", item.Path, p.File)
	}
	return entry.Open()
}

// Text returns a file of the package, of at most a megabyte. It wraps
// fs.ErrNotExist if there is none.
func (p *Package) Text(name string) (string, error) {
	file, err := archiveFolder{p}.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, 1<<20))
	return string(text), err
}

// Title names the package for people: Harbourlight 2.5.0.
func (p *Package) Title() string { return strings.TrimSpace(p.Header.Name + " " + p.Header.Version) }

// Files gives access to the files of the package.
func (p *Package) Files() cms.Folder { return archiveFolder{p} }

// ErrUnreadable says that a file is no whole zip archive.
var ErrUnreadable = errors.New("it cannot be read")

// ErrUninstallable says that nothing tells what an archive is a package of.
var ErrUninstallable = errors.New("has no header of a theme or plugin, and is neither a language pack nor the CMS itself: it is not installable. Perhaps it is a bundle, with the installable zip inside")

// unreadable marks an error as ErrUnreadable without another word.
type unreadable struct{ error }

func (unreadable) Is(target error) bool { return target == ErrUnreadable }
func (u unreadable) Unwrap() error      { return u.error }

// HeaderReader reads the header of a theme or plugin, as the site's CMS does.
type HeaderReader func(cms.Folder) (cms.Header, error)

// Open reads the archive, every byte of it, and refuses it with all reasons at
// once. Close the package when done.
func Open(ctx context.Context, file string, readHeader HeaderReader) (*Package, error) {
	return openShown(ctx, file, file, readHeader)
}

// openShown is Open for a file that people know by another name: errors tell that one.
func openShown(ctx context.Context, file, shown string, readHeader HeaderReader) (*Package, error) {
	hash, err := hashArchive(file, shown)
	if err != nil {
		return nil, unreadable{err}
	}
	archive, err := zip.OpenReader(file)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) { // insecure paths are judged below
		return nil, unreadable{explainOpen(file, shown, err)}
	}
	p := &Package{File: file, Origin: file, Hash: hash, archive: archive, entries: map[string]*zip.File{}}
	if err := p.read(ctx, readHeader); err != nil {
		return nil, errors.Join(fmt.Errorf("the package %s: %w", shown, err), archive.Close())
	}
	return p, nil
}

func hashArchive(file, shown string) (string, error) {
	info, err := os.Stat(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "", files.Missing(shown, err)
	case err != nil:
		return "", fmt.Errorf("read the package: %w", err)
	case info.IsDir():
		return "", fmt.Errorf("%s is a folder. A package is the installable zip that the vendor offers", shown)
	case !info.Mode().IsRegular():
		return "", fmt.Errorf("%s is not a regular file. A package is the installable zip that the vendor offers", shown)
	}
	open, err := os.Open(file)
	if err != nil {
		return "", fmt.Errorf("read the package: %w", err)
	}
	defer open.Close()
	hash, _, err := files.Hash(open)
	return hash, err
}

// explainOpen tells the usual reasons apart by the first bytes of the file.
func explainOpen(file, shown string, err error) error {
	start := make([]byte, 512)
	open, openErr := os.Open(file)
	if openErr != nil {
		return fmt.Errorf("read the package: %w", openErr)
	}
	defer open.Close()
	n, _ := io.ReadFull(open, start)
	text := strings.ToLower(string(start[:n]))
	switch {
	case n == 0:
		return fmt.Errorf("%s is empty. Download it again", shown)
	case strings.HasPrefix(text, "pk\x03\x04"):
		return fmt.Errorf("%s is a zip file that was cut off or damaged (%w). Download it again", shown, err)
	case strings.Contains(text, "<html") || strings.Contains(text, "<!doctype html"):
		return fmt.Errorf("%s is a web page, not a zip file: probably the vendor's sign-in page, saved under that name. Sign in there and download it again", shown)
	}
	return fmt.Errorf("%s is not a zip file (%w). A package is the installable zip that the vendor offers", shown, err)
}

func (p *Package) read(ctx context.Context, readHeader HeaderReader) error {
	kept, err := p.checkNames()
	if err != nil {
		return err
	}
	if err := p.findRoot(kept); err != nil {
		return err
	}
	if err := p.readTree(ctx); err != nil {
		return err
	}
	p.Header, err = readHeader(archiveFolder{p})
	if errors.Is(err, cms.ErrNoHeader) {
		return fmt.Errorf("its folder %s %w", p.Folder, ErrUninstallable)
	}
	return err
}

// checkNames judges every entry by its name and type, and returns those that
// are no junk.
func (p *Package) checkNames() ([]*zip.File, error) {
	var kept []*zip.File
	var wrong []error
	seen := map[string]string{}
	folders := map[string]string{}
	if len(p.archive.File) > maxFiles {
		return nil, fmt.Errorf("it holds %d entries; at most %d are allowed", len(p.archive.File), maxFiles)
	}
	for _, entry := range p.archive.File {
		if err := checkEntry(entry); err != nil {
			wrong = append(wrong, err)
			continue
		}
		name := strings.TrimSuffix(entry.Name, "/")
		if isJunk(name) {
			p.Junk = append(p.Junk, entry.Name)
			continue
		}
		folded := foldedName(name)
		if before, twice := seen[folded]; twice {
			if before == name {
				wrong = append(wrong, fmt.Errorf("%q is in it twice", name))
			} else {
				wrong = append(wrong, fmt.Errorf("%q and %q are the same file on disks that ignore case, or how a letter is encoded", before, name))
			}
			continue
		}
		seen[folded] = name
		kept = append(kept, entry)
		for above := path.Dir(name); above != "."; above = path.Dir(above) {
			other, known := folders[foldedName(above)]
			if known && other != above {
				wrong = append(wrong, fmt.Errorf("%q and %q are the same folder on disks that ignore case, or how a letter is encoded", other, above))
			}
			if known {
				break
			}
			folders[foldedName(above)] = above
		}
	}
	if err := checkSizes(kept); err != nil {
		wrong = append(wrong, err)
	}
	return kept, few(wrong)
}

// foldedName is equal for names that are one on some disks.
func foldedName(name string) string { return strings.ToLower(norm.NFC.String(name)) }

// few joins the first reasons: a hostile archive may have thousands.
func few(wrong []error) error {
	const enough = 10
	if len(wrong) > enough {
		more := fmt.Errorf("and %d more", len(wrong)-enough)
		wrong = append(slices.Clone(wrong[:enough]), more)
	}
	return errors.Join(wrong...)
}

func checkEntry(entry *zip.File) error {
	name := entry.Name
	mode := entry.Mode()
	const encrypted = 1 // bit 0 of the general purpose flags, APPNOTE.TXT 4.4.4
	switch {
	case name == "" || !utf8.ValidString(name) || strings.ContainsFunc(name, visible.Disturbs):
		return fmt.Errorf("the name %q cannot be used", name)
	case len(name) > maxName:
		return fmt.Errorf("the name %.40q... is longer than %d bytes", name, maxName)
	case strings.HasPrefix(name, "/") || strings.HasPrefix(name, `\`):
		return fmt.Errorf("the path %q is absolute: it would be written outside of the package's folder", name)
	case len(name) > 1 && name[1] == ':':
		return fmt.Errorf("the path %q names a drive: it would be written outside of the package's folder", name)
	case strings.Contains(name, `\`):
		return fmt.Errorf("the path %q has backslashes", name)
	case entry.Flags&encrypted != 0:
		return fmt.Errorf("%q is encrypted. Ask the vendor for the plain package", name)
	case mode&fs.ModeSymlink != 0:
		return fmt.Errorf("%q is a symbolic link: it could lead outside of the package's folder", name)
	case mode.IsDir() && entry.UncompressedSize64 > 0:
		return fmt.Errorf("%q says that it is a folder, but has content", name)
	case mode&fs.ModeType&^fs.ModeDir != 0:
		return fmt.Errorf("%q is neither a file nor a folder", name)
	}
	for part := range strings.SplitSeq(strings.TrimSuffix(name, "/"), "/") {
		switch {
		case part == "..":
			return fmt.Errorf("the path %q leads out of the package's folder", name)
		case part == "" || part == ".":
			return fmt.Errorf("the path %q has empty parts", name)
		case len(part) > maxPart:
			return fmt.Errorf("the name %.40q... is longer than %d bytes", part, maxPart)
		}
	}
	return nil
}

// isJunk tells what operating systems leave in archives.
func isJunk(name string) bool {
	base := path.Base(name)
	return base == ".DS_Store" || base == "Thumbs.db" || base == "desktop.ini" ||
		name == "__MACOSX" || strings.HasPrefix(name, "__MACOSX/")
}

// checkSizes refuses what would fill the disk, by what the entries claim; reading
// them proves the claims.
func checkSizes(entries []*zip.File) error {
	var total, packed uint64
	for _, entry := range entries {
		size := entry.UncompressedSize64
		if size > maxTotal {
			return fmt.Errorf("%q unpacks to %d bytes, more than the allowed %d", entry.Name, size, int64(maxTotal))
		}
		total += size
		packed += entry.CompressedSize64
		if size > ratioMatters && size/max(1, entry.CompressedSize64) > maxRatio {
			return fmt.Errorf("%q unpacks to more than %d times its size, as no real file does", entry.Name, maxRatio)
		}
	}
	if total > maxTotal || (total > ratioMatters && total/max(1, packed) > maxRatio) {
		return fmt.Errorf("it unpacks to %d bytes from %d, which no real package does", total, packed)
	}
	return nil
}

// findRoot finds the one folder that everything is in.
func (p *Package) findRoot(kept []*zip.File) error {
	roots := map[string]bool{}
	var loose []string
	for _, entry := range kept {
		root, rest, nested := strings.Cut(entry.Name, "/")
		if !nested {
			loose = append(loose, entry.Name)
			continue
		}
		roots[root] = true
		if rest != "" {
			p.entries[strings.TrimSuffix(rest, "/")] = entry
		}
	}
	names := slices.Sorted(maps.Keys(roots))
	switch {
	case len(loose)+len(names) == 0:
		return errors.New("there is nothing in it")
	case len(loose) > 0:
		return fmt.Errorf("its files (%s) are not inside one folder, as the files of an installable package are", strings.Join(loose[:min(3, len(loose))], ", "))
	case len(names) > 1:
		return fmt.Errorf("it holds %d folders (%s) where an installable package holds one. Perhaps it is a bundle, with the installable zip inside", len(names), strings.Join(names[:min(4, len(names))], ", "))
	}
	p.Folder = names[0]
	return cms.CheckFolder(p.Folder)
}

// Modes for what is installed where nothing was before.
const (
	folderMode = 0o755
	fileMode   = 0o644
)

// readTree reads every byte, which also proves the checksums.
func (p *Package) readTree(ctx context.Context) error {
	items := map[string]files.Item{".": newItem(".", files.Folder, folderMode)}
	var wrong []error
	for at, entry := range p.entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		for above := path.Dir(at); above != "."; above = path.Dir(above) {
			if items[above].Kind == files.File {
				wrong = append(wrong, fmt.Errorf("%q is both a file and a folder", above))
			}
			items[above] = newItem(above, files.Folder, folderMode)
		}
		if entry.FileInfo().IsDir() {
			items[at] = newItem(at, files.Folder, folderMode)
			continue
		}
		if _, both := items[at]; both {
			wrong = append(wrong, fmt.Errorf("%q is both a file and a folder", at))
		}
		item := newItem(at, files.File, fileMode)
		var err error
		if item.Hash, item.Size, err = hashEntry(entry); err != nil {
			wrong = append(wrong, fmt.Errorf("%q cannot be read: %w. Download the package again", entry.Name, err))
		}
		items[at] = item
	}
	for _, item := range items {
		p.Tree = append(p.Tree, item)
	}
	p.Tree.Sort()
	return few(wrong)
}

func newItem(at string, kind files.Kind, mode uint32) files.Item {
	return files.Item{Path: at, Kind: kind, Mode: mode, Owner: files.Unowned, Group: files.Unowned}
}

func hashEntry(entry *zip.File) (string, int64, error) {
	open, err := entry.Open()
	if err != nil {
		return "", 0, err
	}
	defer open.Close()
	hash, size, err := files.Hash(io.LimitReader(open, int64(entry.UncompressedSize64)+1))
	if err == nil && uint64(size) != entry.UncompressedSize64 {
		err = errors.New("it is longer than it says")
	}
	return hash, size, err
}

// archiveFolder is the package's root folder, for reading its header.
type archiveFolder struct{ p *Package }

func (a archiveFolder) Names() ([]string, error) {
	var names []string
	for at := range a.p.entries {
		if !strings.Contains(at, "/") && !a.p.entries[at].FileInfo().IsDir() {
			names = append(names, at)
		}
	}
	slices.Sort(names)
	return names, nil
}

func (a archiveFolder) Open(name string) (io.ReadCloser, error) {
	entry, ok := a.p.entries[name]
	if !ok {
		return nil, fs.ErrNotExist
	}
	return entry.Open()
}
