// Package files reaches the files of a site, compares whole trees of them, and
// puts one tree in the place of another. Begin reading at FS.
package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"
)

// Able is an FS with every ability of a disk: all below but what spares an FS on another machine round
// trips.
type Able interface {
	FS
	Exchanger
	OwnerGiver
	Marker
	Mounter
	Locker
	Measurer
}

// Kind says what an entry of a folder is.
type Kind string

// The kinds of entries. Other stands for sockets, devices and pipes.
const (
	File   Kind = "file"
	Folder Kind = "folder"
	Link   Kind = "link"
	Other  Kind = "other"
)

// Unowned is the owner and group where the disk knows none, or where they are to
// be left as they come.
const Unowned = -1

// Entry is one thing in a folder, as its disk describes it.
type Entry struct {
	Name     string // the last part of its name
	Kind     Kind
	Size     int64 // bytes; of files only
	Mode     uint32
	Owner    int // numeric, or Unowned
	Group    int // numeric, or Unowned
	Modified time.Time
	Changed  time.Time // of the entry itself, whatever changed; zero where the disk does not tell
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

// Disk is where folders are opened: this machine's disk, or that of another host. Its names
// are whole ("/srv/www/site", "C:/sites/site").
type Disk interface {
	// Real resolves every symbolic link in name.
	Real(ctx context.Context, name string) (string, error)
	// Open opens a folder, in whose name there must be no symbolic link, as the root of an FS.
	Open(ctx context.Context, folder string) (FS, error)
}

// Within tells whether a path, whole as the folder's, is that of the folder or of something below it.
func Within(name, folder string) bool {
	return name == folder || strings.HasPrefix(name, strings.TrimSuffix(folder, "/")+"/")
}

// Below tells whether a path is that of something below the folder; nothing is below "".
func Below(name, folder string) bool { return folder != "" && name != folder && Within(name, folder) }

// RealOfExisting resolves the links of the part of name that exists.
func RealOfExisting(ctx context.Context, disk Disk, name string) (string, error) {
	real, err := disk.Real(ctx, name)
	if err == nil || path.Dir(name) == name {
		return real, err
	}
	above, err := RealOfExisting(ctx, disk, path.Dir(name))
	return path.Join(above, path.Base(name)), err
}

// FS is one folder, the root, with all that is below it. The root was opened once: what stands
// at its name later does not matter.
//
// Names are slash-separated paths relative to the root, which itself is "."; they may hold any
// bytes that the disk allows. A name that is empty or absolute, or has an empty, "." or ".."
// part, is fs.ErrInvalid, and so is what would make, move or take away the root.
//
// Calls may be made at the same time. None of them follows a symbolic link, in any part of a
// name; what stands in the way is ErrLink or another error, and nothing is done. None waits
// for the other end of a pipe: ErrNoFile. Errors wrap fs.ErrNotExist, fs.ErrExist and
// fs.ErrPermission where those are the reason.
//
// A call whose context has ended does nothing, or stops, and returns its error; what Open and
// Create return goes by their context, too. A call that is interrupted leaves what it had done
// by then: Create a file cut off or of no content, RemoveAll a part of what was there; Rename
// and Exchange are done or not.
//
// What not every disk can do are the small interfaces below, such as Exchanger. All that is
// done to a site's files goes through an FS. The exceptions: an SQLite file, which its engine
// opens by name once it was looked at here, and programs of the owner's own, hooks and commands
// that clear caches.
// Package filestest holds an FS against all of this.
type FS interface {
	Lstat(ctx context.Context, name string) (Entry, error)
	// List returns the entries of a folder in the order of their names.
	List(ctx context.Context, name string) ([]Entry, error)
	// Open reads a file from offset on.
	Open(ctx context.Context, name string, offset int64) (io.ReadCloser, error)
	// Create makes a file that must not exist yet. The bytes are safe once Close
	// returned nil: it syncs.
	Create(ctx context.Context, name string, with Attributes) (io.WriteCloser, error)
	Mkdir(ctx context.Context, name string, with Attributes) error
	Symlink(ctx context.Context, target, name string, with Attributes) error
	// Settle gives an existing file or folder the attributes.
	Settle(ctx context.Context, name string, with Attributes) error
	// Remove takes away a file, a link or an empty folder.
	Remove(ctx context.Context, name string) error
	// RemoveAll takes away name and everything below it, and does not care what stands there
	// by names: what it empties are the folders that it listed. What is already gone is no
	// error; what is mounted below is one. A folder into which somebody writes meanwhile
	// stays: that is an fs.ErrExist, after all else is gone.
	RemoveAll(ctx context.Context, name string) error
	// Rename moves a name; an existing file at the new name is replaced.
	Rename(ctx context.Context, old, new string) error
	// SyncFolder makes the names in a folder safe against loss of power.
	SyncFolder(ctx context.Context, name string) error
	// Writable tells whether entries can be made in the folder.
	Writable(ctx context.Context, name string) error
	// Close closes the root. Files that are open stay so.
	Close() error
}

// Exchanger is an FS that can swap names.
type Exchanger interface {
	// CanExchange tells whether it is worth trying: the file system below may still refuse.
	CanExchange() bool
	// Exchange swaps two existing names in one step, or returns ErrUnsupported.
	Exchange(ctx context.Context, a, b string) error
}

// OwnerGiver is an FS whose entries have an owner and a group.
type OwnerGiver interface {
	// CanOwn tells whether entries made here can be given this owner and group.
	CanOwn(owner, group int) bool
}

// Marker is an FS whose entries have access lists, labels and other marks.
type Marker interface {
	// CopyMarks gives an existing file or folder the marks of another one, and takes away
	// those that it has not. From a folder a file gets what it would inherit.
	CopyMarks(ctx context.Context, from, to string) error
}

// Mounter is an FS that knows what is mounted.
type Mounter interface {
	// MountedAt tells whether something else is mounted at name: it cannot be moved.
	MountedAt(ctx context.Context, name string) (bool, error)
}

// Locker is an FS whose folders can be locked.
type Locker interface {
	// Lock takes the folder for one holder at a time, until unlock is called or
	// the process ends. It returns ErrLocked when somebody else has it. A holder whose user does
	// not count may be passed over, where the system tells who it is; nil: all count.
	Lock(ctx context.Context, name string, counts func(user int) bool) (unlock func() error, err error)
}

// Measurer is an FS that knows how much room is left.
type Measurer interface {
	// FreeSpace returns how many bytes can be written below name.
	FreeSpace(ctx context.Context, name string) (uint64, error)
}

// TreeReader is an FS that reads whole trees where they are: each of its calls goes there once, however
// much is in the tree. An errors.ErrUnsupported says that this folder cannot be read so.
type TreeReader interface {
	// WalkTree is WalkPast.
	WalkTree(ctx context.Context, top string, scope Scope, visit func(path string, entry Entry) error, failed func(name string, err error) error) error
	// ReadTree is ReadTree.
	ReadTree(ctx context.Context, top string, scope Scope) (Tree, error)
	// HashFiles hashes the files of these names below top where they are, in their order, as Hash
	// does. each gets what is wrong with one, and may go on.
	HashFiles(ctx context.Context, top string, names []string, each func(i int, hash string, size int64, err error) error) error
	// ReadFiles reads the files of these names below top, in their order. What each does not read
	// is passed over; it gets what is wrong with one, and may go on.
	ReadFiles(ctx context.Context, top string, names []string, each func(i int, file *Reading, err error) error) error
}

// TreeWriter is an FS that takes a whole tree in one call.
type TreeWriter interface {
	// PutTree is WriteTree.
	PutTree(ctx context.Context, top string, tree Tree, source Source, wrote func(bytes int64)) error
}

// Duplicator is an FS that makes new files, in a folder of the same machine, out of its own.
type Duplicator interface {
	// Duplicate is Duplicate.
	Duplicate(ctx context.Context, name string, to FS, at string, with Attributes) error
}

// ByName is an FS whose calls go by whole names: a link that stands in the way is seen and not followed, but
// whoever can exchange a folder for a link while a call is under way can lead it elsewhere. And its root is
// whatever stands at its name.
type ByName interface {
	ByName() bool
}

// Distant is an FS each of whose calls may take a while, however little it does.
type Distant interface {
	Distant() bool
}

// Reading is a file that ReadFiles reads.
type Reading struct {
	io.Reader
	Before Entry                 // as it was when reading began
	After  func() (Entry, error) // as it is at the end of reading: after all was read
}

// CanExchange tells whether fsys may be able to exchange names.
func CanExchange(fsys FS) bool {
	able, ok := fsys.(Exchanger)
	return ok && able.CanExchange()
}

// Exchange swaps two existing names in one step, or returns ErrUnsupported.
func Exchange(ctx context.Context, fsys FS, a, b string) error {
	if able, ok := fsys.(Exchanger); ok {
		return able.Exchange(ctx, a, b)
	}
	return ErrUnsupported
}

// CanOwn tells whether entries can be given this owner and group. Where entries have no
// owners, all can be given any.
func CanOwn(fsys FS, owner, group int) bool {
	able, ok := fsys.(OwnerGiver)
	return !ok || able.CanOwn(owner, group)
}

// CopyMarks gives one entry the marks of another, where there are such.
func CopyMarks(ctx context.Context, fsys FS, from, to string) error {
	if able, ok := fsys.(Marker); ok {
		return able.CopyMarks(ctx, from, to)
	}
	return nil
}

// MountedAt tells whether something else is mounted at name, where that can be known.
func MountedAt(ctx context.Context, fsys FS, name string) (bool, error) {
	if able, ok := fsys.(Mounter); ok {
		return able.MountedAt(ctx, name)
	}
	return false, nil
}

// Lock takes the folder for one holder at a time, or returns errors.ErrUnsupported.
func Lock(ctx context.Context, fsys FS, name string, counts func(user int) bool) (unlock func() error, err error) {
	if able, ok := fsys.(Locker); ok {
		return able.Lock(ctx, name, counts)
	}
	return nil, fmt.Errorf("lock %s: %w", name, errors.ErrUnsupported)
}

// FreeSpace returns how many bytes can be written below name, or errors.ErrUnsupported.
func FreeSpace(ctx context.Context, fsys FS, name string) (uint64, error) {
	if able, ok := fsys.(Measurer); ok {
		return able.FreeSpace(ctx, name)
	}
	return 0, fmt.Errorf("ask for the free space at %s: %w", name, errors.ErrUnsupported)
}

// ErrUnsupported says that two names cannot be exchanged. It is an errors.ErrUnsupported.
var ErrUnsupported error = inWords{"this disk cannot exchange two names in one step", errors.ErrUnsupported}

// ErrLocked says that another process holds the folder.
var ErrLocked = errors.New("another process holds the lock")

// LockedError is an ErrLocked that says who holds the lock.
type LockedError struct{ Process, User int }

// Error names the process.
func (e *LockedError) Error() string {
	return fmt.Sprintf("%v: process %d of the user %d", ErrLocked, e.Process, e.User)
}

func (e *LockedError) Unwrap() error { return ErrLocked }

// LeaseError is an ErrLocked of a lock that its holder renews: it is nobody's once that was too long ago.
type LeaseError struct {
	Age   time.Duration // since it was renewed
	Lasts time.Duration // without being renewed
}

func (e *LeaseError) Error() string {
	return fmt.Sprintf("%v; it was renewed %s ago, and is free %s after that", ErrLocked, e.Age.Round(time.Second), e.Lasts)
}

func (e *LeaseError) Unwrap() error { return ErrLocked }

// The reasons why a name is left alone. A *fs.PathError around them says which one it is.
var (
	// ErrNoFile is returned for pipes, sockets and devices where a file or folder is wanted.
	ErrNoFile = errors.New("it is neither a file nor a folder")
	// ErrManyNames is returned for a file of somebody else's that has further names (hard
	// links): what is done to it would be done there, too.
	ErrManyNames = errors.New("it belongs to somebody else and has further names elsewhere (hard links)")
	// ErrLink is returned where a symbolic link is in the way.
	ErrLink = errors.New("a symbolic link is in the way, which is not followed")
)

// CheckName returns fs.ErrInvalid for what is no name below a root, as FS says.
func CheckName(name string) error {
	if name == "." {
		return nil
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == "" || part == "." || part == ".." {
			return fs.ErrInvalid
		}
	}
	if strings.ContainsRune(name, 0) {
		return fs.ErrInvalid
	}
	return nil
}

// Missing is the error for a name that somebody gave and that does not exist, in words for
// people. It wraps the cause, which must be an fs.ErrNotExist.
func Missing(name string, cause error) error {
	return inWords{fmt.Sprintf("there is no file or folder %s", name), cause}
}

// inWords is an error that says its cause in words of its own.
type inWords struct {
	words string
	cause error
}

func (w inWords) Error() string { return w.words }
func (w inWords) Unwrap() error { return w.cause }
