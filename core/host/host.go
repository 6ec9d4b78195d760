// Package host is the machine that a site lives on, as far as one account reaches it: its files,
// its databases, what listens there and what may be run there. Begin reading at Host.
//
// Whatever is done to a site goes through its host. The workspace, its store and its shelf are on
// the machine that Wetland runs on (Here), and are never asked for through a host.
package host

import (
	"context"
	"errors"
	"net"
	"net/url"
	"time"

	"wetland/core/database"
	"wetland/core/files"
)

// Host is one machine with sites. Its calls may be made at the same time; a call whose context
// has ended does nothing, or stops, and returns its error. What a host cannot do is an
// errors.ErrUnsupported; Abilities tells of it beforehand. Package hosttest holds a Host against all of
// this.
type Host interface {
	// Disk is where its folders are opened. What can be done in a folder depends on the disk that
	// it is on: the abilities of a files.FS, as files.Exchanger, tell of that.
	files.Disk
	// Name is how people call it, such as "ssh://keeper@ferry.example"; "" for the machine that
	// Wetland runs on.
	Name() string
	// Abilities tells what can be done there.
	Abilities() Abilities
	// Databases opens databases as they are reached from there: "localhost" and sockets are its own.
	Databases() Databases
	// Dial connects, from there, to what listens: network is "tcp" with HOST:PORT, or "unix" with
	// the whole name of a socket. Where nothing listens, the error wraps fs.ErrNotExist (no such
	// socket) or syscall.ECONNREFUSED.
	Dial(ctx context.Context, network, address string) (net.Conn, error)
	// Run runs a program that is installed there, without a shell and without any secret of our
	// environment, and returns what it prints. A program that is not there is an fs.ErrNotExist;
	// of one that fails, what it says is in the error.
	Run(ctx context.Context, program string, args ...string) (output string, err error)
	// PutTemporary makes a file that every account there may read, in the folder for temporary
	// files, with a name that cannot be guessed and ends as given; remove takes it away.
	PutTemporary(ctx context.Context, ending string, content []byte) (name string, remove func() error, err error)
	// Now is the time by its own clock, which may be hours off.
	Now() time.Time
	// Accounts are its users and groups.
	Accounts() Accounts
	// Close ends what was opened for it. Files and databases that are open may end with it.
	Close() error
}

// Accounts are the users and groups of a host. Of what cannot be found out they say what is safe.
type Accounts interface {
	// Self is the user that we act as there; files.Unowned where that cannot be known.
	Self(ctx context.Context) int
	// UserName and GroupName are names, or "#" and the number where there is none.
	UserName(ctx context.Context, user int) string
	GroupName(ctx context.Context, group int) string
	// MayWrite tells whether a user has the right to write what has this owner, group and mode. Of
	// one whose groups cannot be found it is believed.
	MayWrite(ctx context.Context, user int, entry files.Entry) bool
}

// Databases opens databases.
type Databases interface {
	// Open logs in to a database, as database.Engines does.
	Open(ctx context.Context, login database.Login, owner database.Owner) (database.Database, error)
	// Create makes the database that a login names.
	Create(ctx context.Context, login database.Login) error
	// Scratch makes a database for one use, and logs in; drop takes it away.
	Scratch(ctx context.Context, login database.Login) (db database.Database, drop func() error, err error)
	// SweepScratch drops what Scratch made in a process that is gone.
	SweepScratch(ctx context.Context, login database.Login) error
}

// Abilities are what can be done on a host, whatever the folder.
type Abilities struct {
	Dial      bool // from there, to what listens
	Run       bool // programs
	Temporary bool // files for other accounts
}

// Whole is a folder of a host as people and settings write it.
func Whole(on Host, folder string) string {
	if on.Name() == "" {
		return folder
	}
	return on.Name() + (&url.URL{Path: folder}).EscapedPath()
}

// FolderOf is the folder of what Whole made.
func FolderOf(whole string) string {
	if at, err := url.Parse(whole); err == nil && at.Host != "" {
		return at.Path
	}
	return whole
}

// ErrUnreachable says that a machine cannot be reached, or its account not be entered.
var ErrUnreachable = errors.New("the host cannot be reached")
