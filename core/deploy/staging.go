package deploy

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/session"
)

// staging is the private folder in which new trees wait for their swap, and old
// ones for the verdict.
type Staging struct {
	Folder   string
	exchange bool // names can be exchanged with the live ones in one step
	empty    bool // it was made just now
}

// noExchange says what it means that two folders cannot be exchanged, and allowGap what to do about it.
const (
	noExchange = "this disk cannot exchange two folders in one step: between two renames visitors would find the folder missing for an instant"
	allowGap   = "To accept that, add --allow-gap."
)

// CheckGap refuses, before anything is touched, what would leave folders absent for an instant, where that is known
// beforehand and was not accepted. A disk that can exchange may refuse all the same, once it is tried.
func CheckGap(ctx context.Context, s *session.Session, folders []string, accepted bool, why *runs.Reasons) {
	if accepted || s.Site.Files.CanExchange() {
		return
	}
	var there []string
	for _, folder := range folders {
		if _, err := s.Site.Files.Lstat(ctx, folder); err == nil { // into an empty place it is one step
			there = append(there, path.Base(folder))
		}
	}
	if len(there) > 0 {
		why.Add(noExchange+" ("+phrase.List(there, 4)+")", allowGap)
	}
}

// OpenStaging picks the folder by trying the exchange with the live folder's
// parent, and makes it.
func OpenStaging(ctx context.Context, s *session.Session, live string, accepted bool) (Staging, error) {
	undo := context.WithoutCancel(ctx)
	var fallback Staging
	var refused []string
	for _, folder := range s.StagingFolders() {
		made, err := makeStaging(ctx, s, folder)
		if err != nil {
			refused = append(refused, fmt.Sprintf("%s: %v", folder, err))
			continue
		}
		err = files.TryExchange(ctx, s.Site.Files, folder, path.Dir(live), strings.ToLower(rand.Text()[:8]))
		if err == nil {
			return Staging{Folder: folder, exchange: true, empty: made}, nil
		}
		refused = append(refused, fmt.Sprintf("%s: %v", folder, err))
		if errors.Is(err, files.ErrUnsupported) && fallback.Folder == "" && SameDevice(ctx, s, folder, live) {
			fallback = Staging{Folder: folder}
			continue
		}
		if made {
			if err := s.Site.Files.Remove(undo, folder); err != nil {
				return Staging{}, err
			}
		}
	}
	if fallback.Folder == "" {
		return Staging{}, fmt.Errorf("new files cannot be put beside the site: %s", strings.Join(refused, "; "))
	}
	if !accepted {
		return Staging{}, errors.Join(fmt.Errorf("%s. %s (%s)", noExchange, allowGap, strings.Join(refused, "; ")), s.Site.Files.Remove(undo, fallback.Folder))
	}
	return fallback, nil
}

// makeStaging makes a folder that nobody else can look into, or takes the one that this run
// has made before.
func makeStaging(ctx context.Context, s *session.Session, folder string) (made bool, err error) {
	s.Staging = true
	err = s.Site.Files.Mkdir(ctx, folder, files.Attributes{Mode: 0o700, Owner: files.Unowned, Group: files.Unowned})
	if errors.Is(err, fs.ErrExist) {
		return false, provedOurs(ctx, s, folder)
	}
	if err == nil {
		s.Made = append(s.Made, folder)
	}
	return err == nil, err
}

// errPlanted says that somebody made a folder of the name that only this run knows.
var errPlanted = errors.New("somebody else made it: it is not used, and is left there")

// provedOurs tells whether a staging folder is one that this user made, and that nobody else
// may write to.
func provedOurs(ctx context.Context, s *session.Session, folder string) error {
	entry, err := s.Site.Files.Lstat(ctx, folder)
	if err != nil {
		return err
	}
	if !isMine(ctx, s, folder, entry) || entry.Owner != files.Unowned && entry.Mode&0o077 != 0 {
		return errPlanted
	}
	return nil
}

// isMine tells of a folder that this user made.
func isMine(ctx context.Context, s *session.Session, folder string, entry files.Entry) bool {
	// Some disks give all that is made on them to one user.
	mine := entry.Owner == files.Unowned || entry.Owner == s.Site.Host.Accounts().Self(ctx) || slices.Contains(s.Made, folder)
	return mine && entry.Kind == files.Folder
}

// SameDevice tells whether two paths are on one disk.
func SameDevice(ctx context.Context, s *session.Session, a, b string) bool {
	first, err1 := s.Site.Files.Lstat(ctx, a)
	second, err2 := s.Site.Files.Lstat(ctx, b)
	return err1 == nil && err2 == nil && first.Device == second.Device
}

// CloseStaging removes everything that waits and the folders themselves, and what a
// crash may have left of trying an exchange.
func CloseStaging(ctx context.Context, s *session.Session) error {
	always := context.WithoutCancel(ctx) // these are seen and run by visitors
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error { return TakeDownNotice(always, s) })
	group.Go(func() error { return removeOneUse(always, s) })
	for _, folder := range s.Site.Waiting {
		group.Go(func() error { return clearWaiting(ctx, s, folder) })
	}
	for _, home := range s.Site.CMS.Layout().Homes() {
		group.Go(func() error { return clearProbes(ctx, s, home.Path) })
	}
	return group.Wait()
}

func clearWaiting(ctx context.Context, s *session.Session, folder string) error {
	err := provedOurs(ctx, s, folder)
	if errors.Is(err, errPlanted) {
		return clearUnclosed(ctx, s, folder)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err := s.Site.Files.RemoveAll(ctx, folder); err != nil {
		return fmt.Errorf("clear %s: %w", folder, err)
	}
	return nil
}

// clearUnclosed takes away a folder of ours that is still open to others: not every disk makes folders that are
// closed from the beginning, and a crash may have come in between. Then nothing is in it; else it is no staging folder.
func clearUnclosed(ctx context.Context, s *session.Session, folder string) error {
	entry, err := s.Site.Files.Lstat(ctx, folder)
	if err != nil || !isMine(ctx, s, folder, entry) {
		return nil // it is somebody else's, or gone
	}
	if within, err := s.Site.Files.List(ctx, folder); err != nil || len(within) > 0 {
		return nil
	}
	if err := s.Site.Files.Remove(ctx, folder); err != nil {
		return fmt.Errorf("clear %s: %w", folder, err)
	}
	return nil
}

func clearProbes(ctx context.Context, s *session.Session, folder string) error {
	entries, err := s.Site.Files.List(ctx, folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, entry := range entries {
		if entry.Kind == files.Folder && strings.HasPrefix(entry.Name, files.ProbePrefix) {
			if err := s.Site.Files.Remove(ctx, path.Join(folder, entry.Name)); err != nil {
				return fmt.Errorf("clear %s: %w", folder, err)
			}
		}
	}
	return nil
}

// likeLive gives the new tree the owner, group and modes of what it replaces, and a
// time of its own: with the time of an older file, compiled code that PHP keeps
// would stay in use for ever.
func likeLive(tree, old files.Tree, now time.Time) files.Tree {
	known := map[string]files.Item{}
	newest := time.Time{}
	for _, item := range old {
		known[item.Path] = item
		if item.Modified.After(newest) {
			newest = item.Modified
		}
	}
	now = now.Truncate(time.Second)
	if !now.After(newest) {
		now = newest.Truncate(time.Second).Add(time.Second)
	}
	top := known["."]
	fileMode := files.UsualMode(old)
	alike := make(files.Tree, len(tree))
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
		alike[i] = item
	}
	return alike
}

// MarkLike gives a staged tree the access lists and labels of what is at the live place.
func MarkLike(ctx context.Context, s *session.Session, staged string, tree files.Tree, live string) error {
	return markLike(ctx, s, staged, tree, live, files.Scope{})
}

func markLike(ctx context.Context, s *session.Session, staged string, tree files.Tree, live string, scope files.Scope) error {
	unread := func(string, files.Entry) string { return "not read" }
	present, err := files.ReadTreeKnowing(ctx, s.Site.Files, live, scope, unread)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return files.MarkTree(ctx, s.Site.Files, staged, tree, live, present)
}

// Mounted returns the first folder of a component at which something else is mounted: it
// stays where it is when the tree around it is exchanged, and a mount cannot be exchanged
// itself. "" is none.
func Mounted(ctx context.Context, s *session.Session, live string) (string, error) {
	var folders []string
	err := files.Walk(ctx, s.Site.Files, live, files.Scope{}, func(at string, entry files.Entry) error {
		if entry.Kind == files.Folder {
			folders = append(folders, path.Join(live, at))
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	mounted := make([]bool, len(folders))
	err = files.AtOnce(ctx, s.Site.Files, len(folders), func(ctx context.Context, i int) (err error) {
		mounted[i], err = s.Site.Files.MountedAt(ctx, folders[i])
		return err
	})
	if first := slices.Index(mounted, true); err == nil && first >= 0 {
		return folders[first], nil
	}
	return "", err
}
