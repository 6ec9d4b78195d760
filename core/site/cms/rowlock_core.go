package cms

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"wetland/core/database"
	"wetland/core/files"
)

// rowlockVersion is the file with the version of Rowlock, and rowlockDoor that which it looks at before it answers
// anything.
const (
	rowlockVersion = "system/version.txt"
	rowlockDoor    = "door.toml"
	rowlockTables  = "system/tables" // one file of SQL for each step of its tables
)

// Core: Rowlock is the folder system, and its door.
func (r *rowlockSite) Core() CoreFiles {
	return CoreFiles{
		Root: r.root, Folders: []string{"system"}, Owners: []string{rowlock.Settings, ".*"}, Version: rowlockVersion,
		Loader: rowlockDoor, Gate: "# " + gateWords + "\nopen = false\n",
	}
}

func readRowlock(folder Folder) (Header, error) {
	text, err := readStart(folder, rowlockVersion, 100)
	if errors.Is(err, fs.ErrNotExist) {
		return Header{}, ErrNoHeader
	}
	return Header{Kind: Core, Name: rowlock.Title, Version: strings.TrimSpace(text)}, err
}

// coreComponent is Rowlock itself, as it is installed now; none, where it does not tell its version.
func (r *rowlockSite) coreComponent(ctx context.Context) []Component {
	c := Component{Folder: rowlock.Name, Form: Itself, Active: true}
	var err error
	if c.Header, err = readRowlock(diskFolder{ctx, r.disk, r.root}); err != nil {
		return nil
	}
	c.Places = []Place{{Path: path.Join(r.root, "system")}}
	if _, err := r.disk.Lstat(ctx, path.Join(r.root, rowlockDoor)); err == nil {
		c.Places = append(c.Places, Place{Path: path.Join(r.root, rowlockDoor), Single: true})
	}
	return []Component{c}
}

// Formerly: Rowlock's packages tell nothing of earlier versions.
func (r *rowlockSite) Formerly(Folder) ([]string, error) { return nil, nil }

// PendingUpgrade compares the steps in system/tables with the setting that counts those taken.
func (r *rowlockSite) PendingUpgrade(ctx context.Context, db database.Database) (string, error) {
	steps, err := r.disk.List(ctx, path.Join(r.root, rowlockTables))
	if errors.Is(err, fs.ErrNotExist) || db == nil {
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("read which tables Rowlock wants: %w", err)
	}
	steps = slices.DeleteFunc(steps, func(entry files.Entry) bool { return path.Ext(entry.Name) != ".sql" })
	rows, err := db.Query(ctx, `SELECT value FROM settings WHERE name = 'tables'`)
	if err != nil {
		return "", fmt.Errorf("ask which tables Rowlock has: %w", err)
	}
	taken := 0
	if len(rows) > 0 {
		taken, _ = strconv.Atoi(rows[0][0].String())
	}
	if taken >= len(steps) {
		return "", nil
	}
	return "/system/upgrade", nil
}

// MadeAnew: Rowlock makes nothing anew.
func (r *rowlockSite) MadeAnew(database.Table, database.Row) bool { return false }

// StoredAnew: Rowlock stores nothing anew.
func (r *rowlockSite) StoredAnew(database.Table) func(before, now database.Row) bool { return nil }

// Between: Rowlock's makers count releases by their first number, as most do.
func (r *rowlockSite) Between(from, to string) int {
	var a, b int
	if n, _ := fmt.Sscanf(from, "%d.", &a); n < 1 {
		return 0
	}
	if n, _ := fmt.Sscanf(to, "%d.", &b); n < 1 {
		return 0
	}
	return max(0, b-a)
}

// TestedUpTo: Rowlock's components do not say.
func (r *rowlockSite) TestedUpTo(context.Context, Component) string { return "" }

// LostWith: nothing is lost.
func (r *rowlockSite) LostWith(context.Context, database.Database, string) ([]string, error) {
	return nil, nil
}

// Vitals: Rowlock has a map of its pages for search engines.
func (r *rowlockSite) Vitals() []Vital {
	return []Vital{{What: "the map of the site for search engines", Path: "/sitemap.xml"}}
}

// Jobs: Rowlock does nothing at set times.
func (r *rowlockSite) Jobs(context.Context, database.Database) ([]string, error) { return nil, nil }

var _ Replaceable = (*rowlockSite)(nil)
