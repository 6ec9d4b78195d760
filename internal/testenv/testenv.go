// Package testenv starts the real servers that tests run against: on free
// loopback ports, in temporary folders, and ended with the tests.
package testenv

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

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

// MariaDB is a running database server.
type MariaDB struct {
	Port   int
	Socket string
}

var shared struct {
	once   sync.Once
	server *MariaDB
	err    error
	stop   func()
}

// Run runs the tests of a package and ends the servers they started. Call it from
// TestMain.
func Run(m *testing.M) int {
	code := m.Run()
	if shared.stop != nil {
		shared.stop()
	}
	return code
}

// Server returns the package's database server, started at the first call.
func Server(t testing.TB) *MariaDB {
	t.Helper()
	for _, program := range []string{"mariadbd", "mariadb-install-db"} {
		if _, err := lookUp(program); err != nil {
			Missing(t, program)
		}
	}
	shared.once.Do(func() { shared.server, shared.stop, shared.err = start() })
	if shared.err != nil {
		t.Fatalf("start the database server: %v", shared.err)
	}
	return shared.server
}

// lookUp finds a program also where only root's path leads.
func lookUp(program string) (string, error) {
	if found, err := exec.LookPath(program); err == nil {
		return found, nil
	}
	return exec.LookPath(filepath.Join("/usr/sbin", program))
}

func start() (*MariaDB, func(), error) {
	dir, err := os.MkdirTemp("", "wetland-mariadb-*")
	if err != nil {
		return nil, nil, err
	}
	remove := func() { _ = os.RemoveAll(dir) }
	data := filepath.Join(dir, "data")
	own := []string{}
	if os.Geteuid() == 0 {
		own = []string{"--user=root"}
	}
	install := exec.Command("mariadb-install-db", append([]string{"--no-defaults", "--datadir=" + data, "--auth-root-authentication-method=normal", "--skip-test-db"}, own...)...)
	if out, err := install.CombinedOutput(); err != nil {
		remove()
		return nil, nil, fmt.Errorf("mariadb-install-db: %w\n%s", err, out)
	}
	port, err := FreePort()
	if err != nil {
		remove()
		return nil, nil, err
	}
	program, _ := lookUp("mariadbd")
	server := &MariaDB{Port: port, Socket: filepath.Join(dir, "s.sock")}
	command := exec.Command(program, append([]string{
		"--no-defaults", "--datadir=" + data, "--socket=" + server.Socket, "--bind-address=127.0.0.1",
		fmt.Sprintf("--port=%d", port), "--skip-log-bin", "--innodb-flush-log-at-trx-commit=2",
		"--innodb-buffer-pool-size=128M", "--max-allowed-packet=256M", "--character-set-server=utf8mb4",
	}, own...)...)
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

func (m *MariaDB) wait() error {
	return Until(func() error {
		db, err := m.Open("")
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
func (m *MariaDB) Open(database string) (*sql.DB, error) {
	return sql.Open("mysql", fmt.Sprintf("root@tcp(127.0.0.1:%d)/%s?multiStatements=true&charset=utf8mb4", m.Port, database))
}

var databases struct {
	sync.Mutex
	n int
}

// Account is a database of its own with a user who has rights on it alone.
type Account struct {
	*MariaDB
	Name, User, Password string
	Root                 *sql.DB // connected as the server's root
}

// Database makes an empty database for the test.
func Database(t testing.TB) *Account {
	t.Helper()
	server := Server(t)
	databases.Lock()
	databases.n++
	a := &Account{MariaDB: server, Name: fmt.Sprintf("ferry%d", databases.n), User: fmt.Sprintf("keeper%d", databases.n), Password: "Tide'\\ & $lack"}
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

// FreePort returns a loopback port that nothing listens on.
func FreePort() (int, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer listener.Close()
	return listener.Addr().(*net.TCPAddr).Port, nil
}
