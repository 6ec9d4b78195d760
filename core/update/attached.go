package update

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"wetland/core/deploy"
	"wetland/core/preflight"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/site"
)

// attach lets the files that stand in for parts of the CMS follow the plugin that brought them, in the same step. One that is
// wanted for itself, as from the shelf, follows it, too, and is taken from its own package.
func (m *motion) attach(ctx context.Context, c *deploy.Change) error {
	installed, ok := site.Component(m.Components, c.Target.Kind, c.Target.Folder)
	if !ok {
		return nil
	}
	found, err := preflight.Followers(ctx, m.Session, installed)
	if err != nil {
		return err
	}
	for _, one := range found {
		wanted := slices.IndexFunc(m.changes, func(other *deploy.Change) bool {
			return other.Target.Kind == one.Kind && other.Target.Folder == one.Folder
		})
		if wanted >= 0 {
			m.changes[wanted].Follows = c
		} else if err := m.attachFile(ctx, c, one); err != nil {
			return err
		}
	}
	return nil
}

func (m *motion) attachFile(ctx context.Context, c *deploy.Change, follows preflight.Follower) error {
	pkg, err := c.Pkg.Single(ctx, follows.At, follows.Folder, m.scratch, m.Site.CMS.ReadHeader)
	if errors.Is(err, fs.ErrNotExist) {
		m.Report.End(progress.Note, "drop-in", fmt.Sprintf("%s is from the installed %s, and the package has none: it stays as it is", follows.Folder, c.Target.Folder))
		return nil
	}
	if err != nil {
		return err
	}
	pkg.Header.Kind, pkg.Folder, pkg.Header.Name = follows.Kind, follows.Folder, follows.Name
	var none runs.Reasons // the plugin's version was judged
	follower := &deploy.Change{Pkg: pkg, Follows: c, Target: preflight.TargetOf(m.Session, pkg, preflight.Allowed{Return: true, Older: true, Same: true, Major: true}, &none)}
	if len(none) > 0 {
		return pkg.Close()
	}
	follower.Live = path.Dir(follows.Places[0].Path)
	m.changes = append(m.changes, follower)
	return nil
}
