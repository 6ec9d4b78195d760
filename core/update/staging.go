package update

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/site"
)

// staging is the private folder in which new trees wait for their swap, and old
// ones for the verdict.
type staging struct {
	folder   string
	exchange bool // names can be exchanged with the live ones in one step
}

// stagingPrefix begins the names of the folders in which trees wait.
const stagingPrefix = ".wetland-staging-"

func newStagingName() string { return stagingPrefix + strings.ToLower(rand.Text()) }

// stagingFolders lists where the run's trees may wait: outside the web root if possible,
// for what lies inside can be fetched or run by visitors.
func (s *session) stagingFolders() []string { return foldersOfStaging(s.site, s.run) }

// waitingOf lists the staging folders of runs that did not end as they should: what may wait
// in them is no part of the site. A run whose record cannot be read names none: that is told
// where it matters.
func waitingOf(of *site.Site) []string {
	names, _ := runNames(of.Workspace)
	var waiting []string
	for _, name := range names {
		run, err := LoadRun(of.Workspace, name)
		if err == nil && (run.State == UnderWay || run.State == NeedsPerson) && run.namesStaging() {
			waiting = append(waiting, foldersOfStaging(of, run)...)
		}
	}
	return waiting
}

// namesStaging tells whether the record has a name that this program gave: what it names is
// removed in the end.
func (r *Run) namesStaging() bool {
	return strings.HasPrefix(r.Staging, stagingPrefix) && !strings.ContainsAny(r.Staging, `/\`)
}

func foldersOfStaging(of *site.Site, run *Run) []string {
	layout := of.CMS.Layout()
	return []string{path.Join(path.Dir(layout.Areas[0].Path), run.Staging), path.Join(path.Dir(layout.Themes), run.Staging)}
}

// openStaging picks the folder by trying the exchange with the live folder's
// parent, and makes it.
func (s *session) openStaging(ctx context.Context, live string, allowGap bool) (staging, error) {
	undo := context.WithoutCancel(ctx)
	var fallback staging
	var refused []string
	for _, folder := range s.stagingFolders() {
		made, err := s.makeStaging(ctx, folder)
		if err != nil {
			refused = append(refused, fmt.Sprintf("%s: %v", folder, err))
			continue
		}
		err = files.TryExchange(ctx, s.site.Files, folder, path.Dir(live), strings.ToLower(rand.Text()[:8]))
		if err == nil {
			return staging{folder: folder, exchange: true}, nil
		}
		refused = append(refused, fmt.Sprintf("%s: %v", folder, err))
		if errors.Is(err, files.ErrUnsupported) && fallback.folder == "" && s.sameDevice(ctx, folder, live) {
			fallback = staging{folder: folder}
			continue
		}
		if made {
			if err := s.site.Files.Remove(undo, folder); err != nil {
				return staging{}, err
			}
		}
	}
	if fallback.folder == "" {
		return staging{}, fmt.Errorf("new files cannot be put beside the site: %s", strings.Join(refused, "; "))
	}
	if !allowGap {
		return staging{}, errors.Join(fmt.Errorf("this disk cannot exchange two folders in one step: between two renames visitors would find the folder missing for an instant. To accept that, add --allow-gap (%s)", strings.Join(refused, "; ")), s.site.Files.Remove(undo, fallback.folder))
	}
	return fallback, nil
}

// makeStaging makes a folder that nobody else can look into, or takes the one that this run
// has made before.
func (s *session) makeStaging(ctx context.Context, folder string) (made bool, err error) {
	err = s.site.Files.Mkdir(ctx, folder, files.Attributes{Mode: 0o700, Owner: files.Unowned, Group: files.Unowned})
	if errors.Is(err, fs.ErrExist) {
		return false, s.provedOurs(ctx, folder)
	}
	if err == nil {
		s.made = append(s.made, folder)
	}
	return err == nil, err
}

// errPlanted says that somebody made a folder of the name that only this run knows.
var errPlanted = errors.New("somebody else has made it: it is not used, and stays")

// provedOurs tells whether a staging folder is one that this user made, and that nobody else
// may write to.
func (s *session) provedOurs(ctx context.Context, folder string) error {
	entry, err := s.site.Files.Lstat(ctx, folder)
	if err != nil {
		return err
	}
	// Some disks give all that is made on them to one user.
	mine := entry.Owner == files.Unowned || entry.Owner == os.Geteuid() || slices.Contains(s.made, folder)
	if entry.Kind != files.Folder || !mine || (entry.Owner != files.Unowned && entry.Mode&0o077 != 0) {
		return errPlanted
	}
	return nil
}

func (s *session) sameDevice(ctx context.Context, a, b string) bool {
	first, err1 := s.site.Files.Lstat(ctx, a)
	second, err2 := s.site.Files.Lstat(ctx, b)
	return err1 == nil && err2 == nil && first.Device == second.Device
}

// closeStaging removes everything that waits and the folders themselves, and what a
// crash may have left of trying an exchange.
func (s *session) closeStaging(ctx context.Context) error {
	always := context.WithoutCancel(ctx) // these are seen and run by visitors
	if err := errors.Join(s.takeDownNotice(always), s.removeOneUse(always)); err != nil {
		return err
	}
	for _, folder := range s.site.Waiting {
		if err := s.provedOurs(ctx, folder); errors.Is(err, fs.ErrNotExist) || errors.Is(err, errPlanted) {
			continue
		}
		if err := s.site.Files.RemoveAll(ctx, folder); err != nil {
			return fmt.Errorf("clear %s: %w", folder, err)
		}
	}
	layout := s.site.CMS.Layout()
	for _, folder := range []string{layout.Themes, layout.Plugins} {
		entries, err := s.site.Files.List(ctx, folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, entry := range entries {
			if entry.Kind == files.Folder && strings.HasPrefix(entry.Name, files.ProbePrefix) {
				if err := s.site.Files.Remove(ctx, path.Join(folder, entry.Name)); err != nil {
					return fmt.Errorf("clear %s: %w", folder, err)
				}
			}
		}
	}
	return nil
}

// dress gives the new tree the owner, group and modes of what it replaces, and a
// time of its own: with the time of an older file, compiled code that PHP keeps
// would stay in use for ever.
func dress(tree, old files.Tree) files.Tree {
	known := map[string]files.Item{}
	newest := time.Time{}
	for _, item := range old {
		known[item.Path] = item
		if item.Modified.After(newest) {
			newest = item.Modified
		}
	}
	now := time.Now().Truncate(time.Second)
	if !now.After(newest) {
		now = newest.Truncate(time.Second).Add(time.Second)
	}
	top := known["."]
	fileMode := files.UsualMode(old)
	dressed := make(files.Tree, len(tree))
	for i, item := range tree {
		item.Owner, item.Group, item.Modified = top.Owner, top.Group, now
		before, had := known[item.Path]
		switch {
		case had && before.Kind == item.Kind:
			item.Mode, item.Owner, item.Group = before.Mode, before.Owner, before.Group
		case item.Kind == files.Folder && top.Mode != 0:
			item.Mode = top.Mode
		case item.Kind == files.File && fileMode != 0:
			item.Mode = fileMode
		}
		dressed[i] = item
	}
	return dressed
}

// markLike gives a staged tree the access lists and labels of what is at the live place.
func (s *session) markLike(ctx context.Context, staged string, tree files.Tree, live string) error {
	unread := func(string, files.Entry) string { return "not read" }
	present, err := files.ReadTreeKnowing(ctx, s.site.Files, live, nil, unread)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return files.MarkTree(ctx, s.site.Files, staged, tree, live, present)
}

// mounted returns the first folder of a component at which something else is mounted: it
// stays where it is when the tree around it is exchanged, and a mount cannot be exchanged
// itself. "" is none.
func (s *session) mounted(ctx context.Context, live string) (string, error) {
	found := ""
	err := files.Walk(ctx, s.site.Files, live, nil, func(at string, entry files.Entry) error {
		if entry.Kind != files.Folder || found != "" {
			return nil
		}
		mounted, err := s.site.Files.MountedAt(ctx, path.Join(live, at))
		if mounted {
			found = path.Join(live, at)
		}
		return err
	})
	return found, err
}

// checkMounts refuses components that cannot be exchanged as a whole.
func (s *session) checkMounts(ctx context.Context, live string, why *reasons) {
	folder, err := s.mounted(ctx, live)
	switch {
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		why.add(fmt.Sprintf("it cannot be found out whether something is mounted in %s: %v", live, err), "Run Wetland as the user who owns the site's files.")
	case folder == live:
		why.add(live+" is a mount point: it cannot be exchanged in one step, and other sites may use the same files", "Update the files at the place they are mounted from, or unmount them and put the real folder here.")
	case folder != "":
		why.add(fmt.Sprintf("%s, inside of the component, is a mount point: it would not come along when the folder around it is exchanged", folder), "Unmount it for the update, or move what is mounted there out of the component.")
	}
}
