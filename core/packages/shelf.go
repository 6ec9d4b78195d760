package packages

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"wetland/core/files"
	"wetland/core/site/cms"
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

// Keep writes an installed component's tree to the shelf, as a package of its
// version, and proves it by reading it back. It returns the archive's path. The
// same version with other content is kept beside, under a name with its hash.
func (s Shelf) Keep(ctx context.Context, component cms.Component, tree files.Tree, source files.Source) (string, error) {
	target := s.place(component.Kind, component.Folder, component.Version)
	if err := os.MkdirAll(filepath.Dir(target), 0o700); err != nil {
		return "", err
	}
	part, err := os.CreateTemp(filepath.Dir(target), ".part-*")
	if err != nil {
		return "", err
	}
	defer os.Remove(part.Name()) // gone already once it was renamed
	if err := errors.Join(writeArchive(part, component.Folder, tree, source), part.Sync(), part.Close()); err != nil {
		return "", fmt.Errorf("write %s to the shelf: %w", component.Folder, err)
	}
	if err := proveArchive(ctx, part.Name(), component, tree); err != nil {
		return "", fmt.Errorf("prove what was written to the shelf: %w", err)
	}
	hash, err := hashArchive(part.Name())
	if err != nil {
		return "", err
	}
	present, err := hashArchive(target)
	switch {
	case err == nil && present == hash:
		return target, nil
	case err == nil:
		target = strings.TrimSuffix(target, ".zip") + "." + hash[:8] + ".zip"
	case !errors.Is(err, fs.ErrNotExist):
		return "", err
	}
	return target, os.Rename(part.Name(), target)
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
