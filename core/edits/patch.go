package edits

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/aymanbagabas/go-udiff"

	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/phrase"
	"wetland/core/site"
	"wetland/core/site/cms"
)

// largestDiff is the size in bytes up to which a file's changes are shown line by line.
const largestDiff = 1 << 20

// ErrNoOriginal says that the vendor's package of the installed version is not on
// the shelf, so that what was edited cannot be shown.
var ErrNoOriginal = errors.New("the original package of the installed version is not on the shelf")

// EditsPatch returns the hand edits of an installed component as a unified diff
// from the original on the shelf. It wraps ErrNoOriginal if there is none.
func EditsPatch(ctx context.Context, s *site.Site, c cms.Component, shelf []packages.Entry) (patch string, err error) {
	entry, ok := OriginalOnShelf(c, shelf)
	stand, known := c.Stand()
	if !ok || !known {
		return "", fmt.Errorf("%s %s: %w", c.Folder, phrase.Version(c.Version), ErrNoOriginal)
	}
	p, err := packages.Open(ctx, entry.File, s.CMS.ReadHeader)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, p.Close()) }()
	present, err := stand.Read(ctx, s.Files)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	for _, differ := range files.Content.Compare(stand.Only(p.Tree), present) {
		before := textOf(func() (io.ReadCloser, error) { return p.Source(files.Item{Path: differ.Path}) }, differ.Side == files.OnlyNow)
		after := textOf(func() (io.ReadCloser, error) { return s.Files.Open(ctx, path.Join(stand.Folder, differ.Path), 0) }, differ.Side == files.OnlyBefore)
		if before == nil || after == nil {
			fmt.Fprintf(&out, "%s: %s (not shown: too large, or no text)\n", differ.Path, differ.What)
			continue
		}
		out.WriteString(udiff.Unified(path.Join("original", c.Folder, differ.Path), path.Join("installed", c.Folder, differ.Path), *before, *after))
	}
	return out.String(), nil
}

// ChangeOf returns how one file of an installed component changes with a package, as
// a unified diff: what the owner of a child theme that overrides the file looks at.
func ChangeOf(ctx context.Context, fsys files.FS, installed cms.Component, present files.Tree, p *packages.Package, name string) string {
	isFile := func(item files.Item) bool { return item.Path == name && item.Kind == files.File }
	wasThere, isThere := slices.ContainsFunc(present, isFile), slices.ContainsFunc(p.Tree, isFile)
	if !wasThere && !isThere {
		return name + ": neither version has this file\n"
	}
	stand, _ := installed.Stand()
	before := textOf(func() (io.ReadCloser, error) { return fsys.Open(ctx, path.Join(stand.Folder, name), 0) }, !wasThere)
	after := textOf(func() (io.ReadCloser, error) { return p.Source(files.Item{Path: name}) }, !isThere)
	if before == nil || after == nil {
		return name + ": not shown: too large, or no text\n"
	}
	diff := udiff.Unified(path.Join(phrase.Version(installed.Version), name), path.Join(phrase.Version(p.Header.Version), name), *before, *after)
	if diff == "" {
		return name + ": both versions have it with the same bytes\n"
	}
	return diff
}

// textOf reads a text; nil if it is none that can be shown, such as a folder. What is
// absent is empty.
func textOf(open func() (io.ReadCloser, error), absent bool) *string {
	text := ""
	if absent {
		return &text
	}
	file, err := open()
	if err != nil {
		return nil
	}
	defer file.Close()
	data, err := io.ReadAll(io.LimitReader(file, largestDiff+1))
	if err != nil || len(data) > largestDiff || !utf8.Valid(data) {
		return nil
	}
	text = string(data)
	return &text
}
