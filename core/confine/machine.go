package confine

import (
	"context"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/files"
	"wetland/core/host"
)

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
