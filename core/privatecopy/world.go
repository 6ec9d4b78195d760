package privatecopy

import (
	"cmp"
	"fmt"
	"io/fs"
	"net"
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

// where names the machine of the copy.
func (b *bringing) where() string {
	if b.isHere() {
		return "this machine"
	}
	return b.On.Name()
}

// isHere tells whether the copy is on this machine.
func (b *bringing) isHere() bool { return b.On.Name() == "" }

// database is the program of the server for the tables; "": none.
func (b *bringing) database() string {
	if strings.HasPrefix(b.Snapshot.Engine, "MySQL ") {
		return cmp.Or(b.machine.MySQL, b.machine.MariaDB)
	}
	return cmp.Or(b.machine.MariaDB, b.machine.MySQL)
}

// usesPHP tells whether the site's pages come from PHP.
func (b *bringing) usesPHP() bool { _, other := b.Servers.Of[b.Of.Config.Site.CMS]; return !other }

// checkMachine finds all that the machine lacks for the copy.
func (b *bringing) checkMachine(why *runs.Reasons) {
	switch {
	case !b.usesPHP() && !b.isHere():
		why.Add(fmt.Sprintf("what serves the pages of a %s site is here, and not on %s", b.Of.Config.Site.CMS, b.where()), "Make the copy here: add --here.")
	case b.usesPHP() && b.machine.PHP == "":
		why.Add(fmt.Sprintf("there is no PHP on %s (php), and the copy's pages need it", b.where()), "Install it: apt-get install php-cli, with the modules that the site uses.")
	}
	if b.needsServer() {
		b.checkDatabase(why)
	}
	for _, area := range b.Snapshot.Areas {
		if slices.ContainsFunc(reserved(), func(ours string) bool { return files.Within(area.Path, ours) || files.Within(ours, area.Path) }) {
			why.Add(fmt.Sprintf("the site has files in %s, which a copy has of its own", area.Path), "Rehearse it on another machine, or move the site to a folder of its own.")
		}
	}
	if b.Snapshot.Engine == "" && len(b.Snapshot.Unread) == 0 {
		why.Add(b.Snapshot.Name+" holds no tables, and without them the pages of a copy would show nothing", "Choose a snapshot that holds them, or do it where the database can be reached.")
	}
	if len(b.Snapshot.Unread) > 0 {
		why.Add(b.Snapshot.Name+" is not whole: not all of the site could be read when it was taken", "Choose another one.")
	}
}

// checkDatabase finds what the tables lack.
func (b *bringing) checkDatabase(why *runs.Reasons) {
	program := b.database()
	if program == "" {
		why.Add(fmt.Sprintf("there is no database server on %s (mariadbd or mysqld), and the copy's tables need one of their own", b.where()), "Install one; it need not run: apt-get install mariadb-server-core mariadb-client-core")
		return
	}
	own := "MySQL"
	if program == b.machine.MariaDB {
		own = "MariaDB"
	}
	if kind, _, _ := strings.Cut(b.Snapshot.Engine, " "); kind != own {
		why.Add(fmt.Sprintf("the site's tables are in %s, and %s has %s: neither takes all that the other makes", b.Snapshot.Engine, b.where(), own), "Install the programs of the site's own server, or rehearse on a machine that has them.")
	}
}

// What a copy needs beside its files: an empty database of the server, and about as much for each row as rows
// have on the average, twice, for indexes.
const (
	emptyDatabase = 160 << 20
	rowSize       = 400 // bytes
)

// checkSpace refuses what would fill the disk, which the site may be on, too.
func (b *bringing) checkSpace(why *runs.Reasons) {
	_, needs, _, rows := b.Snapshot.Totals()
	if b.needsServer() {
		needs += emptyDatabase + rows*rowSize
	}
	if free := b.machine.Free; free > 0 && needs > 0 && free < uint64(needs) {
		why.Add(fmt.Sprintf("a copy needs about %s beside what there is, and %s are free on %s where it would be made", phrase.Bytes(needs), phrase.Bytes(int64(free)), b.where()), "Make room there, or use another disk: for the workspace, or for helper_folder under [host].")
	}
}

// reserved are the places of a world that no site can have.
func reserved() []string {
	return append(confine.System(), "/dev", "/proc", ownFolder, databaseFolder)
}

// makeWorld says what the copy's programs find.
func (b *bringing) makeWorld() (host.World, error) {
	w := host.World{
		Shown: slices.Clone(b.machine.Shown),
		Folders: []host.WorldFolder{
			{Name: "/tmp", Mode: fs.ModeSticky | 0o777}, {Name: "/var/tmp", Mode: fs.ModeSticky | 0o777}, {Name: "/run", Mode: 0o755},
			{Name: "/var/lib/php/sessions", Mode: fs.ModeSticky | 0o773}, {Name: ownFolder, Mode: 0o755, Own: true}, {Name: databaseFolder, Mode: 0o700, Own: true},
		},
	}
	w.User, w.Group = b.owner()
	w.Shown = append(w.Shown, b.Servers.Of[b.Of.Config.Site.CMS].Shown...)
	if log := b.Of.Config.Site.PHPLog; log != "" && !b.holds(log) {
		w.Folders = append(w.Folders, host.WorldFolder{Name: path.Dir(filepath.ToSlash(log)), Mode: 0o755, Own: true})
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
func (b *bringing) name(w *host.World, named string) {
	if net.ParseIP(named) != nil {
		w.Addresses = append(w.Addresses, named)
	} else if named != "" && named != "localhost" {
		w.Names = append(w.Names, named)
	}
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

// owner is whom the copy's programs run as: whom we act as on the machine. Where that is root, it is whom the
// site's own pool of PHP runs as, or else the owner of the uploads, for PHP writes there, or of the site.
func (b *bringing) owner() (user, group int) {
	if b.machine.User != 0 {
		return b.machine.User, b.machine.Group
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
