// Package files reaches the files of a site, compares whole trees of them, and
// puts one tree in the place of another.
//
// Names are absolute and slash-separated ("/srv/www/site", "C:/sites/site"), and
// may hold any bytes the place allows. Nothing here follows a symbolic link at the
// end of a name.
package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"
)

// Kind says what an entry of a folder is.
type Kind string

// The kinds of entries. Other stands for sockets, devices and pipes.
const (
	File   Kind = "file"
	Folder Kind = "folder"
	Link   Kind = "link"
	Other  Kind = "other"
)

// Unowned is the owner and group where the place knows none, or where they are to
// be left as they come.
const Unowned = -1

// Entry is one thing in a folder, as its place describes it.
type Entry struct {
	Name     string // the last part of its name
	Kind     Kind
	Size     int64 // bytes; of files only
	Mode     uint32
	Owner    int // numeric, or Unowned
	Group    int // numeric, or Unowned
	Modified time.Time
	Changed  time.Time // of the entry itself, whatever changed; zero where the place does not tell
	Target   string    // of links: where it points, as written
	Device   uint64    // entries of one device can be renamed into each other; 0 unknown
}

// Attributes are given to what is created.
type Attributes struct {
	Mode     uint32 // permission bits, with set-user, set-group and sticky as in POSIX
	Owner    int
	Group    int
	Modified time.Time // zero: the time of writing
}

// Abilities say what a place can do.
type Abilities struct {
	Exchange bool // two names can be exchanged in one step
	Owners   bool // entries have an owner and a group
	Links    bool // symbolic links
	// TimeGrain is the finest difference in modification times that is kept.
	TimeGrain time.Duration
}

// Place is where a site's files are: this machine's disk now, a remote host later. Names are
// whole, slash-separated paths without symbolic links: Real resolves those once.
//
// Calls may be made at the same time. None of them follows a link, in any part of a name,
// but Real; what stands in the way is ErrLink or another error, and nothing is done. None
// waits for the other end of a pipe: ErrNoFile. A call that is interrupted leaves what it had
// done by then: Create a file cut off or of no content, RemoveAll a part of what was there;
// Rename and Exchange are done or not. Errors wrap fs.ErrNotExist, fs.ErrExist and
// fs.ErrPermission where those are the reason.
//
// All that is done to a site's files goes through a Place. The exceptions: an SQLite file,
// which its engine opens by name; and programs of the owner's own, hooks and commands that
// clear caches. Package filestest holds a Place against all of this.
type Place interface {
	Abilities() Abilities
	// Real resolves every symbolic link in name.
	Real(name string) (string, error)
	Lstat(name string) (Entry, error)
	// List returns the entries of a folder in the order of their names.
	List(name string) ([]Entry, error)
	Open(name string, offset int64) (io.ReadCloser, error)
	// Create makes a file that must not exist yet. The bytes are safe once Close
	// returned nil: it syncs.
	Create(name string, with Attributes) (io.WriteCloser, error)
	Mkdir(name string, with Attributes) error
	Symlink(target, name string, with Attributes) error
	// Settle gives an existing file or folder the attributes.
	Settle(name string, with Attributes) error
	// CopyMarks gives an existing file or folder the access lists, labels and other marks of
	// another one, and takes away those that it has not. From a folder a file gets what it
	// would inherit. Places without such marks do nothing.
	CopyMarks(from, to string) error
	// MountedAt tells whether something else is mounted at name: it cannot be moved.
	MountedAt(name string) (bool, error)
	// Remove takes away a file, a link or an empty folder.
	Remove(name string) error
	// RemoveAll takes away name and everything below it, and does not care what stands there
	// by names: what it empties are the folders that it listed. What is already gone is no
	// error; what is mounted below is one. A folder into which somebody writes meanwhile
	// stays: that is an fs.ErrExist, after all else is gone.
	RemoveAll(ctx context.Context, name string) error
	// Rename moves a name; an existing file at the new name is replaced.
	Rename(old, new string) error
	// Exchange swaps two existing names in one step, or returns ErrUnsupported.
	Exchange(a, b string) error
	// SyncFolder makes the names in a folder safe against loss of power.
	SyncFolder(name string) error
	// FreeSpace returns how many bytes can be written below name.
	FreeSpace(name string) (uint64, error)
	// Writable tells whether entries can be made in the folder.
	Writable(name string) error
	// CanOwn tells whether entries made here can be given this owner and group.
	CanOwn(owner, group int) bool
	// Lock takes the folder for one holder at a time, until unlock is called or
	// the process ends. It returns ErrLocked when somebody else has it.
	Lock(name string) (unlock func() error, err error)
}

// ErrUnsupported says that the place cannot exchange these two names.
var ErrUnsupported = errors.New("this place cannot exchange two names in one step")

// ErrLocked says that another process holds the folder.
var ErrLocked = errors.New("another process holds the lock")

// Missing is the error for a name that somebody gave and that does not exist, in words for
// people. It wraps the cause, which must be an fs.ErrNotExist.
func Missing(name string, cause error) error {
	return missing{fmt.Sprintf("there is no file or folder %s", name), cause}
}

type missing struct {
	words string
	cause error
}

func (m missing) Error() string { return m.words }
func (m missing) Unwrap() error { return m.cause }
