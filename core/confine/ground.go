package confine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"wetland/core/files"
	"wetland/core/host"
)

// Ground is this machine, for worlds that are made on it.
type Ground struct {
	host.Host
	rooms string
	front []string
}

var _ host.Confiner = Ground{}

// On is this machine, with a folder for what its worlds hold. front is host.Machine.Front.
func On(rooms string, front []string) Ground { return Ground{host.Here, rooms, front} }

// Confine makes a world, as host.Confiner does. It is kept by this program itself, started once more.
func (g Ground) Confine(ctx context.Context, w host.World) (_ io.ReadWriteCloser, top string, err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, "", err
	}
	room, leave, err := NewRoom(ctx, g.rooms)
	if err != nil {
		return nil, "", err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, leave())
		}
	}()
	top = filepath.Join(room, "world")
	if err := errors.Join(os.Mkdir(top, 0o755), os.Chmod(top, 0o755)); err != nil { // others cannot get as far as here
		return nil, "", err
	}
	top = filepath.ToSlash(top)
	started, err := start(ctx, self)
	if err != nil {
		return nil, "", err
	}
	if err := begin(ctx, started, order{top, w}); err != nil {
		return nil, "", err
	}
	return &roomed{line: started, leave: leave}, top, nil
}

// begin has a keeper make its world.
func begin(ctx context.Context, to *line, o order) error {
	stop := context.AfterFunc(ctx, func() { _ = to.Close() })
	err := json.NewEncoder(to).Encode(o)
	var said answer
	if err == nil {
		err = readLine(to, &said)
	}
	switch {
	case !stop():
		return errors.Join(ctx.Err(), to.Close())
	case err != nil:
		return errors.Join(fmt.Errorf("%w: what keeps it ended before it began%s", host.ErrNotConfined, to.complaint()), to.Close())
	case said.Problem != "":
		return errors.Join(fmt.Errorf("%w: %s", host.ErrNotConfined, said.Problem), to.Close())
	}
	return nil
}

// roomed is the line to the keeper of a world in a room.
type roomed struct {
	*line
	leave func() error
	once  sync.Once
	err   error
}

// Close ends the world, and takes its room away.
func (r *roomed) Close() error {
	r.once.Do(func() { r.err = errors.Join(r.line.Close(), r.leave()) })
	return r.err
}

// Machine tells what there is on this machine.
func (g Ground) Machine(ctx context.Context) (host.Machine, error) {
	m := host.Machine{User: os.Geteuid(), Group: os.Getegid(), Front: g.front}
	m.PHP = find("php")
	m.Pool = find("php-fpm"+strings.TrimPrefix(path.Base(m.PHP), "php"), "php-fpm")
	m.PHPSettings, m.PHPScanned = settingsOf(m.PHP)
	m.MariaDB = find("mariadbd", "mysqld")
	if mysql := find("mysqld"); path.Base(mysql) == "mysqld" { // else it is MariaDB under its old name
		m.MySQL = mysql
	}
	if m.MariaDB == m.MySQL {
		m.MariaDB = ""
	}
	m.InstallMariaDB = find("mariadb-install-db", "mysql_install_db")
	m.Shown = System()
	for _, program := range []string{m.PHP, m.Pool, m.MariaDB, m.MySQL, m.InstallMariaDB} {
		if program != "" && !slices.ContainsFunc(m.Shown, func(folder string) bool { return files.Within(program, folder) }) {
			m.Shown = append(m.Shown, path.Dir(program))
		}
	}
	if len(m.Front) > 0 {
		m.Shown = append(m.Shown, m.Front[0])
	}
	at := g.rooms
	for at != filepath.Dir(at) && !isThere(at) {
		at = filepath.Dir(at)
	}
	if free, err := host.FreeSpace(ctx, at); err == nil {
		m.Free = free
	}
	return m, ctx.Err()
}

// find finds the first of some programs.
func find(names ...string) string {
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

func isThere(name string) bool {
	_, err := os.Stat(name)
	return err == nil
}

// settingsOf are the settings of a pool of PHP or a web server's module, where this machine has such beside
// those of the command line: Debian keeps them side by side. Where it has none, the modules are those of the
// command line.
func settingsOf(php string) (settings, scanned string) {
	version, ok := strings.CutPrefix(path.Base(php), "php")
	if !ok || version == "" {
		return "", ""
	}
	for _, kind := range []string{"fpm", "apache2"} {
		folder := "/etc/php/" + version + "/" + kind
		if isThere(folder + "/php.ini") {
			return folder + "/php.ini", folder + "/conf.d"
		}
	}
	if folder := "/etc/php/" + version + "/cli/conf.d"; isThere(folder) {
		return "", folder
	}
	return "", ""
}
