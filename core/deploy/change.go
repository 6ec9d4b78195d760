// Package deploy puts files in their places on the site: new trees are written beside the live ones,
// exchanged with them in one step, and exchanged back. Begin reading at Change and StageAll. It also has
// PHP drop what it keeps compiled, and shows visitors a notice meanwhile.
//
// It promises that a folder is wholly the old one or wholly the new one at each moment, with the owners,
// modes and labels that it had.
package deploy

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"

	"wetland/core/durable"
	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// Change is one component that a run replaces.
type Change struct {
	Target  *runs.Target
	Pkg     *packages.Package // nil when an earlier run is settled
	Live    string            // the component's folder; of the CMS itself that which its parts are in
	Staged  string            // where the new tree waits, and after the swap the old one
	OldTree files.Tree        // empty: it is not installed yet
	NewTree files.Tree
	fresh   bool // nothing waits at the staged place yet
	// Companions are the folders of plugins that belong to a theme.
	Companions []string
	// Follows is the change of the plugin that brought this one, which goes where that goes; nil: it is wanted for itself.
	Follows *Change
}

// Title names the change for people.
func (c *Change) Title() string { return c.Target.Name + " " + phrase.Version(c.Target.To) }

// Titles names several changes.
func Titles(group []*Change) string {
	var names []string
	for _, c := range group {
		names = append(names, c.Title())
	}
	return phrase.List(names, 4)
}

// Folders lists their folders.
func Folders(group []*Change) []string {
	var names []string
	for _, c := range group {
		names = append(names, c.Key())
	}
	return names
}

// TargetsOf lists what a group replaces.
func TargetsOf(group []*Change) []*runs.Target {
	var all []*runs.Target
	for _, c := range group {
		all = append(all, c.Target)
	}
	return all
}

// Key tells components apart: a theme and a plugin may have one name.
func (c *Change) Key() string { return string(c.Target.Kind) + "/" + c.Target.Folder }

// Present reads what is at the live place; nothing is there of a component that is not
// installed.
func Present(ctx context.Context, s *session.Session, c *Change) (files.Tree, error) {
	tree, err := c.treeAt(ctx, s, c.Live)
	if c.Target.New && errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return tree, err
}

// IsOld tells, by what is there, that the live tree is the old one.
func IsOld(ctx context.Context, s *session.Session, c *Change) bool {
	present, err := Present(ctx, s, c)
	return err == nil && len(files.Exact.Compare(c.OldTree, present)) == 0
}

// IsNew tells, by what is there, that the live tree is the new one.
func IsNew(ctx context.Context, s *session.Session, c *Change) bool {
	return c.NewTree != nil && Holds(ctx, s, c, c.Live, c.NewTree)
}

// Holds tells whether exactly this tree of a change is at the place.
func Holds(ctx context.Context, s *session.Session, c *Change, at string, tree files.Tree) bool {
	present, err := c.treeAt(ctx, s, at)
	return err == nil && len(files.Exact.Compare(tree, present)) == 0
}

// model is the tree whose owners and modes the new one gets: the old one, or of a new
// component the folder that it goes into.
func model(ctx context.Context, s *session.Session, c *Change) (files.Tree, error) {
	if !c.Target.New && !c.inParts() {
		return c.OldTree, nil
	}
	around := path.Dir(c.Live)
	if c.inParts() {
		around = c.Live
	}
	above, err := s.Site.Files.Lstat(ctx, around)
	return append(files.Tree{{Path: ".", Kind: files.Folder, Mode: above.Mode, Owner: above.Owner, Group: above.Group}}, c.OldTree...), err
}

// StageAll writes the new trees beside the live ones, unless they wait there already
// from an earlier attempt.
func StageAll(ctx context.Context, s *session.Session, group []*Change, allowGap bool) error {
	for _, c := range group {
		if err := c.openStaging(ctx, s, allowGap || c.IsCore()); err != nil {
			return err
		}
	}
	staged := map[string]string{}
	for _, c := range group {
		staged[c.Key()] = c.Staged
	}
	if err := s.Journal.Write(runs.TreesStaged{Staged: staged}); err != nil {
		return err
	}
	count, size := 0, int64(0)
	for _, c := range group {
		n, bytes := c.brings().Total()
		count, size = count+n, size+bytes
	}
	return s.Step("staging", size, "bytes", func() (progress.Mark, string, error) {
		for _, c := range group {
			if err := stage(ctx, s, c); err != nil {
				return progress.Bad, "", err
			}
		}
		return progress.Good, fmt.Sprintf("%s (%s) beside those in place, read back", phrase.Plural(count, "new file"), phrase.Bytes(size)), nil
	})
}

// openStaging makes the folder in which the change waits.
func (c *Change) openStaging(ctx context.Context, s *session.Session, allowGap bool) error {
	place, err := OpenStaging(ctx, s, c.Places()[0], allowGap)
	if err != nil {
		return err
	}
	c.Staged = path.Join(place.Folder, s.Run.Name+"-"+string(c.Target.Kind)+"-"+c.Target.Folder)
	c.fresh = place.empty
	return nil
}

// keepStaging makes that folder where it is gone, or was never made: where something waits, it stays.
func (c *Change) keepStaging(ctx context.Context, s *session.Session) error {
	if c.Staged != "" {
		if _, err := s.Site.Files.Lstat(ctx, path.Dir(c.Staged)); err == nil {
			return nil
		}
	}
	return c.openStaging(ctx, s, true)
}

// stage writes one new tree into the staging folder and reads it back.
func stage(ctx context.Context, s *session.Session, c *Change) error {
	if !c.fresh {
		if c.NewTree != nil && Holds(ctx, s, c, c.Staged, c.NewTree) {
			return nil
		}
		if err := s.Site.Files.RemoveAll(ctx, c.Staged); err != nil {
			return err
		}
	}
	model, err := model(ctx, s, c)
	if err != nil {
		return err
	}
	c.NewTree = likeLive(c.brings(), model, s.Site.Host.Now())
	if err := durable.SaveJSON(c.Target.TreeFile(s.Run.Folder), c.NewTree); err != nil {
		return err
	}
	if err := files.WriteTree(ctx, s.Site.Files, c.Staged, c.around(c.NewTree), c.Pkg.Source, s.Report.Advance); err != nil {
		return err
	}
	if err := c.markLike(ctx, s, c.Staged, c.NewTree); err != nil {
		return err
	}
	written, err := c.treeAt(ctx, s, c.Staged)
	if err != nil {
		return err
	}
	if differ := files.Exact.Compare(c.NewTree, written); len(differ) > 0 {
		return fmt.Errorf("what was written differs from what should be there: %d paths differ, the first is %s (%s)", len(differ), differ[0].Path, differ[0].What)
	}
	return nil
}

// ReturnTree makes the live folder equal to the snapshot again: by swapping back the old
// tree where it waits, else from the snapshot's own bytes. It returns what is proved, and
// how it was done; "" if it was so already.
func ReturnTree(ctx context.Context, s *session.Session, c *Change, from *snapshot.Manifest) (proved, how string, err error) {
	if c.Target.New {
		proved, err = takeAway(ctx, s, c)
		return proved, "", err
	}
	if c.IsCore() {
		return returnCore(ctx, s, c, from)
	}
	count, _ := c.OldTree.Total()
	proved = fmt.Sprintf("%s of %s %s equal to %s", phrase.Plural(count, "file"), c.Target.Folder, phrase.Version(c.Target.From), from.Name)
	if IsOld(ctx, s, c) {
		return proved, "", nil
	}
	done, err := c.putOld(ctx, s, from)
	if err != nil {
		return "", "", err
	}
	if !IsOld(ctx, s, c) {
		return "", "", fmt.Errorf("%s is not as in %s after it was put back", phrase.List(c.Places(), 4), from.Name)
	}
	return proved, c.PutText(done), nil
}

// putOld puts the old tree in place: as it waits, else out of the snapshot.
func (c *Change) putOld(ctx context.Context, s *session.Session, from *snapshot.Manifest) (done files.Swapped, err error) {
	if c.inParts() {
		if err := c.keepStaging(ctx, s); err != nil {
			return done, err
		}
		return c.putAll(ctx, s, c.OldTree, c.remake(ctx, s, from), true)
	}
	waiting, err := findOld(ctx, s, c, from)
	if err != nil {
		return done, err
	}
	return Swap(ctx, s, c.Live, waiting, true)
}

// takeAway takes a component away that was not installed before.
func takeAway(ctx context.Context, s *session.Session, c *Change) (string, error) {
	if IsOld(ctx, s, c) {
		return c.Target.Folder + " is not installed, as before", nil
	}
	place, err := OpenStaging(ctx, s, c.Live, true)
	if err != nil {
		return "", err
	}
	away := path.Join(place.Folder, s.Run.Name+"-"+string(c.Target.Kind)+"-"+c.Target.Folder)
	if err := s.Site.Files.RemoveAll(ctx, away); err != nil {
		return "", err
	}
	if err := s.Site.Files.Rename(ctx, c.Live, away); err != nil {
		return "", err
	}
	return c.Target.Folder + " is taken away again", s.Site.Files.SyncFolder(ctx, path.Dir(c.Live))
}

// findOld returns where the old tree waits, making it from the snapshot if it is nowhere
// whole.
func findOld(ctx context.Context, s *session.Session, c *Change, from *snapshot.Manifest) (string, error) {
	for _, folder := range s.Site.Waiting {
		entries, err := s.Site.Files.List(ctx, folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		for _, entry := range entries {
			if at := path.Join(folder, entry.Name); Holds(ctx, s, c, at, c.OldTree) {
				return at, nil
			}
		}
	}
	return stageFromSnapshot(ctx, s, c, from)
}

func stageFromSnapshot(ctx context.Context, s *session.Session, c *Change, from *snapshot.Manifest) (string, error) {
	place, err := OpenStaging(ctx, s, c.Places()[0], true)
	if err != nil {
		return "", err
	}
	items, err := c.itemsIn(from)
	if err != nil {
		return "", err
	}
	staged := path.Join(place.Folder, s.Run.Name+"-old-"+string(c.Target.Kind)+"-"+c.Target.Folder)
	if err := s.Site.Files.RemoveAll(ctx, staged); err != nil {
		return "", err
	}
	if err := files.WriteTree(ctx, s.Site.Files, staged, c.around(c.OldTree), snapshot.Source(ctx, s.Store, items), nil); err != nil {
		return "", err
	}
	return staged, c.markLike(ctx, s, staged, c.OldTree)
}

// StillActive finds out whether what was active still is.
func StillActive(s *session.Session, c *Change, now []cms.Component) string {
	was, _ := site.Component(s.Components, c.Target.Kind, c.Target.Folder)
	is, ok := site.Component(now, c.Target.Kind, c.Target.Folder)
	switch {
	case !ok || is.Problem != "":
		return fmt.Sprintf("the CMS does not find %s any more: %s", c.Target.Folder, is.Problem)
	case was.Active && !is.Active, was.ParentOfActive && !is.ParentOfActive:
		return fmt.Sprintf("%s was active, and is not any more", c.Target.Folder)
	case c.Target.To != "" && is.Version != c.Target.To:
		return fmt.Sprintf("the CMS reads version %s of %s, not %s", phrase.Version(is.Version), c.Target.Folder, c.Target.To)
	}
	return ""
}

// Shelve puts the replaced version on the shelf, and the new one's package, so that edits
// by hand can be told later. If that is not possible the snapshot still holds the old one.
func Shelve(ctx context.Context, s *session.Session, c *Change, from *snapshot.Manifest) string {
	if c.Pkg != nil {
		if _, err := s.Shelf().Add(c.Pkg, filepath.Base(c.Pkg.Origin)); err != nil {
			s.Report.End(progress.Note, "shelf", fmt.Sprintf("the package is not on the shelf: %v", err))
		}
	}
	if c.Target.New {
		return c.Target.Folder + " was not installed before and is not active: that is for you to do, in the CMS"
	}
	if c.Target.From == c.Target.To { // beside its original it would only be in the way
		return fmt.Sprintf("%s as it was is in %s", c.Target.Folder, from.Name)
	}
	old, _ := site.Component(s.Components, c.Target.Kind, c.Target.Folder)
	old.Version = c.Target.From
	kept, err := s.Shelf().Keep(ctx, old, c.asPackage(c.OldTree), oldSource(ctx, s, c, from), "replaced by "+s.Run.Name)
	if err != nil {
		return fmt.Sprintf("%s %s is in %s (not on the shelf: %v)", c.Target.Folder, phrase.Version(c.Target.From), from.Name, err)
	}
	c.Target.Shelved = kept.File
	return fmt.Sprintf("%s %s is on the shelf and in %s", c.Target.Folder, phrase.Version(c.Target.From), from.Name)
}

// oldSource gives the bytes of what is replaced: out of the snapshot, which is at hand wherever the
// site is.
func oldSource(ctx context.Context, s *session.Session, c *Change, from *snapshot.Manifest) files.Source {
	items, err := c.itemsIn(from)
	if err != nil {
		return files.SourceIn(ctx, s.Site.Files, c.Staged)
	}
	return snapshot.Source(ctx, s.Store, items)
}

// Leaders are the changes that follow no other one.
func Leaders(all []*Change) []*Change {
	return slices.DeleteFunc(slices.Clone(all), func(c *Change) bool { return c.Follows != nil })
}

// WithFollowers adds to some changes those of all that follow them.
func WithFollowers(some, all []*Change) (whole []*Change) {
	for _, c := range some {
		whole = append(whole, c)
		for _, other := range all {
			if other.Follows == c {
				whole = append(whole, other)
			}
		}
	}
	return whole
}

// WithFate picks the changes that had such a fate; "": none yet.
func WithFate(all []*Change, fate runs.Fate) []*Change {
	return slices.DeleteFunc(slices.Clone(all), func(c *Change) bool { return c.Target.Fate != fate })
}

// Without returns the changes of all that are not in some.
func Without(all, some []*Change) []*Change {
	return slices.DeleteFunc(slices.Clone(all), func(c *Change) bool { return slices.Contains(some, c) })
}
