// Package database reads, writes and compares what a site keeps in SQL: a file
// for each engine, and the same view of tables and rows for all of them.
package database

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strings"
)

// Kind says what a table is.
type Kind string

// The kinds of tables, and of what else a site may keep beside them. Only tables have
// rows.
const (
	BaseTable Kind = "table"
	View      Kind = "view"
	Sequence  Kind = "sequence"
	Procedure Kind = "procedure"
	Function  Kind = "function"
	Event     Kind = "event"
)

// Stays tells of a kind that cannot be set aside under another name: one that is made
// by an update stays, and does nothing unless it is called.
func (k Kind) Stays() bool { return k == Procedure || k == Function }

// Column is one column of a table that rows are written to; generated columns
// are left to the server.
type Column struct {
	Name string `json:"name"`
	Type string `json:"type"` // the engine's own word, lower case
}

// Table describes one of the site's tables: enough to make it again.
type Table struct {
	Name   string `json:"name"`
	Kind   Kind   `json:"kind"`
	Create string `json:"create"` // the statement that makes it, without its foreign keys
	// Settings is a statement that makes the session what it was when this was made.
	Settings string `json:"settings,omitempty"`
	// statements for when all rows of all tables are in: indexes, foreign keys, triggers
	After   []string `json:"after,omitempty"`
	Columns []Column `json:"columns,omitempty"`
	Key     []string `json:"key,omitempty"` // columns that tell rows apart; none: rows have no name
	// Counter is the next or last number the engine gives to new rows; 0: none.
	Counter int64 `json:"counter,omitempty"`
	// History says that the table keeps rows of the past too (MariaDB's system versioning).
	History bool `json:"history,omitempty"`
	// Firm says that the engine reads and writes the table in transactions.
	Firm   bool   `json:"firm"`
	Rows   int64  `json:"rows"`
	Digest string `json:"digest,omitempty"` // of all rows, whatever their order
}

var counterClause = regexp.MustCompile(`(?i)\s+AUTO_INCREMENT=\d+`)

// eventStatus is whether an event runs.
var eventStatus = regexp.MustCompile(`(ON COMPLETION (?:NOT )?PRESERVE) (ENABLE|DISABLE ON \w+|DISABLE)\b`)

// splitStatus takes its status out of an event's statement.
func splitStatus(create string) (without, status string) {
	found := eventStatus.FindStringSubmatchIndex(create)
	if found == nil {
		return create, ""
	}
	return create[:found[3]] + create[found[1]:], create[found[4]:found[5]]
}

// definerClause is in whose name a trigger or a view acts.
var definerClause = regexp.MustCompile("\\s+DEFINER=`((?:[^`]|``)*)`@`((?:[^`]|``)*)`")

// Shape identifies the structure of the table, apart from its counter and from
// the definers of views and triggers: an ordinary user cannot give those back.
func (t Table) Shape() string {
	text := counterClause.ReplaceAllString(t.Create, "") + "\x00" + t.Settings + "\x00" + strings.Join(t.After, "\x00")
	text = definerClause.ReplaceAllString(text, "")
	if t.Kind == Event {
		text, _ = splitStatus(text)
	}
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:16])
}

// Login says where a database is and how to log in. It never prints its password.
type Login struct {
	Engine   string // "mysql" (MariaDB too) or "sqlite"
	Host     string // a name or address; empty with a socket
	Port     int
	Socket   string // of the server's machine
	Name     string // of the database
	User     string
	Password string
	File     string // of an SQLite database, as a path on its machine
	TLS      TLS    // by a network
	// Trusted vouch for the server's certificate where TLS is required; nil: the system's.
	Trusted *x509.CertPool
	dial    func(ctx context.Context, network, address string) (net.Conn, error) // as Engines says
}

// String describes the place without the password.
func (l Login) String() string {
	switch {
	case l.Engine == "sqlite":
		return l.File
	case l.Socket != "":
		return fmt.Sprintf("%s as %s through the socket %s", l.Name, l.User, l.Socket)
	}
	return fmt.Sprintf("%s as %s at %s:%d", l.Name, l.User, l.Host, l.Port)
}

// GoString keeps the password out of %#v, too.
func (l Login) GoString() string { return "database.Login(" + l.String() + ")" }

// Owner picks a site's own tables from the names of all that the database holds.
type Owner func(names []string) []string

// Everything owns all that a database holds: for one that is a site's alone.
func Everything(names []string) []string { return slices.Clone(names) }

// Database is one site's tables in an engine.
type Database interface {
	// Engine names the engine and its version, for people.
	Engine(ctx context.Context) (string, error)
	// Dialect is whose statements it speaks, as Login's Engine says it: "sqlite" or "mysql".
	Dialect() string
	// Read opens one consistent view of the site's tables.
	Read(ctx context.Context) (Moment, error)
	// Apply carries out a change; see Change. Nothing is done, and the error wraps
	// ErrForeignStatement, where a statement does anything else than to make its table.
	Apply(ctx context.Context, change Change) (Applied, error)
	// Leftover names what an Apply that was interrupted, or is under way, made for itself
	// beside these tables.
	Leftover(ctx context.Context, tables []string) ([]string, error)
	// Sweep drops what Leftover names. Call it only when the tables themselves are proved
	// and no other Apply is under way.
	Sweep(ctx context.Context, tables []string) error
	// Size estimates how many bytes the rows of all tables in the database take.
	Size(ctx context.Context) (int64, error)
	// Query returns the rows of one statement, for a CMS that looks up its own
	// settings.
	Query(ctx context.Context, statement string, args ...any) ([]Row, error)
	Close() error
}

// Moment is a view of the tables as they stood at one instant.
type Moment interface {
	// Tables lists the site's tables by name, without Rows and Digest.
	Tables() []Table
	// Weaker says in words what this view does not promise: tables that are not
	// transactional, things the snapshot leaves out.
	Weaker() []string
	// Standing says what this view promises while others write.
	Standing() Standing
	// Rows calls each for every row of a table; the row is valid during the call. Of a view that lasts, the rows of a
	// table that others emptied, changed in structure or renamed since may not be there any more: an error.
	Rows(ctx context.Context, table Table, each func(Row) error) error
	Close() error
}

// Standing is what a view of the tables promises while others write.
type Standing struct {
	// Lasts says that it may stay open: nobody who writes rows or changes a table's structure waits for it, but while its
	// rows are read. Any other is to be closed soon.
	Lasts bool `json:"lasts,omitempty"`
	// Idle is for how many seconds nobody had written to a table when the view was opened, by the server's own clock, to
	// a second or so; of tables of which the server knows.
	Idle map[string]int64 `json:"idle,omitempty"`
}

// Rows gives the rows of a table, by calling each for every one.
type Rows func(ctx context.Context, each func(Row) error) error

// Replacement is a table to be made anew with the given rows.
type Replacement struct {
	Table Table
	Rows  Rows
}

// Patch changes single rows of a table. Without a key it can only add some.
type Patch struct {
	Table  Table
	Put    Rows // inserted, or written over the row of the same key; nil: none
	Remove Rows // rows whose keys are taken out; nil: none
	// Strict changes nothing that somebody wrote meanwhile: Remove has the rows as they were read, those in whose place
	// others are put among them. Of a key whose row is not so any more, and of one that is taken, nothing is done; all
	// else is, and the error is ErrWritten.
	Strict bool
	// Add has rows that are inserted under new keys, whatever theirs are, into a table that has FreshKeys or no key; nil:
	// none.
	Add Rows
}

// ErrWritten says that somebody wrote to rows between their being read and a strict patch of them.
var ErrWritten = errors.New("somebody wrote to these rows meanwhile")

// FreshKeys tells whether the engine gives keys to new rows by itself.
func (t Table) FreshKeys() bool {
	at := keyIndexes(t)
	return len(at) == 1 && (t.Counter > 0 || t.Columns[at[0]].Type == "integer") // SQLite's word, by which it counts rows
}

// withoutKey is the table without its only column of a key, if it has one.
func (t Table) withoutKey() (cut Table, rows func(Rows) Rows) {
	key := keyIndexes(t)
	if len(key) == 0 {
		return t, func(all Rows) Rows { return all }
	}
	at := key[0]
	cut = t
	cut.Columns = slices.Delete(slices.Clone(t.Columns), at, at+1)
	return cut, func(from Rows) Rows {
		return func(ctx context.Context, each func(Row) error) error {
			return from(ctx, func(row Row) error { return each(slices.Delete(slices.Clone(row), at, at+1)) })
		}
	}
}

// RowsOf gives rows that are at hand; nil if there are none.
func RowsOf(rows []Row) Rows {
	if len(rows) == 0 {
		return nil
	}
	return func(_ context.Context, each func(Row) error) error {
		for _, row := range rows {
			if err := each(row); err != nil {
				return err
			}
		}
		return nil
	}
}

// Change says what is to become of some tables; others are left alone.
type Change struct {
	Replace []Replacement
	Aside   []string // renamed to a name that begins with AsidePrefix, never dropped
	Tag     string   // makes the names of what is set aside unique: snap-3, run-12
	Patches []Patch
	// KeepCounters never lets a table's counter go down, for visitors may have
	// seen numbers that the older state does not know.
	KeepCounters bool
	// Apart is for a database that is no site's own: nothing that the change makes there may
	// reach beyond it. It wraps ErrForeignStatement if something would.
	Apart bool
}

// described are the tables that the change makes or writes to.
func (c Change) described() []Table {
	var tables []Table
	for _, r := range c.Replace {
		tables = append(tables, r.Table)
	}
	for _, patch := range c.Patches {
		tables = append(tables, patch.Table)
	}
	return tables
}

// Empty tells whether nothing is to be done.
func (c Change) Empty() bool { return len(c.Replace)+len(c.Aside)+len(c.Patches) == 0 }

// Applied is a change that visitors see already, while what it replaced is still kept.
type Applied interface {
	// Aside lists the tables set aside, under their new names.
	Aside() []string
	// Replaced gives the rows that a table had when another took its place, until Finish. table describes it as it was
	// read. Where that is not kept, the error wraps errors.ErrUnsupported.
	Replaced(ctx context.Context, table Table, each func(Row) error) error
	// Finish drops the replaced tables. Call it once the new ones are proved.
	Finish(ctx context.Context) error
	// NewDefiners lists what Finish could only make in another name than it had.
	NewDefiners() []NewDefiner
}

// NewDefiner is a view, trigger, routine or event that acts in another name than before: this
// user may not make it in somebody else's.
type NewDefiner struct {
	Of       string // such as "the view busy"
	Table    string // the name under which it, or the table it belongs to, is described
	Was, Now string // accounts, as USER@HOST
	Disabled bool   // an event, which would otherwise run with other rights
}

// String says it in words.
func (d NewDefiner) String() string {
	text := fmt.Sprintf("%s acts in the name of %s now, not of %s: the database user may not make it in another name",
		d.Of, d.Now, d.Was)
	if d.Disabled {
		text += ". It is disabled, so that it does not run with other rights; let an administrator enable it"
	}
	return text
}

// AsidePrefix begins the names of tables that were set aside.
const AsidePrefix = "wetland_aside_"

// longestName is what MariaDB and MySQL allow for the name of a table.
const longestName = 64

// asideName returns the name under which a table is set aside: one that is not
// taken, for a run that was interrupted may have set it aside before.
func asideName(tag, name string, taken func(string) bool) string {
	tag = strings.ReplaceAll(tag, "-", "_")
	for n := 1; ; n++ {
		full := AsidePrefix + tag + "_" + name
		if n > 1 {
			full = fmt.Sprintf("%s%s_%d_%s", AsidePrefix, tag, n, name)
		}
		if len(full) > longestName {
			sum := sha256.Sum256([]byte(full))
			full = full[:longestName-9] + "_" + hex.EncodeToString(sum[:4])
		}
		if !taken(full) {
			return full
		}
	}
}

// ours begins the names of everything that Wetland makes in a database.
const ours = "wetland_"

// Engines opens databases of every engine known here, those of servers by Dial. Its zero value
// dials from the machine that Wetland runs on.
type Engines struct {
	// Dial connects to a server: network is "tcp" or "unix"; nil: as package net does.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// Open connects to the database and proves that it answers. Errors wrap
// ErrUnreachable, ErrUnprotected, ErrDenied or ErrMissing where one of those is the reason.
func (e Engines) Open(ctx context.Context, login Login, owner Owner) (Database, error) {
	login.dial = e.Dial
	switch login.Engine {
	case "mysql":
		return openMySQL(ctx, login, owner)
	case "sqlite":
		return openSQLite(ctx, login, owner)
	}
	return nil, fmt.Errorf("no engine is called %q here (known: mysql, sqlite)", login.Engine)
}

// Reasons why a database cannot be opened.
var (
	ErrUnreachable = errors.New("the database server cannot be reached")
	ErrUnprotected = errors.New("the connection to the database server cannot be protected as it should be")
	ErrDenied      = errors.New("the database server refuses this user or password")
	ErrMissing     = errors.New("there is no such database")
)

// Sink is given every row of a table, as AppendRow encodes it, and a number that
// depends on the row's bytes alone. The bytes are valid during the call.
type Sink func(table Table, encoded []byte, mark uint64) error

// Survey reads every table of a moment and fills in Rows and Digest. sink, if not
// nil, is given every row.
func Survey(ctx context.Context, moment Moment, sink Sink) ([]Table, error) {
	if able, ok := moment.(Surveyor); ok && sink == nil {
		return able.Survey(ctx)
	}
	tables := moment.Tables()
	for i := range tables {
		if tables[i].Kind != BaseTable {
			continue
		}
		var digest Digest
		err := moment.Rows(ctx, tables[i], func(row Row) error {
			encoded, mark := digest.Add(row)
			if sink == nil {
				return nil
			}
			return sink(tables[i], encoded, mark)
		})
		if err != nil {
			return nil, fmt.Errorf("read the table %s: %w", tables[i].Name, err)
		}
		tables[i].Rows, tables[i].Digest = digest.Rows(), digest.String()
	}
	return tables, nil
}

// Present surveys the database as it stands now.
func Present(ctx context.Context, db Database) ([]Table, error) {
	moment, err := db.Read(ctx)
	if err != nil {
		return nil, err
	}
	tables, err := Survey(ctx, moment, nil)
	return tables, errors.Join(err, moment.Close())
}

// Scratch makes an empty database for one use beside the one that a login names, and logs in. drop
// takes it away with all that is in it.
func (e Engines) Scratch(ctx context.Context, login Login) (db Database, drop func() error, err error) {
	login.dial = e.Dial
	switch login.Engine {
	case "mysql":
		return scratchMySQL(ctx, login)
	case "sqlite":
		return scratchSQLite(ctx)
	}
	return nil, nil, fmt.Errorf("no engine is called %q here (known: mysql, sqlite)", login.Engine)
}

// SweepScratch drops what Scratch made in a process that is gone.
func (e Engines) SweepScratch(ctx context.Context, login Login) error {
	login.dial = e.Dial
	if login.Engine != "mysql" {
		return nil // it lay in the folder for temporary files
	}
	return sweepScratchMySQL(ctx, login)
}

// Create makes the database that a login names, where the server has none and this
// user may.
func (e Engines) Create(ctx context.Context, login Login) error {
	login.dial = e.Dial
	switch login.Engine {
	case "mysql":
		return createMySQL(ctx, login)
	case "sqlite":
		return createSQLite(ctx, login)
	}
	return fmt.Errorf("no engine is called %q here (known: mysql, sqlite)", login.Engine)
}

func quoteAll(names []string, quote func(string) string) string {
	quoted := make([]string, len(names))
	for i, name := range names {
		quoted[i] = quote(name)
	}
	return strings.Join(quoted, ", ")
}
