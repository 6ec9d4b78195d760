package snapshot

import (
	"path"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/packs"
)

// check tells of counts, names and places in a manifest that cannot be.
func (m *Manifest) check() error {
	var seen []string
	for _, area := range m.Areas {
		switch {
		case area.Files < 0 || area.Bytes < 0:
			return packs.NotOurs("the area %q has %d files of %d bytes", area.Name, area.Files, area.Bytes)
		case !staysBelow(area.Name) || strings.Contains(area.Name, "/") || slices.Contains(seen, area.Name):
			return packs.NotOurs("an area is called %q", area.Name)
		case !strings.HasPrefix(area.Path, "/") && !hasDrive(area.Path) || path.Clean(area.Path) != area.Path || strings.ContainsRune(area.Path, 0):
			return packs.NotOurs("the area %q is at %q", area.Name, area.Path)
		case area.Only != "" && (!staysBelow(area.Only) || strings.Contains(area.Only, "/")):
			return packs.NotOurs("the area %q is only %q", area.Name, area.Only)
		}
		seen = append(seen, area.Name)
	}
	for _, table := range m.Tables {
		if table.Rows < 0 || table.Name == "" {
			return packs.NotOurs("the table %q has %d rows", table.Name, table.Rows)
		}
	}
	if m.SQL != "" && m.SQL != "sqlite" && m.SQL != "mysql" {
		return packs.NotOurs("its tables are described in %q", m.SQL)
	}
	if err := m.checkLayout(); err != nil {
		return err
	}
	return database.CheckStatements(m.Dialect(), "", false, m.Described())
}

// checkLayout tells of folders that are in none of the areas.
func (m *Manifest) checkLayout() error {
	for _, file := range m.Layout.DatabaseFiles {
		if !staysBelow(file) {
			return packs.NotOurs("the database is in %q", file)
		}
	}
	for _, folder := range m.Layout.Folders() {
		if path.Clean(folder) != folder || !slices.ContainsFunc(m.Areas, func(a Area) bool { return files.Within(folder, a.Path) }) {
			return packs.NotOurs("the folder %q is in none of its areas", folder)
		}
	}
	return nil
}

// staysBelow tells of a path that leads nowhere but below where it begins. Names need be no
// UTF-8.
func staysBelow(name string) bool {
	if name == "." {
		return true
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == "" || part == "." || part == ".." || strings.ContainsRune(part, 0) {
			return false
		}
	}
	return true
}

// hasDrive tells of paths such as C:/sites/ferry.
func hasDrive(name string) bool { return len(name) > 2 && name[1] == ':' && name[2] == '/' }

// checkItems tells of items that would be written outside of their area, twice, or below what is
// no folder.
func checkItems(items []Item) error {
	kinds := make(map[string]files.Kind, len(items))
	for _, item := range items {
		_, twice := kinds[item.Path]
		switch {
		case !staysBelow(item.Path):
			return packs.NotOurs("an item is at %q", item.Path)
		case item.Kind != files.File && item.Kind != files.Folder && item.Kind != files.Link:
			return packs.NotOurs("%q is a %q", item.Path, item.Kind)
		case item.Size < 0:
			return packs.NotOurs("%q has %d bytes", item.Path, item.Size)
		case twice:
			return packs.NotOurs("%q is listed twice", item.Path)
		}
		kinds[item.Path] = item.Kind
	}
	for _, item := range items {
		for above := path.Dir(item.Path); above != "."; above = path.Dir(above) {
			kind, listed := kinds[above]
			if listed && kind != files.Folder {
				return packs.NotOurs("%q is below %q, which is a %s", item.Path, above, kind)
			}
			if listed {
				break // what that one is below of, is its own matter
			}
		}
	}
	return nil
}
