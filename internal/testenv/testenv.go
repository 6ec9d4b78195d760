// Package testenv starts the real servers that tests run against: on free
// loopback ports, in temporary folders, and ended with the tests.
package testenv

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
	"wetland/internal/ports"

	_ "github.com/go-sql-driver/mysql" // the driver behind sql.Open("mysql", ...)
)

// Missing skips the test because something is not on this machine, and says so;
// where everything is required it fails instead.
func Missing(t testing.TB, what string) {
	t.Helper()
	if os.Getenv("WETLAND_TEST_REQUIRE") == "all" {
		t.Fatalf("%s is required, and not here", what)
	}
	t.Skipf("SKIPPED: %s is not on this machine (make test sets it up on Debian)", what)
}

// TakesLong skips a test where no servers were set up, and says so: there somebody wants an answer
// within a minute.
func TakesLong(t testing.TB) {
	t.Helper()
	if os.Getenv("WETLAND_TEST_SERVERS") == "" {
		t.Skip("SKIPPED: it takes long (make test runs it)")
	}
}

// Kind is a database server that tests run against.
type Kind struct {
	Name   string
	folder string // below WETLAND_TEST_SERVERS; "": this system's own
	mysql  bool   // its programs and their options
}

// The kinds of servers: the one that this system has, and two that scripts/fetch-servers.sh
// unpacks.
var (
	OwnMariaDB   = Kind{Name: "MariaDB of this system"}
	NewerMariaDB = Kind{Name: "newer MariaDB", folder: "mariadb"}
	MySQL        = Kind{Name: "MySQL", folder: "mysql", mysql: true}
	Kinds        = []Kind{OwnMariaDB, NewerMariaDB, MySQL}
)

// IsMySQL tells MySQL from MariaDB.
func (k Kind) IsMySQL() bool { return k.mysql }

// command runs a program of the server's release: its own loader starts it.
func (k Kind) command(program string, arguments ...string) *exec.Cmd {
	if k.folder == "" {
		found, _ := lookUp(program) // a missing one is told when it is started
		return exec.Command(found, arguments...)
	}
	for _, sub := range []string{"usr/sbin/", "usr/bin/"} {
		if _, err := os.Stat(filepath.Join(k.base(), sub+program)); err == nil {
			program = sub + program
		}
	}
	return exec.Command(filepath.Join(k.base(), "run"), append([]string{program}, arguments...)...)
}

func (k Kind) base() string { return filepath.Join(os.Getenv("WETLAND_TEST_SERVERS"), k.folder) }

// Client is the server's plain client, as its root, for a database.
func (s *Server) Client(arguments ...string) *exec.Cmd {
	program := "mariadb"
	if s.Kind.mysql {
		program = "mysql"
	}
	return s.Kind.command(program, append([]string{"--no-defaults", "--socket=" + s.Socket, "--user=root"}, arguments...)...)
}

// there skips the test where the kind is not on this machine.
func (k Kind) there(t testing.TB) {
	t.Helper()
	if k.folder != "" {
		if _, err := os.Stat(filepath.Join(k.base(), "run")); err != nil {
			Missing(t, k.Name)
		}
		return
	}
	for _, program := range []string{"mariadbd", "mariadb-install-db"} {
		if _, err := lookUp(program); err != nil {
			Missing(t, program)
		}
	}
}

// Server is a running database server.
type Server struct {
	Kind   Kind
	Port   int
	Socket string
	// Authority is the file of the certificate that vouches for the server's, which is made for
	// 127.0.0.1.
	Authority string
}

var running struct {
	sync.Mutex
	servers map[Kind]*Server
	failed  map[Kind]error
	stops   []func()
}

// Run runs the tests of a package and ends the servers they started. Call it from
// TestMain.
func Run(m *testing.M) int {
	code := m.Run()
	for _, stop := range running.stops {
		stop()
	}
	return code
}

// Start returns the package's database server of this kind, started at the first call.
func Start(t testing.TB, kind Kind) *Server {
	t.Helper()
	kind.there(t)
	running.Lock()
	defer running.Unlock()
	if running.servers == nil {
		running.servers, running.failed = map[Kind]*Server{}, map[Kind]error{}
	}
	if running.servers[kind] == nil && running.failed[kind] == nil {
		server, stop, err := start(kind)
		running.servers[kind], running.failed[kind] = server, err
		if err == nil {
			running.stops = append(running.stops, stop)
		}
	}
	if err := running.failed[kind]; err != nil {
		t.Fatalf("start %s: %v", kind.Name, err)
	}
	return running.servers[kind]
}

// OnEach runs a test on every kind of server.
func OnEach(t *testing.T, test func(t *testing.T, server *Server)) {
	t.Helper()
	for _, kind := range Kinds {
		t.Run(kind.Name, func(t *testing.T) { test(t, Start(t, kind)) })
	}
}

// lookUp finds a program also where only root's path leads.
func lookUp(program string) (string, error) {
	if found, err := exec.LookPath(program); err == nil {
		return found, nil
	}
	return exec.LookPath(filepath.Join("/usr/sbin", program))
}

// install makes the server's own tables.
func (k Kind) install(data string, own []string) *exec.Cmd {
	switch {
	case k.mysql:
		return k.command("mysqld", append([]string{"--no-defaults", "--initialize-insecure", "--basedir=" + filepath.Join(k.base(), "usr"), "--datadir=" + data}, own...)...)
	case k.folder != "": // its script does not know the loader
		command := k.command("mariadbd", append([]string{"--no-defaults", "--bootstrap", "--basedir=" + filepath.Join(k.base(), "usr"), "--datadir=" + data, "--skip-log-bin"}, own...)...)
		command.Stdin = k.systemTables(data)
		return command
	}
	return k.command("mariadb-install-db", append([]string{"--no-defaults", "--datadir=" + data, "--auth-root-authentication-method=normal", "--skip-test-db"}, own...)...)
}

// systemTables are the statements that mariadb-install-db gives to the server.
func (k Kind) systemTables(data string) io.Reader {
	all := []io.Reader{strings.NewReader("CREATE DATABASE IF NOT EXISTS mysql;\nUSE mysql;\nSET @auth_root_socket = NULL;\n")}
	_ = os.MkdirAll(filepath.Join(data, "mysql"), 0o700) // told by the server, which needs it
	for _, name := range []string{"mariadb_system_tables.sql", "mariadb_performance_tables.sql", "mariadb_system_tables_data.sql", "fill_help_tables.sql"} {
		if text, err := os.ReadFile(filepath.Join(k.base(), "usr/share/mariadb", name)); err == nil {
			all = append(all, bytes.NewReader(text))
		}
	}
	return io.MultiReader(all...)
}

// serve is the server itself.
func (s *Server) serve(data string, own []string) *exec.Cmd {
	arguments := append([]string{
		"--no-defaults", "--datadir=" + data, "--socket=" + s.Socket, "--bind-address=127.0.0.1", "--secure-file-priv=" + map[bool]string{true: "NULL"}[s.Kind.mysql],
		fmt.Sprintf("--port=%d", s.Port), "--skip-log-bin", "--innodb-flush-log-at-trx-commit=2", "--local-infile=1",
		"--innodb-buffer-pool-size=128M", "--max-allowed-packet=256M", "--character-set-server=utf8mb4",
	}, own...)
	if s.Kind.folder != "" {
		arguments = append(arguments, "--basedir="+filepath.Join(s.Kind.base(), "usr"))
	}
	if s.Kind.mysql {
		return s.Kind.command("mysqld", append(arguments, "--mysqlx=OFF", "--pid-file="+filepath.Join(filepath.Dir(data), "pid"))...)
	}
	return s.Kind.command("mariadbd", arguments...)
}

func start(kind Kind) (*Server, func(), error) {
	dir, err := os.MkdirTemp("", "wetland-db-*")
	if err != nil {
		return nil, nil, err
	}
	remove := func() { _ = os.RemoveAll(dir) }
	data := filepath.Join(dir, "data")
	// A server that starts clears the temporary tables of all others that share its folder for them.
	own := []string{"--tmpdir=" + dir}
	if os.Geteuid() == 0 {
		own = append(own, "--user=root")
	}
	if out, err := kind.install(data, own).CombinedOutput(); err != nil {
		remove()
		return nil, nil, fmt.Errorf("make its own tables: %w\n%s", err, out)
	}
	port, err := ports.Free()
	if err != nil {
		remove()
		return nil, nil, err
	}
	authority, certificate, key, err := certify(dir)
	if err != nil {
		remove()
		return nil, nil, err
	}
	own = append(own, "--ssl-ca="+authority, "--ssl-cert="+certificate, "--ssl-key="+key)
	server := &Server{Kind: kind, Port: port, Socket: filepath.Join(dir, "s.sock"), Authority: authority}
	command := server.serve(data, own)
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		remove()
		return nil, nil, err
	}
	command.Stdout, command.Stderr = log, log
	if err := command.Start(); err != nil {
		remove()
		return nil, nil, err
	}
	stop := func() {
		_ = command.Process.Kill()
		_ = command.Wait()
		_ = log.Close()
		remove()
	}
	if err := server.wait(); err != nil {
		text, _ := os.ReadFile(log.Name())
		stop()
		return nil, nil, fmt.Errorf("%w\n%s", err, text)
	}
	return server, stop, nil
}

// patience bounds how long servers may take to come up on a busy machine.
const patience = 2 * time.Minute

func (s *Server) wait() error {
	return Until(func() error {
		db, err := s.Open("")
		if err != nil {
			return err
		}
		defer db.Close()
		return db.Ping()
	})
}

// Until tries again and again until the condition holds.
func Until(condition func() error) error {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	for {
		err := condition()
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("waited %s: %w", patience, err)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Open connects as the server's root.
func (s *Server) Open(database string) (*sql.DB, error) {
	return sql.Open("mysql", fmt.Sprintf("root@unix(%s)/%s?multiStatements=true&charset=utf8mb4", s.Socket, database))
}

var databases struct {
	sync.Mutex
	n int
}

// Account is a database of its own with a user who has rights on it alone.
type Account struct {
	*Server
	Name, User, Password string
	Root                 *sql.DB // connected as the server's root
}

// Run runs statements as the server's root.
func (a *Account) Run(t testing.TB, statements ...string) {
	t.Helper()
	for _, statement := range statements {
		if _, err := a.Root.Exec(statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
}

// Database makes an empty database for the test, on this system's own server.
func Database(t testing.TB) *Account {
	t.Helper()
	return Start(t, OwnMariaDB).Database(t)
}

// Database makes an empty database for the test.
func (s *Server) Database(t testing.TB) *Account {
	t.Helper()
	server := s
	databases.Lock()
	databases.n++
	a := &Account{Server: server, Name: fmt.Sprintf("ferry%d", databases.n), User: fmt.Sprintf("keeper%d", databases.n), Password: "Tide'\\ & $lack"}
	databases.Unlock()
	root, err := server.Open("")
	if err != nil {
		t.Fatal(err)
	}
	statements := fmt.Sprintf("CREATE DATABASE %s; CREATE USER %s@'%%' IDENTIFIED BY '%s'; CREATE USER %s@localhost IDENTIFIED BY '%s'; GRANT ALL ON %s.* TO %s@'%%'; GRANT ALL ON %s.* TO %s@localhost",
		a.Name, a.User, `Tide''\\ & $lack`, a.User, `Tide''\\ & $lack`, a.Name, a.User, a.Name, a.User)
	if _, err := root.Exec(statements); err != nil {
		t.Fatal(err)
	}
	_ = root.Close()
	if a.Root, err = server.Open(a.Name); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = a.Root.Close() })
	return a
}
