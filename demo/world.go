// Package demo holds the bundled site, its packages, and the stand-in servers
// that the examples and tests run against: everything is made up, and nothing
// leaves this machine.
package demo

import (
	"archive/zip"
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wetland/demo/rowlock"
)

//go:embed all:otterby
var otterby embed.FS

// base says which installed component each package is made from: a package is
// that component's files, with the package's own laid over them and those in
// NAME-VERSION.dropped taken out.
var base = map[string]string{
	"harbourlight": "themes/harbourlight",
	"tidetable":    "plugins/tidetable",
	"enquiries":    "plugins/enquiries",
	"rowlock":      "", // of the whole site that which is Rowlock's own
}

// own tells of a file of the site that is Rowlock's own.
func own(file string) bool { return file == "door.toml" || strings.HasPrefix(file, "system/") }

// SiteName is the name of the bundled site.
const SiteName = "Otterby Ferry"

// LayOut writes the site to root and its packages, as zips, to the folder
// packages. The site is given address, where Serve is to answer.
// Both folders are made; root must not hold a site yet.
func LayOut(ctx context.Context, root, packages, address string) error {
	if _, err := os.Stat(filepath.Join(root, "rowlock.toml")); err == nil {
		return fmt.Errorf("%s holds a site already", root)
	}
	if err := copyTree("otterby/site", root); err != nil {
		return fmt.Errorf("lay out the site: %w", err)
	}
	for _, folder := range []string{"cache", "data"} {
		if err := os.MkdirAll(filepath.Join(root, folder), 0o755); err != nil {
			return err
		}
	}
	settings := fmt.Sprintf("# Settings of Rowlock.\naddress = %q\ndatabase = \"data/crossing.sqlite\"\n", address)
	if err := os.WriteFile(filepath.Join(root, "rowlock.toml"), []byte(settings), 0o644); err != nil {
		return err
	}
	if err := fillDatabase(ctx, root); err != nil {
		return fmt.Errorf("fill the database of the site: %w", err)
	}
	return writePackages(packages)
}

func copyTree(from, to string) error {
	return fs.WalkDir(otterby, from, func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		target := filepath.Join(to, filepath.FromSlash(strings.TrimPrefix(name, from)))
		if entry.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		text, err := otterby.ReadFile(name)
		if err != nil {
			return err
		}
		return os.WriteFile(target, text, 0o644)
	})
}

// fillDatabase writes the pages, lets one visit make the plugins' tables, as on
// a real site, and fills those.
func fillDatabase(ctx context.Context, root string) error {
	db, err := rowlock.OpenDatabase(filepath.Join(root, "data", "crossing.sqlite"))
	if err != nil {
		return err
	}
	defer db.Close()
	run := func(name string) error {
		text, err := otterby.ReadFile("otterby/setup/" + name)
		if err != nil {
			return err
		}
		if _, err := db.ExecContext(ctx, string(text)); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return nil
	}
	if err := run("content.sql"); err != nil {
		return err
	}
	server, err := rowlock.Open(root, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	defer server.Close()
	if err := errors.Join(server.Upgrade(ctx), server.Migrate(ctx)); err != nil {
		return err
	}
	return run("sailings.sql")
}

// Packages lists the bundled packages as NAME-VERSION.
func Packages() []string {
	entries, err := fs.ReadDir(otterby, "otterby/packages")
	if err != nil {
		panic(err) // embedded: cannot be missing
	}
	var names []string
	for _, entry := range entries {
		if entry.IsDir() {
			names = append(names, entry.Name())
		}
	}
	return names
}

func writePackages(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for _, name := range Packages() {
		file, err := os.Create(filepath.Join(folder, name+".zip"))
		if err != nil {
			return err
		}
		err = errors.Join(WritePackage(file, name), file.Close())
		if err != nil {
			return fmt.Errorf("write the package %s: %w", name, err)
		}
	}
	return nil
}

// PackageFiles returns the files of the bundled package NAME-VERSION, by path
// below the component's folder.
func PackageFiles(name string) (map[string][]byte, error) {
	component, _, _ := strings.Cut(name, "-")
	files := map[string][]byte{}
	for _, from := range []string{path.Join("otterby/site", base[component]), "otterby/packages/" + name} {
		err := fs.WalkDir(otterby, from, func(file string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || base[component] == "" && !own(strings.TrimPrefix(file, from+"/")) {
				return err
			}
			text, err := otterby.ReadFile(file)
			files[strings.TrimPrefix(file, from+"/")] = text
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	if dropped, err := otterby.ReadFile("otterby/packages/" + name + ".dropped"); err == nil {
		for _, file := range strings.Fields(string(dropped)) {
			delete(files, file)
		}
	}
	return files, nil
}

// WritePackage writes the bundled package NAME-VERSION as a zip, as its vendor
// would hand it out.
func WritePackage(to io.Writer, name string) error {
	files, err := PackageFiles(name)
	if err != nil {
		return err
	}
	component, _, _ := strings.Cut(name, "-")
	archive := zip.NewWriter(to)
	for _, file := range slices.Sorted(maps.Keys(files)) {
		w, err := archive.CreateHeader(&zip.FileHeader{
			Name: path.Join(component, file), Method: zip.Deflate,
			Modified: time.Date(2026, 10, 5, 8, 30, 0, 0, time.UTC),
		})
		if err != nil {
			return err
		}
		if _, err := w.Write(files[file]); err != nil {
			return err
		}
	}
	return archive.Close()
}

// Listen takes a loopback port: the wanted one where it is free, else any.
// want 0 asks for any.
func Listen(want int) (net.Listener, error) {
	listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", want))
	if err != nil && want != 0 {
		return net.Listen("tcp", "127.0.0.1:0")
	}
	return listener, err
}

// Serve answers for the site at root on listener until ctx ends. What fails on a
// page goes to log.
func Serve(ctx context.Context, listener net.Listener, root string, log *slog.Logger) error {
	site, err := rowlock.Open(root, log)
	if err != nil {
		return errors.Join(err, listener.Close())
	}
	defer site.Close()
	server := &http.Server{Handler: site, ReadHeaderTimeout: 10 * time.Second}
	stopped := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stopped()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return fmt.Errorf("serve the demo site: %w", err)
	}
	return nil
}
