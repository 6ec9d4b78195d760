package preflight

import (
	"context"
	"fmt"
	"path"
	"slices"

	"wetland/core/files"
	"wetland/core/packages"
	"wetland/core/session"
	"wetland/core/site/cms"
)

// Follower is a file that stands in for a part of the CMS, and goes with the plugin that brought it.
type Follower struct {
	cms.Component
	At string // the file of the installed plugin that it is a copy of
}

// Followers finds what follows an installed plugin: each file that stands in for a part of the CMS and is equal to one of
// the plugin's. One that the plugin has written by itself is the plugin's to write anew.
func Followers(ctx context.Context, s *session.Session, plugin cms.Component) (found []Follower, err error) {
	place, whole := plugin.OneFolder()
	if !whole || plugin.Kind != cms.Plugin {
		return nil, nil
	}
	for _, one := range s.Components {
		if one.Kind != cms.DropIn || len(one.Places) != 1 {
			continue
		}
		at, err := originOf(ctx, s, place.Path, one.Places[0].Path)
		if err != nil {
			return nil, fmt.Errorf("find out whether %s brought %s: %w", plugin.Folder, one.Folder, err)
		}
		if at != "" {
			found = append(found, Follower{one, at})
		}
	}
	return found, nil
}

// originOf finds the file of a plugin that a file elsewhere is a copy of; "": none.
func originOf(ctx context.Context, s *session.Session, plugin, file string) (at string, err error) {
	hash, size, err := files.HashFile(ctx, s.Site.Files, file)
	if err != nil || size == 0 {
		return "", err
	}
	var alike []string
	err = files.Walk(ctx, s.Site.Files, plugin, files.Scope{}, func(at string, entry files.Entry) error {
		if entry.Kind == files.File && entry.Size == size && path.Ext(at) == path.Ext(file) {
			alike = append(alike, at)
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	for _, name := range alike {
		is, _, err := files.HashFile(ctx, s.Site.Files, path.Join(plugin, name))
		if err != nil || is == hash {
			return name, err
		}
	}
	return "", nil
}

// examineFollowers says what goes with a plugin, and what its package has nothing for.
func examineFollowers(ctx context.Context, s *session.Session, e *Examination, p *packages.Package, installed cms.Component) error {
	found, err := Followers(ctx, s, installed)
	if err != nil {
		return err
	}
	for _, one := range found {
		if slices.ContainsFunc(p.Tree, func(item files.Item) bool { return item.Path == one.At && item.Kind == files.File }) {
			e.Add("drop-in", Go, fmt.Sprintf("%s is from the installed version (%s): the package's takes its place in the same step", one.Folder, one.At), "")
		} else {
			e.Add("drop-in", Care, fmt.Sprintf("%s is from the installed version (%s), and the package has no such file: it stays as it is", one.Folder, one.At), "Ask its maker whether it is still needed.")
		}
	}
	return nil
}
