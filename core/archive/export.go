package archive

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/durable"
	"wetland/core/progress"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/snapshot"
	"wetland/core/workspace"
)

// Exported lists what an export wrote.
type Exported struct {
	Snapshot string   `json:"snapshot"`
	Files    []string `json:"files"`
}

// unfinished ends the name of a file of an export until it is whole.
const unfinished = ".part"

// exportWords explains an export to whoever finds it, without Wetland.
const exportWords = `%s of %s, taken %s.

files.tar.zst     the site's files: tar --zstd -xpf files.tar.zst
database.sql      its tables: %s
about.json        what the snapshot noted of them
`

// Export writes a snapshot in open formats into an empty or missing folder: a packed
// tar archive, statements for the database's own client, and what the snapshot noted.
func Export(ctx context.Context, w *workspace.Workspace, name, dir string, guard session.Guard) (*Exported, error) {
	guard.Fill()
	store, m, err := session.OpenSnapshot(ctx, w, name, guard)
	if err != nil {
		return nil, err
	}
	defer store.Close()
	if err := CheckTarget(ctx, w, m, dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	e := &Exported{Snapshot: m.Name}
	write := func(file string, fill func(io.Writer) error) error {
		at := filepath.Join(dir, file)
		part := at + unfinished // what a kill leaves must not look whole
		out, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
		if err != nil {
			return err
		}
		err = errors.Join(fill(out), durable.Sync(out), out.Close())
		if err == nil {
			err = os.Rename(part, at)
		}
		if err != nil {
			return errors.Join(fmt.Errorf("write %s: %w", at, err), os.Remove(part))
		}
		e.Files = append(e.Files, at)
		return nil
	}
	_, size, _, _ := m.Totals()
	guard.Report.Begin("files", size, "bytes")
	err = write("files.tar.zst", func(out io.Writer) error { return snapshot.WriteTar(ctx, store, out, m, guard.Report) })
	if err != nil {
		return nil, err
	}
	guard.Report.End(progress.Good, "files", e.Files[0])
	client := "mariadb --max-allowed-packet=1G DATABASE < database.sql"
	if m.Dialect() == "sqlite" {
		client = "sqlite3 NEW-FILE < database.sql"
	}
	guard.Report.Begin("database", 0, "")
	err = write("database.sql", func(out io.Writer) error {
		var all []database.Replacement
		for _, table := range m.Tables {
			all = append(all, database.Replacement{Table: table.Table, Rows: snapshot.Rows(store, table)})
		}
		return database.WriteSQL(ctx, out, m.Dialect(), all)
	})
	if err != nil {
		return nil, err
	}
	guard.Report.End(progress.Good, "database", e.Files[1])
	err = write("about.json", func(out io.Writer) error {
		encoder := json.NewEncoder(out)
		encoder.SetIndent("", "  ")
		return encoder.Encode(m)
	})
	if err != nil {
		return nil, err
	}
	return e, write("READ-ME.txt", func(out io.Writer) error {
		_, err := fmt.Fprintf(out, exportWords, m.Name, m.Site, m.FilesAt.Local().Format("2 January 2006 15:04"), client)
		return err
	})
}

// CheckTarget refuses a folder for customers' data that is not empty, or public.
func CheckTarget(ctx context.Context, w *workspace.Workspace, m *snapshot.Manifest, dir string) error {
	if info, err := os.Stat(dir); err == nil && !info.IsDir() {
		return fmt.Errorf("%s is a file. Name a new folder", dir)
	}
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	entries = slices.DeleteFunc(entries, func(e fs.DirEntry) bool { // what an export that was killed left
		return strings.HasSuffix(e.Name(), unfinished)
	})
	if len(entries) > 0 {
		return fmt.Errorf("the folder %s is not empty. Name a new one", dir)
	}
	absolute, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	return site.CheckOutside(ctx, w.Host, m.Layout, absolute)
}
