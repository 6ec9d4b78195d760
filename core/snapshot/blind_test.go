package snapshot

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/core/host"
	"wetland/core/host/hosttest"
	"wetland/core/progress"
	"wetland/core/site"
)

// blindDisk is one that keeps no time of change.
type blindDisk struct{ filestest.Able }

func (d blindDisk) Lstat(ctx context.Context, name string) (files.Entry, error) {
	entry, err := d.Able.Lstat(ctx, name)
	entry.Changed = time.Time{}
	return entry, err
}

func (d blindDisk) List(ctx context.Context, name string) ([]files.Entry, error) {
	entries, err := d.Able.List(ctx, name)
	for i := range entries {
		entries[i].Changed = time.Time{}
	}
	return entries, err
}

// A file of the same length whose time of modification was set back is found where the disk tells of every
// change; elsewhere before it is replaced, and once the days are over in any case.
func TestTimesThatWereSetBack(t *testing.T) {
	never, always, usual := 1000, 0, 7
	for name, c := range map[string]struct {
		tells    bool
		days     *int
		replaced string // below the root
		ago      time.Duration
		found    bool
	}{
		"a disk that tells":              {tells: true, days: &never, found: true},
		"a disk that does not":           {days: &never, found: false},
		"about to be replaced":           {days: &never, replaced: "themes/quay", found: true},
		"another folder is replaced":     {days: &never, replaced: "plugins/tide", found: false},
		"a name that only begins alike":  {days: &never, replaced: "themes/qua", found: false},
		"the days are not over":          {days: &usual, ago: 6 * 24 * time.Hour, found: false},
		"the days are over":              {days: &usual, ago: 8 * 24 * time.Hour, found: true},
		"a clock that was wrong":         {days: &usual, ago: -8 * 24 * time.Hour, found: true},
		"the usual days are over":        {ago: 8 * 24 * time.Hour, found: true},
		"everything is read anew always": {days: &always, found: true},
	} {
		t.Run(name, func(t *testing.T) {
			s := newSmall(t)
			file := filepath.Join(s.dir, "www/themes/quay/theme.toml")
			was, err := os.ReadFile(file)
			must(t, err)
			old := time.Now().Add(-time.Hour)
			must(t, os.Chtimes(file, old, old))
			if !c.tells {
				s.site.Workspace.Host = hosttest.WithDisk(filestest.Around(host.Here, func(fsys files.FS) files.FS { return blindDisk{filestest.Able{FS: fsys}} }))
				s.site, err = site.Open(t.Context(), s.site.Workspace)
				must(t, err)
			}
			s.site.Workspace.Config.Files.AnewAfterDays = c.days
			store := s.store(t)
			first := s.take(t, store)
			if c.ago != 0 {
				first.WholeAt, first.FilesAt = first.WholeAt.Add(-c.ago), first.FilesAt.Add(-time.Minute)
				must(t, writeManifest(t.Context(), store, first)) // the newest one
			}
			must(t, os.WriteFile(file, []byte(strings.Replace(string(was), "1.0", "6.6", 1)), 0o644))
			must(t, os.Chtimes(file, old, old))
			of := Subject{Site: s.site, Database: s.db}
			if c.replaced != "" {
				of.Replaced = []string{filepath.ToSlash(filepath.Join(s.dir, "www", c.replaced))}
			}
			second, err := Take(t.Context(), store, of, progress.Silent{})
			must(t, err)
			hashes := map[bool]string{}
			for i, m := range []*Manifest{first, second} {
				tree, err := m.TreeAt(filepath.ToSlash(filepath.Dir(file)))
				must(t, err)
				for _, item := range tree {
					if item.Path == "theme.toml" {
						hashes[i == 1] = item.Hash
					}
				}
			}
			if found := hashes[true] != hashes[false]; found != c.found {
				t.Errorf("the change was found: %v", found)
			}
			blind := strings.Contains(strings.Join(second.Weaker, " "), "not read")
			if whole := second.WholeAt.Equal(second.FilesAt); whole == blind {
				t.Errorf("everything was read: %v; told to be weaker: %q", whole, second.Weaker)
			}
			if c.tells && blind {
				t.Errorf("told to be weaker: %q", second.Weaker)
			}
		})
	}
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
