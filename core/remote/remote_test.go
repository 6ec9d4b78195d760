package remote

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync/atomic"
	"testing"

	"wetland/core/boundary"
	"wetland/core/database"
	"wetland/core/database/databasetest"
	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/core/host"
	"wetland/core/host/hosttest"
	"wetland/core/phrase"
	"wetland/core/sshclient"
	"wetland/core/wire"
	"wetland/internal/testenv"
)

// This program is the helper, too, as an account starts it.
func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == "helper" {
		_ = Serve(context.Background(), Both(os.Stdin, os.Stdout), everything)
		return
	}
	os.Exit(testenv.Run(m))
}

// everything keeps a desk to nothing.
func everything(context.Context, boundary.Site) (host.Host, error) { return host.Here, nil }

// bySSH is this machine, by way of a helper that OpenSSH's server starts.
func bySSH(t *testing.T) (*Host, *testenv.SSHServer) {
	t.Helper()
	server := testenv.StartSSH(t)
	home := t.TempDir()
	key := testenv.MakeSSHKey(t, home, "key", "")
	server.Allow(t, key)
	config := filepath.Join(home, "config")
	known := filepath.Join(home, "known")
	if err := errors.Join(os.WriteFile(known, []byte(server.KnownLine(t)), 0o600), os.WriteFile(config, []byte("Host *\n  IdentityFile "+key+"\n  UserKnownHostsFile "+known+"\n"), 0o600)); err != nil {
		t.Fatal(err)
	}
	client, err := sshclient.Connect(t.Context(), sshclient.Destination{User: server.User, Host: "127.0.0.1", Port: server.Port}, sshclient.Options{Files: sshclient.Files{Home: home, Configs: []string{config}}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = client.Close() })
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	program, err := client.Start("exec " + phrase.ShellQuote(self) + " helper")
	if err != nil {
		t.Fatal(err)
	}
	h, err := Dial(t.Context(), program, "127.0.0.1", boundary.Site{})
	if err != nil {
		t.Fatalf("%v: %s", err, program.Complaint())
	}
	t.Cleanup(func() { _ = h.Close() })
	return h, server
}

func TestHostBySSH(t *testing.T) {
	h, _ := bySSH(t)
	hosttest.TestHost(t, hosttest.Here(t, h))
}

// dialled is this machine, by way of a helper.
func dialled(t *testing.T) *Host {
	t.Helper()
	return dialledTo(t, host.Here)
}

// dialledTo is a machine, by way of a helper.
func dialledTo(t *testing.T, on host.Host) *Host {
	t.Helper()
	h, _ := counted(t, on)
	return h
}

// counting counts what is read.
type counting struct {
	net.Conn
	came atomic.Int64 // bytes
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.came.Add(int64(n))
	return n, err
}

// counted is a machine, by way of a helper whose bytes are counted.
func counted(t *testing.T, on host.Host) (*Host, *counting) {
	t.Helper()
	here, there := net.Pipe()
	line := &counting{Conn: here}
	ended := make(chan error, 1)
	keep := func(context.Context, boundary.Site) (host.Host, error) { return on, nil }
	go func() { ended <- Serve(context.Background(), there, keep) }()
	h, err := Dial(t.Context(), line, "ferry.example", boundary.Site{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = h.Close()
		<-ended
	})
	return h, line
}

func TestHostOfAHelper(t *testing.T) {
	place := hosttest.Here(t, dialled(t))
	place.Engine = &databasetest.Engine{Empty: databasetest.EmptySQLite}
	hosttest.TestHost(t, place)
}

// What a helper made for a desk goes with the line.
func TestNothingOutlivesTheLine(t *testing.T) {
	h := dialled(t)
	folder := t.TempDir()
	opened, err := h.Open(t.Context(), folder)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := files.Lock(t.Context(), opened, ".", nil); err != nil {
		t.Fatal(err)
	}
	name, _, err := h.PutTemporary(t.Context(), ".php", []byte("<?php"))
	if err != nil {
		t.Fatal(err)
	}
	own, err := host.Here.Open(t.Context(), folder)
	if err != nil {
		t.Fatal(err)
	}
	defer own.Close()
	if _, err := files.Lock(t.Context(), own, ".", nil); !errors.Is(err, files.ErrLocked) {
		t.Fatalf("while the desk holds it: %v", err)
	}
	if err := h.Close(); err != nil {
		t.Fatal(err)
	}
	err = testenv.Until(func() error {
		unlock, err := files.Lock(t.Context(), own, ".", nil)
		if err != nil {
			return err
		}
		if _, err := os.Stat(name); err == nil {
			return errors.Join(errors.New("the temporary file is still there"), unlock())
		}
		return unlock()
	})
	if err != nil {
		t.Error(err)
	}
}

// A database server that only its own machine reaches is reached from there, by port and by socket.
func TestDatabaseByWayOfAHelper(t *testing.T) {
	server := testenv.Start(t, testenv.OwnMariaDB)
	databasetest.TestEngine(t, databasetest.Engine{Databases: dialled(t).Databases(), Empty: func(t *testing.T) databasetest.Account {
		account := server.Database(t)
		return databasetest.Account{
			Login: database.Login{Engine: "mysql", Socket: account.Socket, Name: account.Name, User: account.User, Password: account.Password},
			Run: func(statements ...string) error {
				for _, statement := range statements {
					if _, err := account.Root.Exec(statement); err != nil {
						return err
					}
				}
				return nil
			},
		}
	}})
	h := dialled(t)
	account := server.Database(t)
	db, err := h.Databases().Open(t.Context(), database.Login{Engine: "mysql", Host: "127.0.0.1", Port: account.Port, Name: account.Name, User: account.User, Password: account.Password}, database.Everything)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Engine(t.Context()); err != nil {
		t.Error(err)
	}
	// In whose name something acts after a change is known when the change is finished.
	if _, err := account.Root.Exec("CREATE TABLE boats (id INT PRIMARY KEY); CREATE VIEW fleet AS SELECT id FROM boats"); err != nil {
		t.Fatal(err)
	}
	tables, err := database.Present(t.Context(), db)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := account.Root.Exec("DROP VIEW fleet"); err != nil {
		t.Fatal(err)
	}
	fleet := tables[slices.IndexFunc(tables, func(one database.Table) bool { return one.Name == "fleet" })]
	applied, err := db.Apply(t.Context(), database.Change{Tag: "t", Replace: []database.Replacement{{Table: fleet, Rows: database.RowsOf(nil)}}})
	if err != nil {
		t.Fatal(err)
	}
	if err := applied.Finish(t.Context()); err != nil {
		t.Fatal(err)
	}
	if told := applied.NewDefiners(); len(told) != 1 || told[0].Of != "the view fleet" {
		t.Errorf("told %+v", told)
	}
	if err := db.Close(); err != nil {
		t.Error(err)
	}
}

// Tables are read in any order, in part and more than once, whatever was asked for ahead.
func TestTablesInAnyOrder(t *testing.T) {
	account := databasetest.EmptySQLite(t)
	var statements []string
	for i := range 30 {
		statements = append(statements, fmt.Sprintf("CREATE TABLE t%02d (n INTEGER)", i), fmt.Sprintf("INSERT INTO t%02d VALUES (%d), (%d)", i, i, i))
	}
	if err := account.Run(statements...); err != nil {
		t.Fatal(err)
	}
	db, err := dialled(t).Databases().Open(t.Context(), account.Login, database.Everything)
	if err != nil {
		t.Fatal(err)
	}
	moment, err := db.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	tables := moment.Tables()
	stop := errors.New("enough")
	for _, i := range []int{0, 1, 2, 3, 4, 2, 19, 20, 21, 22, 5, 6, 7, 7, 29, 0, 1, 2} {
		count := 0
		err := moment.Rows(t.Context(), tables[i], func(row database.Row) error {
			if row[len(row)-1].String() != strconv.Itoa(i) {
				t.Errorf("a row of another table: %s in t%02d", row[0], i)
			}
			if count++; i == 4 {
				return stop
			}
			return nil
		})
		if want := map[bool]int{true: 1, false: 2}[i == 4]; count != want || (i == 4) != errors.Is(err, stop) {
			t.Errorf("t%02d: %d rows, %v", i, count, err)
		}
	}
	if err := moment.Close(); err != nil { // while others are asked for
		t.Error(err)
	}
}

// lying is a folder in which a name leads out.
type lying struct{ files.FS }

func (l lying) List(ctx context.Context, name string) ([]files.Entry, error) {
	return []files.Entry{{Name: "../../outside", Kind: files.File}}, nil
}

// A helper's machine that is not what it should be leads nobody out by names.
func TestNamesThatNoFolderHas(t *testing.T) {
	disk := filestest.Around(files.Local{}, func(fsys files.FS) files.FS { return lying{fsys} })
	h := dialledTo(t, hosttest.WithDisk(disk))
	opened, err := h.Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	if entries, err := opened.List(t.Context(), "."); !errors.Is(err, wire.ErrProtocol) {
		t.Errorf("listed: %v %v", entries, err)
	}
	if err := files.Walk(t.Context(), opened, ".", files.Scope{}, func(string, files.Entry) error { return nil }); !errors.Is(err, wire.ErrProtocol) {
		t.Errorf("walked: %v", err)
	}
	if tree, err := files.ReadTree(t.Context(), opened, ".", files.Scope{}); !errors.Is(err, fs.ErrInvalid) || tree != nil {
		t.Errorf("read: %v %v", tree, err)
	}
}
