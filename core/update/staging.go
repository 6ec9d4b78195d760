package update

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/progress"
	"wetland/core/site"
)

const (
	goodMark  = progress.Good
	badMark   = progress.Bad
	doubtMark = progress.Doubt
	noteMark  = progress.Note
)

// staging is the private folder in which new trees wait for their swap, and old
// ones for the verdict.
type staging struct {
	folder   string
	exchange bool // names can be exchanged with the live ones in one step
}

// stagingFolders lists where trees may wait: outside the web root if possible,
// for what lies inside can be fetched or run by visitors.
func (s *session) stagingFolders() []string {
	layout := s.site.CMS.Layout()
	top := layout.Areas[0].Path
	outside := path.Join(path.Dir(top), site.StagingName+"-"+path.Base(top))
	return []string{outside, path.Join(path.Dir(layout.Themes), site.StagingName)}
}

// openStaging picks the folder by trying the exchange with the live folder's
// parent, and makes it.
func (s *session) openStaging(live string, allowGap bool) (staging, error) {
	var fallback staging
	var refused []string
	for _, folder := range s.stagingFolders() {
		made, err := s.makeStaging(folder)
		if err != nil {
			refused = append(refused, fmt.Sprintf("%s: %v", folder, err))
			continue
		}
		err = files.TryExchange(s.site.Place, folder, path.Dir(live), strings.ToLower(rand.Text()[:8]))
		if err == nil {
			return staging{folder: folder, exchange: true}, nil
		}
		refused = append(refused, fmt.Sprintf("%s: %v", folder, err))
		if errors.Is(err, files.ErrUnsupported) && fallback.folder == "" && s.sameDevice(folder, live) {
			fallback = staging{folder: folder}
			continue
		}
		if made {
			if err := s.site.Place.Remove(folder); err != nil {
				return staging{}, err
			}
		}
	}
	if fallback.folder == "" {
		return staging{}, fmt.Errorf("new files cannot be put beside the site: %s", strings.Join(refused, "; "))
	}
	if !allowGap {
		return staging{}, errors.Join(fmt.Errorf("this disk cannot exchange two folders in one step: between two renames visitors would find the folder missing for an instant. To accept that, add --allow-gap (%s)", strings.Join(refused, "; ")), s.site.Place.Remove(fallback.folder))
	}
	return fallback, nil
}

func (s *session) makeStaging(folder string) (made bool, err error) {
	err = s.site.Place.Mkdir(folder, files.Attributes{Mode: 0o700, Owner: files.Unowned, Group: files.Unowned})
	if errors.Is(err, fs.ErrExist) {
		return false, nil
	}
	return err == nil, err
}

func (s *session) sameDevice(a, b string) bool {
	first, err1 := s.site.Place.Lstat(a)
	second, err2 := s.site.Place.Lstat(b)
	return err1 == nil && err2 == nil && first.Device == second.Device
}

// closeStaging removes everything that waits and the folder itself, and what a
// crash may have left of trying an exchange.
func (s *session) closeStaging(ctx context.Context) error {
	if err := s.takeDownNotice(); err != nil {
		return err
	}
	for _, folder := range s.stagingFolders() {
		if err := files.RemoveAll(ctx, s.site.Place, folder); err != nil {
			return fmt.Errorf("clear %s: %w", folder, err)
		}
	}
	layout := s.site.CMS.Layout()
	for _, folder := range []string{layout.Themes, layout.Plugins} {
		entries, err := s.site.Place.List(folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, entry := range entries {
			if entry.Kind == files.Folder && strings.HasPrefix(entry.Name, files.ProbePrefix) {
				if err := s.site.Place.Remove(path.Join(folder, entry.Name)); err != nil {
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
	fileMode := usualMode(old)
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

// usualMode is the mode that most files of a tree have; 0 if it has none.
func usualMode(tree files.Tree) uint32 {
	count := map[uint32]int{}
	best := uint32(0)
	for _, item := range tree {
		if item.Kind == files.File {
			count[item.Mode]++
			if count[item.Mode] > count[best] {
				best = item.Mode
			}
		}
	}
	return best
}
