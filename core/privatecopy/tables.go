package privatecopy

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"path"
	"strconv"
	"strings"

	"wetland/core/confine"
	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/version"
)

// A copy's database server is its own: it begins empty, listens where the site's settings look for one, and
// knows one account, the one of the settings. What happens to its files after the copy's end is of no
// interest, so they are written as lazily as it can.

// logSize is that of InnoDB's log: it is written whole when a database is made.
const logSize = "--innodb-log-file-size=32M"

// makeDatabase makes an empty one, if the tables need a server.
func (b *bringing) makeDatabase(ctx context.Context) error {
	if !b.needsServer() {
		return nil
	}
	program, args := b.database(), append([]string{"--no-defaults", "--initialize-insecure", "--datadir=" + databaseFolder}, startSettings(b.TableSettings)...) // MySQL writes some of them down for good
	if program == b.machine.MariaDB && b.machine.InstallMariaDB != "" {
		program, args = b.machine.InstallMariaDB, []string{"--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db", "--datadir=" + databaseFolder, logSize}
	}
	if _, err := b.host.Run(ctx, program, append(args, b.asRoot()...)...); err != nil {
		return fmt.Errorf("make the copy's database: %w", err)
	}
	return nil
}

// needsServer tells of tables that are not those of SQLite.
func (b *bringing) needsServer() bool {
	return b.Snapshot.Dialect() == "mysql" && len(b.Snapshot.Tables) > 0
}

// asRoot lets the server run as root, where the site's files are root's.
func (b *bringing) asRoot() []string {
	if b.world.User == 0 {
		return []string{"--user=root"}
	}
	return nil
}

// startDatabase starts the server.
func (b *bringing) startDatabase(ctx, alive context.Context, login database.Login) error {
	account := path.Join(ownFolder, "account.sql")
	if err := b.put(ctx, account, accountOf(login)); err != nil {
		return err
	}
	args := append([]string{
		"--no-defaults", "--datadir=" + databaseFolder, "--pid-file=" + path.Join(databaseFolder, "pid"), "--init-file=" + account,
		"--skip-log-bin", "--skip-name-resolve", "--max-allowed-packet=1G", "--local-infile=0", "--secure-file-priv=" + databaseFolder,
		logSize, "--innodb-flush-log-at-trx-commit=0", "--innodb-flush-method=nosync", "--skip-innodb-doublewrite", "--innodb-buffer-pool-size=256M", "--innodb-sort-buffer-size=32M",
	}, b.asRoot()...)
	args = append(args, "--socket="+b.socket(login))
	args = append(args, startSettings(b.TableSettings)...)
	if login.Socket != "" {
		if err := b.openFolder(ctx, path.Dir(login.Socket)); err != nil {
			return err
		}
		args = append(args, "--skip-networking")
	} else {
		args = append(args, "--bind-address=0.0.0.0", "--port="+strconv.Itoa(login.Port))
	}
	server := b.start(alive, b.database(), args...)
	return server.until(ctx, b.Clock, "the database server", func() error {
		err := b.answers(ctx, "unix", b.socket(login))
		if err == nil && login.Socket == "" { // it begins to listen at one after the other
			err = b.answers(ctx, "tcp", net.JoinHostPort(login.Host, strconv.Itoa(login.Port)))
		}
		return err
	})
}

// socket is the one of the server, which has one also where the site comes by a port.
func (b *bringing) socket(login database.Login) string {
	return cmp.Or(login.Socket, path.Join(databaseFolder, "socket"))
}

// answers tells whether something listens in the copy.
func (b *bringing) answers(ctx context.Context, network, at string) error {
	connection, err := b.host.Dial(ctx, network, at)
	if err != nil {
		return err
	}
	return connection.Close()
}

// openFolder makes a folder that the copy's programs may write to.
func (b *bringing) openFolder(ctx context.Context, folder string) error {
	if err := files.MakeAll(ctx, b.disk, folder, forAll); err != nil {
		return err
	}
	with := files.Attributes{Mode: 0o777, Owner: files.Unowned, Group: files.Unowned, Modified: b.host.Now()}
	return b.disk.Settle(ctx, folder, with)
}

// accountOf are statements that make the account and the database of the site's settings.
func accountOf(login database.Login) string {
	var b strings.Builder
	fmt.Fprintf(&b, "CREATE DATABASE IF NOT EXISTS %s;\n", quoteName(login.Name))
	for _, host := range []string{"localhost", "%"} {
		account := quoteText(login.User) + "@" + quoteText(host)
		fmt.Fprintf(&b, "DROP USER IF EXISTS ''@%s;\nCREATE USER IF NOT EXISTS %s;\nALTER USER %s IDENTIFIED BY %s;\nGRANT ALL PRIVILEGES ON *.* TO %s;\n", quoteText(host), account, account, quoteText(login.Password), account)
	}
	return b.String()
}

// compareEngine tells of a server of another release than the site's.
func (b *bringing) compareEngine(ctx context.Context, db database.Database) error {
	own, err := db.Engine(ctx)
	kind, release, _ := strings.Cut(own, " ")
	if ofSite, ok := strings.CutPrefix(b.Snapshot.Engine, kind+" "); err == nil && !(ok && version.SameRelease(release, ofSite)) {
		b.differs(fmt.Sprintf("its tables are in %s, the site's in %s", own, b.Snapshot.Engine))
	}
	return err
}

func quoteName(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// quoteText quotes a text, which must not end a line of the file.
func quoteText(text string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`, "\n", `\n`, "\r", `\r`, "\x00", `\0`).Replace(text) + "'"
}

// openDatabase logs in to the copy's database. On this machine what is loaded has no need of the line into the
// world: it goes straight to the server's socket.
func (b *bringing) openDatabase(ctx context.Context, login database.Login) (database.Database, error) {
	if login.Engine != "sqlite" {
		login.Socket = b.socket(login)
		if !b.isHere() {
			return b.host.Databases().Open(ctx, login, database.Everything)
		}
		straight := database.Engines{Dial: func(ctx context.Context, _, name string) (net.Conn, error) {
			return confine.DialSocket(ctx, b.top, name)
		}}
		return straight.Open(ctx, login, database.Everything)
	}
	if err := b.host.Databases().Create(ctx, login); err != nil {
		return nil, err
	}
	return b.host.Databases().Open(ctx, login, database.Everything)
}
