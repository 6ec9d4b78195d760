package testenv

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"testing"
)

// NginxWordPress is WordPress as hosts have it: nginx before a pool of php-fpm with its
// opcode cache. As root, web server, PHP and files have separate owners.
func NginxWordPress(t testing.TB) *Site {
	t.Helper()
	servers := filepath.Join(os.Getenv("WETLAND_TEST_SERVERS"), "servers")
	nginx := filepath.Join(servers, "usr/sbin/nginx")
	pools, err := filepath.Glob(filepath.Join(servers, "usr/sbin/php-fpm*"))
	if _, statErr := os.Stat(nginx); statErr != nil || err != nil || len(pools) == 0 {
		Missing(t, "nginx and php-fpm (WETLAND_TEST_SERVERS)")
	}
	s, port := layOutWordPress(t, OwnMariaDB)
	dir := filepath.Dir(s.Root)
	for _, folder := range []string{dir, filepath.Dir(dir)} { // the other owners must get there
		if err := os.Chmod(folder, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	web, php := "", ""
	if os.Geteuid() == 0 {
		for _, name := range []string{"nobody", "www-data"} {
			if _, err := user.Lookup(name); err != nil {
				Missing(t, "the user "+name)
			}
		}
		web, php = "user nobody nogroup;", "user = www-data\ngroup = www-data\nlisten.owner = nobody\n"
	}
	socket := filepath.Join(dir, "php.sock")
	s.Pool = "unix:" + socket
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return file
	}
	if err := os.WriteFile(s.Log, nil, 0o666); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(s.Log, 0o666); err != nil { // PHP's user writes it
		t.Fatal(err)
	}
	pool := write("fpm.conf", fmt.Sprintf("[global]\nerror_log = %s\ndaemonize = no\n[www]\nlisten = %s\n%spm = static\npm.max_children = 4\nphp_admin_value[error_log] = %s\nphp_admin_flag[log_errors] = on\nphp_admin_flag[display_errors] = off\n",
		filepath.Join(dir, "fpm.log"), socket, php, s.Log))
	front := write("nginx.conf", fmt.Sprintf(`%s
daemon off; pid %[2]s/nginx.pid; error_log %[2]s/nginx.log; worker_processes 1;
events {}
http {
  include %[3]s/etc/nginx/mime.types; access_log off;
  client_body_temp_path %[2]s/n1; proxy_temp_path %[2]s/n2; fastcgi_temp_path %[2]s/n3; uwsgi_temp_path %[2]s/n4; scgi_temp_path %[2]s/n5;
  server {
    listen 127.0.0.1:%[4]d; root %[5]s; index index.php;
    location / { try_files $uri $uri/ /index.php?$args; }
    location ~ \.php$ {
      try_files $uri =404;
      fastcgi_pass unix:%[6]s;
      include %[3]s/etc/nginx/fastcgi.conf;
    }
  }
}
`, web, dir, servers, port, s.Root, socket))
	s.begin(t, exec.Command(pools[0], "-F", "-y", pool), "PHP_INI_SCAN_DIR="+scanDir(t))
	s.begin(t, exec.Command(nginx, "-c", front, "-e", filepath.Join(dir, "nginx.log")))
	if err := Until(func() error { _, err := s.Get("/"); return err }); err != nil {
		t.Fatal(err)
	}
	return s
}

// scanDir is where the php of the command line has the settings of its extensions: the
// pool is to have the same.
func scanDir(t testing.TB) string {
	t.Helper()
	found, err := filepath.Glob("/etc/php/*/cli/conf.d")
	if err != nil || len(found) == 0 {
		Missing(t, "PHP's extensions")
	}
	return found[len(found)-1]
}

// begin starts a server and ends it with the test.
func (s *Site) begin(t testing.TB, command *exec.Cmd, environment ...string) {
	t.Helper()
	command.Env = append(os.Environ(), environment...)
	ownGroup(command)
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		killGroup(command)
		_ = command.Wait()
	})
}
