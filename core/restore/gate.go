package restore

import (
	"context"
	"path"
	"slices"

	"wetland/core/deploy"
	"wetland/core/runs"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// closeGate puts the gate up where another release of the CMS itself comes back: until all of its files have, and the
// tables that belong to them, they are of two releases. What it returns opens the gate: it is written last.
func (r *restoration) closeGate(ctx context.Context) (opens []deploy.LooseChange, err error) {
	able, can := r.Site.CMS.(cms.Replaceable)
	if !can {
		return nil, nil
	}
	core := able.Core()
	loader := path.Join(core.Root, core.Loader)
	release := func(change deploy.LooseChange) bool { return pathOf(change) == path.Join(core.Root, core.Version) }
	if !slices.ContainsFunc(r.loose, release) { // it is the same one, and some files of it differ
		return nil, nil
	}
	if opens, err = r.loaderOf(loader); err != nil || opens == nil {
		return nil, err // the site had none: nothing is answered in any case
	}
	gate := &deploy.Change{Target: &runs.Target{Kind: cms.Core, Folder: "loader", Name: r.Site.CMS.System(), Parts: []string{core.Loader}}, Live: core.Root}
	if err := deploy.CloseGate(ctx, r.Session, gate); err != nil {
		return nil, err
	}
	r.loose = slices.DeleteFunc(r.loose, func(change deploy.LooseChange) bool { return pathOf(change) == loader })
	return opens, nil
}

// openGate writes what ends the gate, if there is one.
func (r *restoration) openGate(ctx context.Context, opens []deploy.LooseChange) error {
	if len(opens) == 0 {
		return nil
	}
	if err := deploy.ForgetBehindGate(ctx, r.Session); err != nil {
		return err
	}
	return deploy.PutLoose(ctx, r.Session, opens)
}

func pathOf(change deploy.LooseChange) string { return path.Join(change.Area.Path, change.Path) }

// loaderOf is the loader as the snapshot has it; none, where it has none.
func (r *restoration) loaderOf(loader string) ([]deploy.LooseChange, error) {
	area, below, err := r.manifest.AreaOf(loader)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(area.Items, func(item snapshot.Item) bool { return item.Path == below })
	if i < 0 {
		return nil, nil
	}
	return []deploy.LooseChange{{Area: area, Path: below, Item: &area.Items[i]}}, nil
}
