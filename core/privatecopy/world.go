package privatecopy

import (
	"context"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/confine"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/site/cms"
	"wetland/core/workspace"
)

// Places in the world that are ours.
const (
	ownFolder      = "/.wetland"
	databaseFolder = "/.wetland-database"
)

// machine is what this one offers.
type machine struct {
	php, pool, database, install string // programs; "": none
}

// find finds programs that a copy can be served with.
func find(preferMySQL bool) (m machine) {
	first := func(names ...string) string {
		for _, name := range names {
			for _, at := range []string{name, "/usr/sbin/" + name, "/usr/local/bin/" + name} {
				if found, err := exec.LookPath(at); err == nil {
					if real, err := filepath.EvalSymlinks(found); err == nil {
						return filepath.ToSlash(real)
					}
				}
			}
		}
		return ""
	}
	m.php = first("php")
	m.pool = first("php-fpm"+strings.TrimPrefix(path.Base(m.php), "php"), "php-fpm")
	m.database = first("mariadbd", "mysqld")
	if mysql := first("mysqld"); preferMySQL && path.Base(mysql) == "mysqld" { // else it is MariaDB under its old name
		m.database = mysql
		return m
	}
	m.install = first("mariadb-install-db", "mysql_install_db")
	return m
}

// find finds them for this copy.
func (b *bringing) find() machine { return find(strings.HasPrefix(b.Snapshot.Engine, "MySQL ")) }

// usesPHP tells whether the site's pages come from PHP.
func (b *bringing) usesPHP() bool { _, other := b.Servers.Of[b.Of.Config.Site.CMS]; return !other }

// checkMachine finds all that this machine lacks for the copy.
func (b *bringing) checkMachine(why *runs.Reasons) {
	has := b.find()
	if b.usesPHP() && has.php == "" {
		why.Add("there is no PHP on this machine (php), and the copy's pages need it", "Install it: apt-get install php-cli, with the modules that the site uses.")
	}
	if b.Snapshot.Dialect() == "mysql" && len(b.Snapshot.Tables) > 0 && has.database == "" {
		why.Add("there is no database server on this machine (mariadbd or mysqld), and the copy's tables need one of their own", "Install one; it need not run: apt-get install mariadb-server-core mariadb-client-core")
	}
	if b.needsServer() && has.database != "" {
		own := "MySQL"
		if path.Base(has.database) == "mariadbd" {
			own = "MariaDB"
		}
		if kind, _, _ := strings.Cut(b.Snapshot.Engine, " "); kind != own {
			why.Add(fmt.Sprintf("the site's tables are in %s, and this machine has %s: neither takes all that the other makes", b.Snapshot.Engine, own), "Install the programs of the site's own server, or rehearse on a machine that has them.")
		}
	}
	for _, area := range b.Snapshot.Areas {
		if slices.ContainsFunc(reserved(), func(ours string) bool { return files.Within(area.Path, ours) || files.Within(ours, area.Path) }) {
			why.Add(fmt.Sprintf("the site has files in %s, which a copy has of its own", area.Path), "Rehearse it on another machine, or move the site to a folder of its own.")
		}
	}
	if len(b.Snapshot.Unread) > 0 {
		why.Add(b.Snapshot.Name+" is not whole: not all of the site could be read when it was taken", "Choose another one.")
	}
}

// What a copy needs beside its files: an empty database of the server, and about as much for each row as rows
// have on the average, twice, for indexes.
const (
	emptyDatabase = 160 << 20
	rowSize       = 400 // bytes
)

// checkSpace refuses what would fill the disk, which the site may be on, too.
func (b *bringing) checkSpace(ctx context.Context, why *runs.Reasons) {
	_, needs, _, rows := b.Snapshot.Totals()
	if b.needsServer() {
		needs += emptyDatabase + rows*rowSize
	}
	free, err := host.FreeSpace(ctx, b.Of.Dir)
	if err == nil && needs > 0 && free < uint64(needs) {
		why.Add(fmt.Sprintf("a copy needs about %s beside the workspace, and %s are free in %s", phrase.Bytes(needs), phrase.Bytes(int64(free)), b.Of.Dir), "Make room there, or use a workspace on another disk.")
	}
}

// reserved are the places of a world that no site can have.
func reserved() []string {
	return append(confine.System(), "/dev", "/proc", ownFolder, databaseFolder)
}

// makeWorld says what the copy's programs find.
func (b *bringing) makeWorld() (confine.World, error) {
	w := confine.World{
		Top: b.top(), Shown: confine.System(),
		Folders: []confine.Folder{
			{Name: "/tmp", Mode: fs.ModeSticky | 0o777}, {Name: "/var/tmp", Mode: fs.ModeSticky | 0o777}, {Name: "/run", Mode: 0o755},
			{Name: "/var/lib/php/sessions", Mode: fs.ModeSticky | 0o773}, {Name: ownFolder, Mode: 0o755, Own: true}, {Name: databaseFolder, Mode: 0o700, Own: true},
		},
	}
	w.User, w.Group = b.owner()
	has := b.find()
	for _, program := range []string{has.php, has.pool, has.database, has.install} {
		if program != "" && !shown(w.Shown, program) {
			w.Shown = append(w.Shown, path.Dir(program))
		}
	}
	if own, ok := b.Servers.Of[b.Of.Config.Site.CMS]; ok {
		w.Shown = append(w.Shown, own.Shown...)
	} else if len(b.Servers.Front) > 0 {
		w.Shown = append(w.Shown, b.Servers.Front[0])
	}
	if log := b.Of.Config.Site.PHPLog; log != "" && !b.holds(log) {
		w.Folders = append(w.Folders, confine.Folder{Name: path.Dir(filepath.ToSlash(log)), Mode: 0o755, Own: true})
	}
	address, err := workspace.ParseAddress(b.Of.Config.Site.Address)
	if err != nil {
		return w, err
	}
	b.name(&w, address.Hostname())
	if b.Login != nil {
		b.name(&w, b.Login.Host)
	}
	if address.Scheme == "https" {
		if b.tls, err = newCertificate(address.Hostname()); err != nil {
			return w, err
		}
		w.TLS, w.Plain = net.JoinHostPort("0.0.0.0", portOf(address)), net.JoinHostPort("127.0.0.1", plainPort)
		w.Certificate, w.Key = b.tls.certificate, b.tls.key
	}
	return w, nil
}

// plainPort is where pages are answered behind TLS.
const plainPort = "47831"

// name has a host's name or address lead to the world itself.
func (b *bringing) name(w *confine.World, named string) {
	if net.ParseIP(named) != nil {
		w.Addresses = append(w.Addresses, named)
	} else if named != "" && named != "localhost" {
		w.Names = append(w.Names, named)
	}
}

func shown(folders []string, name string) bool {
	for _, folder := range folders {
		if files.Within(name, folder) {
			return true
		}
	}
	return false
}

// holds tells whether a file is in one of the site's folders.
func (b *bringing) holds(name string) bool {
	for _, area := range b.Snapshot.Areas {
		if area.Only == "" && files.Within(filepath.ToSlash(name), area.Path) {
			return true
		}
	}
	return false
}

// owner is whom the copy's programs run as: whoever runs this. Where that is root, it is whom the
// site's own pool of PHP runs as, or else the owner of the uploads, for PHP writes there, or of the site.
func (b *bringing) owner() (user, group int) {
	if os.Geteuid() != 0 {
		return os.Geteuid(), os.Getegid()
	}
	if about := b.Options.PHP; about != nil && about.User >= 0 && about.Group >= 0 {
		return about.User, about.Group
	}
	for _, at := range []string{b.Snapshot.Layout.Uploads, b.Snapshot.Layout.Themes, firstPath(b.Snapshot.Layout)} {
		if tree, err := b.Snapshot.TreeAt(at); err == nil && len(tree) > 0 && tree[0].Owner >= 0 {
			return tree[0].Owner, tree[0].Group
		}
	}
	return 0, 0
}

func firstPath(layout cms.Layout) string {
	if len(layout.Areas) == 0 {
		return ""
	}
	return layout.Areas[0].Path
}
