package database_test

import (
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"wetland/core/database"
	"wetland/core/database/databasetest"
	"wetland/internal/testenv"
)

func TestMySQLEngine(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		databasetest.TestEngine(t, databasetest.Engine{Empty: func(t *testing.T) databasetest.Account { return onServer(t, server) }})
	})
}

func onServer(t *testing.T, server *testenv.Server) databasetest.Account {
	account := server.Database(t)
	login := database.Login{Engine: "mysql", Host: "127.0.0.1", Port: account.Port, Name: account.Name, User: account.User, Password: account.Password}
	run := func(statements ...string) error {
		for _, statement := range statements {
			if _, err := account.Root.Exec(statement); err != nil {
				return fmt.Errorf("%s: %w", statement, err)
			}
		}
		return nil
	}
	return databasetest.Account{
		Login: login, Run: run,
		ReadOnly: func() database.Login {
			reader := login
			reader.User += "_reader"
			for _, host := range []string{"localhost", "%"} {
				name := "'" + reader.User + "'@'" + host + "'"
				if err := run("CREATE USER "+name+" IDENTIFIED BY 'Just looking 1'", "GRANT SELECT, SHOW VIEW, TRIGGER ON "+login.Name+".* TO "+name); err != nil {
					t.Fatal(err)
				}
			}
			reader.Password = "Just looking 1"
			return reader
		},
		Breaking: func(statement int64) (database.Login, func() bool) {
			line := breakAt(t, account.Port, statement)
			through := login
			through.Port, through.TLS = line.port, database.TLSOff // the line must read what is asked
			return through, line.broken.Load
		},
		Hold: func(table string) func() {
			return hold(t, account.Root, "LOCK TABLES "+table+" READ", "UNLOCK TABLES")
		},
	}
}

// hold takes a lock on a connection of its own.
func hold(t *testing.T, db *sql.DB, take, release string) func() {
	t.Helper()
	conn, err := db.Conn(context.Background())
	if err == nil {
		_, err = conn.ExecContext(context.Background(), take)
	}
	if err != nil {
		t.Fatal(err)
	}
	return func() {
		_, err := conn.ExecContext(context.Background(), release)
		if err := errors.Join(err, conn.Close()); err != nil {
			t.Error(err)
		}
	}
}

// line is a way to a database server that breaks at a certain statement, and stays broken.
type line struct {
	port   int
	at     int64
	seen   atomic.Int64
	broken atomic.Bool
}

func breakAt(t *testing.T, server int, statement int64) *line {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listener.Close() })
	l := &line{port: listener.Addr().(*net.TCPAddr).Port, at: statement}
	go func() {
		for {
			client, err := listener.Accept()
			if err != nil {
				return
			}
			behind, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", server))
			if err != nil || l.broken.Load() {
				_ = client.Close()
				continue
			}
			go func() {
				_, _ = io.Copy(client, behind)
				_ = client.Close()
			}()
			go func() {
				l.carry(behind, client)
				_, _ = client.Close(), behind.Close()
			}()
		}
	}()
	return l
}

// carry hands on what the client says, packet by packet, until the statement comes at which
// the line breaks. A command's first packet has the number 0, a statement's the type 3
// (MySQL Client/Server Protocol, COM_QUERY).
func (l *line) carry(to io.Writer, from io.Reader) {
	head := make([]byte, 4)
	for {
		if _, err := io.ReadFull(from, head); err != nil {
			return
		}
		size := binary.LittleEndian.Uint32([]byte{head[0], head[1], head[2], 0})
		packet := make([]byte, 4+size)
		copy(packet, head)
		if _, err := io.ReadFull(from, packet[4:]); err != nil {
			return
		}
		if head[3] == 0 && size > 0 && packet[4] == 3 && l.seen.Add(1) >= l.at {
			l.broken.Store(true)
		}
		if l.broken.Load() {
			return
		}
		if _, err := to.Write(packet); err != nil {
			return
		}
	}
}

func TestSQLiteEngine(t *testing.T) {
	databasetest.TestEngine(t, databasetest.Engine{Empty: func(t *testing.T) databasetest.Account {
		file := filepath.Join(t.TempDir(), "site.sqlite")
		raw, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(20000)")
		if err == nil {
			_, err = raw.Exec("PRAGMA journal_mode = WAL") // so that readers keep nobody from writing
		}
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = raw.Close() })
		return databasetest.Account{
			Login: database.Login{Engine: "sqlite", File: file},
			Run: func(statements ...string) error {
				_, err := raw.Exec(strings.Join(statements, ";\n"))
				return err
			},
			Hold: func(string) func() { return hold(t, raw, "BEGIN IMMEDIATE", "ROLLBACK") },
		}
	}})
}
