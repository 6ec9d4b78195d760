package update

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"

	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/progress"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// change is one component that a run replaces.
type change struct {
	target  *Target
	pkg     *packages.Package // nil when an earlier run is settled
	live    string            // the component's folder
	staged  string            // where the new tree waits, and after the swap the old one
	oldTree files.Tree        // empty: it is not installed yet
	newTree files.Tree
	// companions are the folders of plugins that belong to a theme.
	companions []string
}

// title names the change for people.
func (c *change) title() string { return c.target.Name + " " + versionText(c.target.To) }

// titles names several changes.
func titles(group []*change) string {
	var names []string
	for _, c := range group {
		names = append(names, c.title())
	}
	return list(names, 4)
}

// folders lists their folders.
func folders(group []*change) []string {
	var names []string
	for _, c := range group {
		names = append(names, c.key())
	}
	return names
}

func targetsOf(group []*change) []*Target {
	var all []*Target
	for _, c := range group {
		all = append(all, c.target)
	}
	return all
}

// key tells components apart: a theme and a plugin may have one name.
func (c *change) key() string { return string(c.target.Kind) + "/" + c.target.Folder }

// treeFile is where the run keeps what the new tree is.
func (t *Target) treeFile(run string) string {
	return filepath.Join(run, "new-tree-"+string(t.Kind)+"-"+fileName(t.Folder)+".json")
}

// present reads what is at the live place; nothing is there of a component that is not
// installed.
func (s *session) present(ctx context.Context, c *change) (files.Tree, error) {
	tree, err := files.ReadTree(ctx, s.site.Files, c.live, nil)
	if c.target.New && errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return tree, err
}

// isOld tells, by what is there, that the live tree is the old one.
func (s *session) isOld(ctx context.Context, c *change) bool {
	present, err := s.present(ctx, c)
	return err == nil && len(files.Exact.Compare(c.oldTree, present)) == 0
}

func (s *session) isNew(ctx context.Context, c *change) bool {
	return c.newTree != nil && s.holds(ctx, c.live, c.newTree)
}

// holds tells whether exactly this tree is at the place.
func (s *session) holds(ctx context.Context, at string, tree files.Tree) bool {
	present, err := files.ReadTree(ctx, s.site.Files, at, nil)
	return err == nil && len(files.Exact.Compare(tree, present)) == 0
}

// model is the tree whose owners and modes the new one gets: the old one, or of a new
// component the folder that it goes into.
func (s *session) model(ctx context.Context, c *change) (files.Tree, error) {
	if !c.target.New {
		return c.oldTree, nil
	}
	above, err := s.site.Files.Lstat(ctx, path.Dir(c.live))
	return files.Tree{{Path: ".", Kind: files.Folder, Mode: above.Mode, Owner: above.Owner, Group: above.Group}}, err
}

// stageAll writes the new trees beside the live ones, unless they wait there already
// from an earlier attempt.
func (s *session) stageAll(ctx context.Context, group []*change, allowGap bool) error {
	for _, c := range group {
		place, err := s.openStaging(ctx, c.live, allowGap)
		if err != nil {
			return err
		}
		c.staged = path.Join(place.folder, s.run.Name+"-"+string(c.target.Kind)+"-"+c.target.Folder)
	}
	staged := map[string]string{}
	for _, c := range group {
		staged[c.key()] = c.staged
	}
	if err := s.log.Write(stepStage, map[string]any{"staged": staged}); err != nil {
		return err
	}
	count, size := 0, int64(0)
	for _, c := range group {
		n, bytes := c.pkg.Tree.Total()
		count, size = count+n, size+bytes
	}
	return s.step("staging", size, "bytes", func() (progress.Mark, string, error) {
		for _, c := range group {
			if err := s.stage(ctx, c); err != nil {
				return progress.Bad, "", err
			}
		}
		return progress.Good, fmt.Sprintf("%s (%s) beside the live ones, read back", plural(count, "new file"), bytesText(size)), nil
	})
}

// stage writes one new tree into the staging folder and reads it back.
func (s *session) stage(ctx context.Context, c *change) error {
	if c.newTree != nil && s.holds(ctx, c.staged, c.newTree) {
		return nil
	}
	if err := s.site.Files.RemoveAll(ctx, c.staged); err != nil {
		return err
	}
	model, err := s.model(ctx, c)
	if err != nil {
		return err
	}
	c.newTree = dress(c.pkg.Tree, model)
	if err := saveJSON(c.target.treeFile(s.run.Folder), c.newTree); err != nil {
		return err
	}
	if err := files.WriteTree(ctx, s.site.Files, c.staged, c.newTree, c.pkg.Source, s.Report.Advance); err != nil {
		return err
	}
	if err := s.markLike(ctx, c.staged, c.newTree, c.live); err != nil {
		return err
	}
	written, err := files.ReadTree(ctx, s.site.Files, c.staged, nil)
	if err != nil {
		return err
	}
	if differ := files.Exact.Compare(c.newTree, written); len(differ) > 0 {
		return fmt.Errorf("what was written differs from what should be there: %d paths differ, the first is %s (%s)", len(differ), differ[0].Path, differ[0].What)
	}
	return nil
}

// returnTree makes the live folder equal to the snapshot again: by swapping back the old
// tree where it waits, else from the snapshot's own bytes. It returns what is proved, and
// how it was done; "" if it was so already.
func (s *session) returnTree(ctx context.Context, c *change, from *snapshot.Manifest) (proved, how string, err error) {
	if c.target.New {
		proved, err = s.takeAway(ctx, c)
		return proved, "", err
	}
	count, _ := c.oldTree.Total()
	proved = fmt.Sprintf("%s of %s %s equal to %s", plural(count, "file"), c.target.Folder, versionText(c.target.From), from.Name)
	if s.isOld(ctx, c) {
		return proved, "", nil
	}
	waiting, err := s.findOld(ctx, c, from)
	if err != nil {
		return "", "", err
	}
	done, err := files.Swap(ctx, s.site.Files, c.live, waiting, true)
	if err != nil {
		return "", "", err
	}
	if !s.isOld(ctx, c) {
		return "", "", fmt.Errorf("%s is not as in %s after it was put back", c.live, from.Name)
	}
	return proved, swapText(done), nil
}

// takeAway takes a component away that was not installed before.
func (s *session) takeAway(ctx context.Context, c *change) (string, error) {
	if s.isOld(ctx, c) {
		return c.target.Folder + " is not installed, as before", nil
	}
	place, err := s.openStaging(ctx, c.live, true)
	if err != nil {
		return "", err
	}
	away := path.Join(place.folder, s.run.Name+"-"+string(c.target.Kind)+"-"+c.target.Folder)
	if err := s.site.Files.RemoveAll(ctx, away); err != nil {
		return "", err
	}
	if err := s.site.Files.Rename(ctx, c.live, away); err != nil {
		return "", err
	}
	return c.target.Folder + " is taken away again", s.site.Files.SyncFolder(ctx, path.Dir(c.live))
}

// findOld returns where the old tree waits, making it from the snapshot if it is nowhere
// whole.
func (s *session) findOld(ctx context.Context, c *change, from *snapshot.Manifest) (string, error) {
	for _, folder := range s.site.Waiting {
		entries, err := s.site.Files.List(ctx, folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		for _, entry := range entries {
			if at := path.Join(folder, entry.Name); s.holds(ctx, at, c.oldTree) {
				return at, nil
			}
		}
	}
	return s.stageFromSnapshot(ctx, c, from)
}

func (s *session) stageFromSnapshot(ctx context.Context, c *change, from *snapshot.Manifest) (string, error) {
	place, err := s.openStaging(ctx, c.live, true)
	if err != nil {
		return "", err
	}
	area, below, err := from.AreaOf(c.live)
	if err != nil {
		return "", err
	}
	staged := path.Join(place.folder, s.run.Name+"-old-"+string(c.target.Kind)+"-"+c.target.Folder)
	if err := s.site.Files.RemoveAll(ctx, staged); err != nil {
		return "", err
	}
	if err := files.WriteTree(ctx, s.site.Files, staged, c.oldTree, s.store.Source(area.ItemsBelow(below)), nil); err != nil {
		return "", err
	}
	return staged, s.markLike(ctx, staged, c.oldTree, c.live)
}

// stillActive finds out whether what was active still is.
func (s *session) stillActive(c *change, now []cms.Component) string {
	was, _ := site.Component(s.components, c.target.Kind, c.target.Folder)
	is, ok := site.Component(now, c.target.Kind, c.target.Folder)
	switch {
	case !ok || is.Problem != "":
		return fmt.Sprintf("the CMS does not find %s any more: %s", c.target.Folder, is.Problem)
	case was.Active && !is.Active, was.ParentOfActive && !is.ParentOfActive:
		return fmt.Sprintf("%s was active, and is not any more", c.target.Folder)
	case c.target.To != "" && is.Version != c.target.To:
		return fmt.Sprintf("the CMS reads version %s of %s, not %s", versionText(is.Version), c.target.Folder, c.target.To)
	}
	return ""
}

// shelve puts the replaced version on the shelf, and the new one's package, so that edits
// by hand can be told later. If that is not possible the snapshot still holds the old one.
func (s *session) shelve(ctx context.Context, c *change, from *snapshot.Manifest) string {
	if c.pkg != nil {
		if _, err := s.shelf().Add(c.pkg, filepath.Base(c.pkg.Origin)); err != nil {
			s.Report.End(progress.Note, "shelf", fmt.Sprintf("the package is not on the shelf: %v", err))
		}
	}
	if c.target.New {
		return c.target.Folder + " was not installed before and is not active: that is for you to do, in the CMS"
	}
	if c.target.From == c.target.To { // beside its original it would only be in the way
		return fmt.Sprintf("%s as it was is in %s", c.target.Folder, from.Name)
	}
	old, _ := site.Component(s.components, c.target.Kind, c.target.Folder)
	old.Version = c.target.From
	kept, err := s.shelf().Keep(ctx, old, c.oldTree, reread(ctx, s.site.Files, c.staged), "replaced by "+s.run.Name)
	if err != nil {
		return fmt.Sprintf("%s %s is in %s (not on the shelf: %v)", c.target.Folder, versionText(c.target.From), from.Name, err)
	}
	c.target.Shelved = kept.File
	return fmt.Sprintf("%s %s is on the shelf and in %s", c.target.Folder, versionText(c.target.From), from.Name)
}

func withFate(all []*change, fate Fate) []*change {
	return slices.DeleteFunc(slices.Clone(all), func(c *change) bool { return c.target.Fate != fate })
}

// without returns the changes of all that are not in some.
func without(all, some []*change) []*change {
	return slices.DeleteFunc(slices.Clone(all), func(c *change) bool { return slices.Contains(some, c) })
}
