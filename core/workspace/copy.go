package workspace

import (
	"path/filepath"

	"wetland/core/host"
)

// Copies is the folder of the private copies of the site, each there as long as it is in use.
func (w *Workspace) Copies() string { return filepath.Join(w.Dir, "copies") }

// Copy is the workspace of a private copy of the site, which stands at the same place on another host.
// What is made for it lies in dir. It takes packages from this workspace's shelf, counts findings as this
// one does, and its runs are this one's rehearsals. What would reach out of the copy is left out of the
// settings: commands, caches elsewhere, and other ways to the site.
func (w *Workspace) Copy(dir string, on host.Host) *Workspace {
	folder := w.Folder
	other := &Workspace{Dir: dir, Config: w.Config, Host: on, Folder: folder, of: w}
	c := &other.Config
	c.Site.Root = folder
	c.Host, c.Hooks, c.Caches, c.Store = HostConfig{}, HooksConfig{}, CachesConfig{}, StoreConfig{}
	c.Reach.Server, c.Reach.FromHost, c.Reach.Alone = "", true, true
	c.Update.TimeLimit = Duration{}
	c.Pages = append([]Page(nil), w.Config.Pages...)
	return other
}

// IsCopy tells whether this is the workspace of a private copy.
func (w *Workspace) IsCopy() bool { return w.of != nil }

// Rehearsals is the workspace whose runs are the rehearsals of this one.
func (w *Workspace) Rehearsals() *Workspace {
	if w.IsCopy() {
		return w
	}
	return w.Copy(w.Dir, w.Host)
}

// RunPrefix begins the names of its runs.
func (w *Workspace) RunPrefix() string {
	if w.IsCopy() {
		return "rehearsal-"
	}
	return "run-"
}

// main is the workspace that people know.
func (w *Workspace) main() *Workspace {
	if w.IsCopy() {
		return w.of
	}
	return w
}

// Accepted is the file that says which findings a person accepted.
func (w *Workspace) Accepted() string { return filepath.Join(w.main().Dir, "accepted.json") }

// Beneath is the store that the one of a copy can lean on: that of the workspace itself, unless it is sealed.
// "": none.
func (w *Workspace) Beneath() string {
	if !w.IsCopy() || w.of.Config.Store.UnlockWith != "" {
		return ""
	}
	return w.of.Store()
}

// SettleAtOnce has nothing be waited for after a swap: for a server that answers by new code at once.
func (w *Workspace) SettleAtOnce() {
	w.Config.Smoke.WaitAfterSwap, w.Config.Smoke.ShorterWait = &Duration{}, true
}
