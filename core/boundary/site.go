package boundary

import (
	"context"
	"fmt"
	"net"
	"path"
	"strings"

	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/site/cms"
	"wetland/core/site/traits"
)

// Site says which site is worked on.
type Site struct {
	Root string // as it was named; links in it are resolved
	// What wetland.toml gives in place of the CMS's own settings.
	Database cms.Given
	Pool     string   // of PHP: "unix:" and its socket, or HOST:PORT
	AnyPool  bool     // which pool is the site's is still looked for
	Log      string   // of PHP's errors
	Servers  []string // more that may be dialled, in the form "tcp HOST:PORT"
}

// usualPools are folders where distributions put the sockets of PHP's pools.
var usualPools = []string{"/run/php", "/run/php-fpm"}

// Keep keeps a host to a site. What its settings name is looked up once more where something else is
// asked for: they may have been put back.
func Keep(ctx context.Context, on host.Host, s Site) (host.Host, error) {
	allowed, err := grantsOf(ctx, on, s)
	if err != nil {
		return nil, err
	}
	kept := &around{Host: on, allowed: &allowed}
	kept.renew = func(ctx context.Context) (grants, error) { return grantsOf(ctx, on, s) }
	return kept, nil
}

// grantsOf works out what belongs to a site on a host, by the CMS's own settings there. Where there is no
// site that is known, that is the root alone.
func grantsOf(ctx context.Context, on host.Host, s Site) (grants, error) {
	root, err := files.RealOfExisting(ctx, on, path.Clean(s.Root)) // a dead site's may be gone
	if err != nil {
		return grants{}, err
	}
	a := grants{Folders: []string{root}, Resolve: []string{s.Root}, Programs: [][]string{{"php", "-n", "-r", "echo PHP_VERSION;"}}}
	for _, known := range traits.Known() { // is it a part of a site around it
		for _, name := range []string{known.Marker, known.Settings, "index.php"} {
			a.Read = append(a.Read, path.Join(path.Dir(root), name))
		}
	}
	if s.AnyPool {
		for _, folder := range usualPools {
			a.addPool(ctx, on, "unix:"+folder+"/*.sock")
		}
	}
	a.addPool(ctx, on, s.Pool)
	a.Servers = append(a.Servers, s.Servers...)
	if s.Log != "" {
		if folder, err := on.Real(ctx, path.Dir(s.Log)); err == nil {
			a.Read, a.Resolve = append(a.Read, path.Join(folder, path.Base(s.Log))), append(a.Resolve, path.Dir(s.Log))
		}
	}
	a.Resolve = append(a.Resolve, cms.LocalSockets()...)
	return a, a.addSite(ctx, on, root, s.Database)
}

// addPool allows to ask pools of PHP at a place.
func (a *grants) addPool(ctx context.Context, on host.Host, where string) {
	socket, ok := strings.CutPrefix(where, "unix:")
	if !ok {
		if where != "" {
			a.Servers = append(a.Servers, "tcp "+where)
		}
		return
	}
	a.Servers, a.Resolve = append(a.Servers, "unix "+socket), append(a.Resolve, path.Dir(socket))
	if folder, err := on.Real(ctx, path.Dir(socket)); err == nil {
		a.List = append(a.List, folder)
	}
}

// addSite adds what the settings of the site at the root name.
func (a *grants) addSite(ctx context.Context, on host.Host, root string, given cms.Given) error {
	roots, err := files.NewRoots(ctx, on, path.Dir(root))
	if err != nil {
		return nil // which is told when it is opened
	}
	defer roots.Close()
	system, _, err := cms.Detect(ctx, roots, root)
	var opened cms.Site
	if err == nil {
		opened, err = system.Open(ctx, roots, root, "")
	}
	if err != nil { // a dead site's settings may stand above it, and are put back
		for _, known := range traits.Known() {
			a.Files = append(a.Files, path.Join(path.Dir(root), path.Base(known.Settings)))
		}
		return nil
	}
	for _, area := range opened.Layout().Areas {
		if area.Only != "" {
			a.Files = append(a.Files, path.Join(area.Path, area.Only))
		} else {
			a.Folders = append(a.Folders, area.Path)
		}
	}
	a.Read = append(a.Read, opened.ErrorLogs()...)
	login, _ := opened.Database(given)
	switch {
	case login.Engine == "sqlite":
		a.Databases, a.Resolve = append(a.Databases, login.File), append(a.Resolve, login.File)
		if real, err := on.Real(ctx, login.File); err == nil && given.File != "" { // links of the owner's, not of the site's
			a.Databases = append(a.Databases, real)
		}
		a.Read = append(a.Read, a.Databases...)
	case login.Socket != "":
		a.Servers = append(a.Servers, "unix "+login.Socket)
	default:
		a.Servers = append(a.Servers, "tcp "+net.JoinHostPort(login.Host, fmt.Sprint(login.Port)))
	}
	return nil
}
