package packages

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/files"
	"wetland/core/site/cms"
)

// deepest is how many zips may lie inside each other: a bundle, a zip in it, and
// one in that.
const deepest = 2

// Find opens every installable package in an archive: the archive itself, or, when
// it is a bundle, the zips and folders in it that have a header. Each is opened and
// checked like any other; a bundle is refused whole if one of its own names is
// hostile. What is taken out of a bundle is written to the folder scratch, which
// must outlive the packages. Errors call the file by the name shown, as people know it.
// Close every package when done.
func Find(ctx context.Context, file, shown, scratch string, readHeader HeaderReader) ([]*Package, error) {
	found, err := find(ctx, file, shown, scratch, readHeader, 0)
	for _, p := range found {
		p.Origin = file
	}
	return found, err
}

func find(ctx context.Context, file, shown, scratch string, readHeader HeaderReader, depth int) ([]*Package, error) {
	if depth == 0 && strings.EqualFold(path.Ext(file), ".php") {
		return findSingle(ctx, file, shown, scratch, readHeader)
	}
	whole, err := openShown(ctx, file, shown, readHeader)
	if err == nil {
		return []*Package{whole}, nil
	}
	if errors.Is(err, ErrUnreadable) || ctx.Err() != nil {
		return nil, err
	}
	archive, openErr := zip.OpenReader(file)
	if openErr != nil && !errors.Is(openErr, zip.ErrInsecurePath) {
		return nil, err
	}
	defer archive.Close()
	b := bundle{Package: Package{File: file, archive: archive}, scratch: scratch, readHeader: readHeader, depth: depth}
	entries, nameErr := b.checkNames()
	if nameErr != nil {
		return nil, err // the reasons of the archive itself say it all
	}
	found, err2 := b.search(ctx, entries)
	if err2 != nil {
		return nil, fmt.Errorf("the bundle %s: %w", shown, err2)
	}
	if len(found) == 0 {
		return nil, err
	}
	return found, nil
}

// bundle is an archive with packages in it.
type bundle struct {
	Package
	scratch    string
	readHeader HeaderReader
	depth      int
}

func (b *bundle) search(ctx context.Context, entries []*zip.File) (found []*Package, err error) {
	defer func() {
		if err != nil {
			for _, p := range found {
				err = errors.Join(err, p.Close())
			}
		}
	}()
	folders, err := b.foldersWithHeader(ctx, sortedByName(entries))
	if err != nil {
		return nil, err
	}
	base := b.rootHolds(entries)
	if base != "" {
		folders = []string{"."}
	}
	for _, folder := range folders {
		p, err := b.repack(ctx, entries, folder, base)
		if err != nil {
			return found, fmt.Errorf("its folder %s: %w", folder, err)
		}
		found = append(found, p)
	}
	if b.depth == deepest {
		return found, nil
	}
	for _, entry := range entries {
		if !strings.EqualFold(path.Ext(entry.Name), ".zip") || entry.FileInfo().IsDir() || inside(entry.Name, found) {
			continue
		}
		inner, err := b.unpack(entry)
		if err != nil {
			return found, fmt.Errorf("take out %s: %w", entry.Name, err)
		}
		more, err := find(ctx, inner, path.Base(entry.Name), b.scratch, b.readHeader, b.depth+1)
		if errors.Is(err, ErrUnreadable) {
			return found, err
		}
		if err != nil && ctx.Err() != nil {
			return found, ctx.Err()
		}
		// A zip without a package is documentation or the like: that is no fault.
		found = append(found, more...)
	}
	return found, nil
}

// Companions opens the packages that lie as zips inside this one: themes ship the
// plugins that must go along with them so. Close every one when done.
func (p *Package) Companions(ctx context.Context, scratch string, readHeader HeaderReader) ([]*Package, error) {
	b := bundle{Package: *p, scratch: scratch, readHeader: readHeader, depth: deepest - 1}
	var inner []*zip.File
	for at, entry := range p.entries {
		if strings.EqualFold(path.Ext(at), ".zip") && !entry.FileInfo().IsDir() {
			inner = append(inner, entry)
		}
	}
	return b.search(ctx, inner)
}

// rootHolds tells what lies in the archive without a folder around it, by the name of the folder that it gets: a CMS, or
// the files of what is installed without a folder of its own. "": nothing does.
func (b *bundle) rootHolds(entries []*zip.File) string {
	whole := Package{entries: map[string]*zip.File{}}
	for _, entry := range entries {
		whole.entries[strings.TrimSuffix(entry.Name, "/")] = entry
	}
	header, err := b.readHeader(archiveFolder{&whole})
	switch {
	case err != nil || header.Kind != cms.Core && header.Alone == "":
		return ""
	case header.Kind == cms.Core:
		return "core"
	}
	further := func(entry *zip.File) bool {
		return strings.EqualFold(path.Ext(entry.Name), ".php") && entry.Name != header.Alone && !strings.HasPrefix(entry.Name, stem(header.Alone)+"/")
	}
	if header.Kind != cms.Language && slices.ContainsFunc(entries, further) {
		return "" // it is a folder, whose name must be known
	}
	return stem(header.Alone)
}

// stem is the name of a script without its ending.
func stem(name string) string { return strings.TrimSuffix(name, ".php") }

// findSingle opens a script by itself as the package that it is.
func findSingle(ctx context.Context, file, shown, scratch string, readHeader HeaderReader) ([]*Package, error) {
	if _, err := hashArchive(file, shown); err != nil {
		return nil, unreadable{err}
	}
	from, err := os.Open(file)
	if err != nil {
		return nil, unreadable{fmt.Errorf("read the package: %w", err)}
	}
	p, err := packSingle(ctx, filepath.Base(file), from, shown, scratch, readHeader)
	if err = errors.Join(err, from.Close()); err != nil {
		return nil, err
	}
	return []*Package{p}, nil
}

// packSingle makes a package of one file.
func packSingle(ctx context.Context, name string, from io.Reader, shown, scratch string, readHeader HeaderReader) (*Package, error) {
	out, err := os.CreateTemp(scratch, "package-*.zip")
	if err != nil {
		return nil, err
	}
	archive := zip.NewWriter(out)
	to, err := archive.Create(stem(name) + "/" + name)
	if err == nil {
		_, err = io.Copy(to, from)
	}
	if err := errors.Join(err, archive.Close(), out.Close()); err != nil {
		return nil, err
	}
	return openShown(ctx, out.Name(), shown, readHeader)
}

// Single makes a package of its own of one file of this one, under the name that it has where it is put: plugins bring files
// that are put elsewhere. Close it when done. Its error wraps fs.ErrNotExist where there is no such file.
func (p *Package) Single(ctx context.Context, at, name, scratch string, readHeader HeaderReader) (*Package, error) {
	entry, ok := p.entries[at]
	if !ok || entry.FileInfo().IsDir() {
		return nil, fmt.Errorf("%s in %s: %w", at, p.Folder, os.ErrNotExist)
	}
	from, err := entry.Open()
	if err != nil {
		return nil, err
	}
	single, err := packSingle(ctx, name, from, at, scratch, readHeader)
	err = errors.Join(err, from.Close())
	if single != nil {
		single.Origin = p.Origin
	}
	return single, err
}

// Inside opens the packages that lie two below a folder of this one, as folders or as scripts: a CMS comes with themes and
// plugins so. translation is a folder directly below it that is a package itself, where it is there. Close every one when
// done.
func (p *Package) Inside(ctx context.Context, folder, translation, scratch string, readHeader HeaderReader) (found []*Package, err error) {
	b := bundle{Package: *p, scratch: scratch, readHeader: readHeader, depth: deepest}
	var entries []*zip.File
	var scripts []string
	for at, entry := range p.entries {
		rest, below := strings.CutPrefix(at, folder+"/")
		switch deep := strings.Count(rest, "/"); {
		case !below:
		case deep > 1, translation != "" && path.Dir(rest) == translation:
			entries = append(entries, entry)
		case deep == 1 && path.Ext(at) == ".php" && !entry.FileInfo().IsDir():
			scripts = append(scripts, at)
		}
	}
	found, err = b.search(ctx, entries)
	slices.Sort(scripts)
	for _, at := range scripts {
		if err != nil {
			break
		}
		var one *Package
		if one, err = p.Single(ctx, at, path.Base(at), scratch, readHeader); err == nil {
			found = append(found, one)
		} else if errors.Is(err, ErrUninstallable) {
			err = nil // most such files are there for other reasons
		}
	}
	for _, one := range found {
		one.Origin = p.Origin
		if err != nil {
			err = errors.Join(err, one.Close())
		}
	}
	return found, err
}

// inside tells whether an entry belongs to a package that was found unpacked: its
// own zips are its own business.
func inside(name string, found []*Package) bool {
	return slices.ContainsFunc(found, func(p *Package) bool {
		return p.within != "" && strings.HasPrefix(name, p.within+"/")
	})
}

// mostPackages bounds how many packages a bundle holds: each is opened by itself.
const mostPackages = 200

// foldersWithHeader lists the folders that have a header, outermost first; what is
// below one of them belongs to it.
func (b *bundle) foldersWithHeader(ctx context.Context, entries []*zip.File) (found []string, err error) {
	folders := map[string]bool{}
	for _, entry := range entries {
		for at := path.Dir(strings.TrimSuffix(entry.Name, "/")); at != "." && !folders[at]; at = path.Dir(at) {
			folders[at] = true
		}
	}
	packages := map[string]bool{}
	within := func(folder string) bool {
		for above := path.Dir(folder); above != "."; above = path.Dir(above) {
			if packages[above] {
				return true
			}
		}
		return false
	}
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if within(folder) {
			continue
		}
		if _, err := b.readHeader(bundleFolder{entries, folder}); err != nil {
			continue
		}
		packages[folder] = true
		if found = append(found, folder); len(found) > mostPackages {
			return nil, fmt.Errorf("it holds more than %d packages", mostPackages)
		}
	}
	return found, nil
}

// sortedByName is a copy in which what is below a folder stands together.
func sortedByName(entries []*zip.File) []*zip.File {
	entries = slices.Clone(entries)
	slices.SortFunc(entries, func(a, b *zip.File) int { return strings.Compare(a.Name, b.Name) })
	return entries
}

// repack makes an archive of its own of one folder of the bundle; of all that lies in its root under the name base.
func (b *bundle) repack(ctx context.Context, entries []*zip.File, folder, base string) (*Package, error) {
	out, err := os.CreateTemp(b.scratch, "package-*.zip")
	if err != nil {
		return nil, err
	}
	archive := zip.NewWriter(out)
	if folder != "." {
		base = path.Base(folder)
	}
	for _, entry := range entries {
		rel, ok := strings.CutPrefix(entry.Name, folder+"/")
		if folder == "." {
			rel, ok = entry.Name, true
		}
		if !ok || rel == "" {
			continue
		}
		header := entry.FileHeader
		header.Name = base + "/" + rel
		// As it is, so that its checksum is still the vendor's and is proved on reading.
		to, err := archive.CreateRaw(&header)
		if err != nil {
			return nil, errors.Join(err, out.Close())
		}
		from, err := entry.OpenRaw()
		if err != nil {
			return nil, errors.Join(err, out.Close())
		}
		if _, err := io.Copy(to, from); err != nil {
			return nil, errors.Join(err, out.Close())
		}
	}
	if err := errors.Join(archive.Close(), out.Close()); err != nil {
		return nil, err
	}
	p, err := openShown(ctx, out.Name(), folder, b.readHeader)
	if p != nil {
		p.within = folder
	}
	return p, err
}

// unpack writes a zip of the bundle to the scratch folder.
func (b *bundle) unpack(entry *zip.File) (string, error) {
	from, err := entry.Open()
	if err != nil {
		return "", err
	}
	defer from.Close()
	out, err := os.CreateTemp(b.scratch, "*-"+plain(path.Base(entry.Name)))
	if err != nil {
		return "", err
	}
	n, err := io.Copy(out, io.LimitReader(from, maxTotal+1))
	if err == nil && n > maxTotal {
		err = fmt.Errorf("it is larger than %d bytes", int64(maxTotal))
	}
	return out.Name(), errors.Join(err, out.Close())
}

// bundleFolder is one folder of a bundle, for reading its header.
type bundleFolder struct {
	entries []*zip.File // sorted by name
	folder  string
}

// from finds the first entry that is not before a name.
func (f bundleFolder) from(name string) int {
	at, _ := slices.BinarySearchFunc(f.entries, name, func(entry *zip.File, name string) int { return strings.Compare(entry.Name, name) })
	return at
}

// Names lists the files right in the folder. What is deeper is passed over by whole folders.
func (f bundleFolder) Names() ([]string, error) {
	var names []string
	for i := f.from(f.folder + "/"); i < len(f.entries); {
		rest, inside := strings.CutPrefix(f.entries[i].Name, f.folder+"/")
		if !inside {
			break
		}
		if below, _, deeper := strings.Cut(rest, "/"); deeper {
			i = f.from(f.folder + "/" + below + "0") // what follows the slash
			continue
		}
		if rest != "" {
			names = append(names, rest)
		}
		i++
	}
	return names, nil
}

func (f bundleFolder) Open(name string) (io.ReadCloser, error) {
	whole := path.Join(f.folder, name)
	if i := f.from(whole); i < len(f.entries) && f.entries[i].Name == whole {
		return f.entries[i].Open()
	}
	return nil, os.ErrNotExist
}

var _ cms.Folder = bundleFolder{}

// copyTo writes the archive as it was when it was opened.
func (p *Package) copyTo(to io.Writer) error {
	from, err := os.Open(p.File)
	if err != nil {
		return err
	}
	defer from.Close()
	hash, _, err := files.Hash(io.TeeReader(from, to))
	if err == nil && hash != p.Hash {
		err = errors.New("it changed while it was read")
	}
	return err
}
