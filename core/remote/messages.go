// Package remote is another machine: a helper there does what is asked (Serve), over one pair of
// streams, and Host asks it. Begin reading at Host.
//
// It promises what host.Host, files.Disk and files.FS promise; their suites hold it against that. What
// a helper made for a desk for a while - a lock, a temporary file, a connection - goes with the line.
package remote

import (
	"context"
	"errors"
	"io/fs"
	"syscall"
	"time"

	"wetland/core/boundary"
	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/core/wire"
)

// The methods of the helper.
const (
	methodBegin          = "begin"
	methodReal           = "real"
	methodOpen           = "open folder"
	methodClose          = "close folder"
	methodLstat          = "look at"
	methodList           = "list"
	methodRead           = "read"
	methodCreate         = "create"
	methodMkdir          = "make folder"
	methodSymlink        = "make link"
	methodSettle         = "give attributes"
	methodRemove         = "remove"
	methodRemoveAll      = "remove all"
	methodRename         = "rename"
	methodExchange       = "exchange"
	methodSync           = "sync folder"
	methodWritable       = "is writable"
	methodCanOwn         = "can own"
	methodMarks          = "copy marks"
	methodMounted        = "is mounted"
	methodLock           = "lock"
	methodFree           = "free space"
	methodWalk           = "walk"
	methodReadTree       = "read tree"
	methodSteps          = "take steps"
	methodHash           = "hash files"
	methodPutTree        = "write tree"
	methodReadAll        = "read files"
	methodDial           = "dial"
	methodRun            = "run"
	methodTemporary      = "put temporary"
	methodEngine         = "engine of database"
	methodSize           = "size of database"
	methodQuery          = "query database"
	methodMoment         = "read database"
	methodLeftover       = "leftovers of database"
	methodSweep          = "sweep database"
	methodApply          = "change database"
	methodCreateDatabase = "make database"
	methodUser           = "name of user"
	methodGroup          = "name of group"
	methodMayWrite       = "may write"
	methodDuplicate      = "duplicate"
	methodMachine        = "machine"
	methodConfine        = "confine"
)

// request is what a method is called with. Names are bytes: a disk takes some that are no text.
type request struct {
	Root   uint64           `json:"root,omitempty"`
	Into   uint64           `json:"into,omitempty"` // another root
	Name   []byte           `json:"name,omitempty"`
	Other  []byte           `json:"other,omitempty"`  // where a link leads, or another name
	Number int64            `json:"number,omitempty"` // of bytes: where reading begins, or how many come
	More   [][]byte         `json:"more,omitempty"`   // arguments of a program
	Ask    bool             `json:"ask,omitempty"`    // whether the user of a lock's holder counts
	With   files.Attributes `json:"with"`
	Scope  *scope           `json:"scope,omitempty"`
	Login  *login           `json:"login,omitempty"`
	Site   *boundary.Site   `json:"site,omitempty"`
	Owned  *owned           `json:"owned,omitempty"`
	World  *host.World      `json:"world,omitempty"`
}

// beginning is what the helper says first.
type beginning struct {
	Now  time.Time `json:"now"`
	Self int       `json:"self"` // as whom it runs
}

// opened is a folder that was opened.
type opened struct {
	Root        uint64 `json:"root"`
	CanExchange bool   `json:"can_exchange,omitempty"`
}

// entry is a files.Entry on its way.
type entry struct {
	Name     []byte     `json:"name"`
	Kind     files.Kind `json:"kind"`
	Size     int64      `json:"size,omitempty"`
	Mode     uint32     `json:"mode,omitempty"`
	Owner    int        `json:"owner"`
	Group    int        `json:"group"`
	Modified time.Time  `json:"modified"`
	Changed  time.Time  `json:"changed"`
	Target   []byte     `json:"target,omitempty"`
	Device   uint64     `json:"device,omitempty"`
}

func toEntry(e files.Entry) entry {
	return entry{[]byte(e.Name), e.Kind, e.Size, e.Mode, e.Owner, e.Group, e.Modified, e.Changed, []byte(e.Target), e.Device}
}

func (e entry) entry() files.Entry {
	return files.Entry{Name: string(e.Name), Kind: e.Kind, Size: e.Size, Mode: e.Mode, Owner: e.Owner, Group: e.Group, Modified: e.Modified, Changed: e.Changed, Target: string(e.Target), Device: e.Device}
}

// known are the errors that keep what they are.
var known = wire.Errors{
	"not there": fs.ErrNotExist, "exists": fs.ErrExist, "permission": fs.ErrPermission, "invalid": fs.ErrInvalid, "closed": fs.ErrClosed,
	"unsupported": errors.ErrUnsupported, "no exchange": files.ErrUnsupported, "locked": files.ErrLocked, "no file": files.ErrNoFile,
	"many names": files.ErrManyNames, "link": files.ErrLink, "outside": files.ErrOutside, "no database": database.ErrMissing, "no server": database.ErrUnreachable, "not protected": database.ErrUnprotected, "denied": database.ErrDenied, "written": database.ErrWritten, "rows": errRows, "too late": context.DeadlineExceeded, "refused": syscall.ECONNREFUSED, "not confined": host.ErrNotConfined,
}
