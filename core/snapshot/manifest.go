package snapshot

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/packs"
	"wetland/core/site/cms"
)

// manifestFormat is the form of manifests that this version writes, and the
// newest it reads.
const manifestFormat = 2

// manifestHead begins a manifest, followed by the hash of the rest and a newline.
const manifestHead = "wetland snapshot "

// Manifest describes one snapshot whole.
type Manifest struct {
	Format int    `json:"format"`
	Name   string `json:"name"` // snap-3
	// Store is the name of the store that it was made in; "" of those of older versions.
	Store   string `json:"store,omitempty"`
	Site    string `json:"site"`
	Root    string `json:"root"`
	Address string `json:"address"`
	System  string `json:"system"` // the CMS and its version
	Run     string `json:"run,omitempty"`
	Reason  string `json:"reason,omitempty"`
	// Settles names the snapshot from before the update after which this one was taken.
	Settles    string        `json:"settles,omitempty"`
	FilesAt    time.Time     `json:"files_at"`
	ClockAhead time.Duration `json:"clock_ahead,omitempty"` // of the site's machine, in nanoseconds, where it is off
	// WholeAt is when every file was read last, or proved to be unchanged since; zero in those of older versions.
	WholeAt    time.Time       `json:"whole_at,omitzero"`
	DatabaseAt time.Time       `json:"database_at"`
	Took       time.Duration   `json:"took_ns"`
	Layout     cms.Layout      `json:"layout"` // for a site whose files cannot tell it any more
	Areas      []Area          `json:"areas"`
	Components []cms.Component `json:"components"`
	Engine     string          `json:"engine"`
	SQL        string          `json:"sql,omitempty"` // whose statements the tables are described in: "sqlite" or "mysql"
	Tables     []Table         `json:"tables"`
	Weaker     []string        `json:"weaker,omitempty"`  // what this snapshot does not promise
	Skipped    []string        `json:"skipped,omitempty"` // sockets, devices and pipes
	// Unread lists what could not be read, with the reason: then the snapshot is not
	// whole, and only serves to undo a restore.
	Unread []string `json:"unread,omitempty"`
}

// Area is one part of the file system in a snapshot.
type Area struct {
	Name     string     `json:"name"`
	Path     string     `json:"path"`
	Only     string     `json:"only,omitempty"`
	LeaveOut []string   `json:"leave_out,omitempty"`
	Files    int        `json:"files"`
	Bytes    int64      `json:"bytes"`
	Lists    []packs.ID `json:"lists"` // the pieces that list the items, in their order
	Items    []Item     `json:"-"`
}

// Tree returns the area's items without their pieces.
func (a Area) Tree() files.Tree {
	tree := make(files.Tree, len(a.Items))
	for i, item := range a.Items {
		tree[i] = item.Item
	}
	return tree
}

// Table is one table with the pieces that its rows are made of.
type Table struct {
	database.Table
	// Lists are the pieces that list the pieces of the rows: 32 bytes for each.
	Lists []packs.ID `json:"lists,omitempty"`
}

// Described returns the tables without their pieces.
func (m *Manifest) Described() []database.Table {
	tables := make([]database.Table, len(m.Tables))
	for i, table := range m.Tables {
		tables[i] = table.Table
	}
	return tables
}

// Dialect is the engine of the tables as a database.Login names it: "mysql" or "sqlite".
func (m *Manifest) Dialect() string {
	if m.SQL == "" && strings.HasPrefix(m.Engine, "SQLite") { // an earlier version took it
		return "sqlite"
	}
	return cmp.Or(m.SQL, "mysql")
}

// Totals returns how many files and bytes, tables and rows the snapshot holds.
func (m *Manifest) Totals() (count int, size int64, tables int, rows int64) {
	for _, area := range m.Areas {
		count, size = count+area.Files, size+area.Bytes
	}
	for _, table := range m.Tables {
		tables, rows = tables+1, rows+table.Rows
	}
	return count, size, tables, rows
}

// WithoutRows returns the snapshot with some tables empty. A name that is none of a table with rows is in unknown.
func (m *Manifest) WithoutRows(names []string) (short *Manifest, unknown []string) {
	copied := *m
	short, copied.Tables = &copied, slices.Clone(m.Tables)
	for _, name := range names {
		i := slices.IndexFunc(short.Tables, func(t Table) bool { return t.Name == name && t.Kind == database.BaseTable })
		if i < 0 {
			unknown = append(unknown, name)
			continue
		}
		short.Tables[i].Rows, short.Tables[i].Digest, short.Tables[i].Lists = 0, new(database.Digest).String(), nil
	}
	return short, unknown
}

func manifestName(name string) string { return packs.ManifestFolder + name + packs.ManifestSuffix }

func encodeManifest(s *packs.Store, m *Manifest) ([]byte, error) {
	text, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	stored := s.Seal.Close(packs.Packer.EncodeAll(text, nil))
	sum := blake3.Sum256(stored)
	return append([]byte(manifestHead+packs.ID(sum).String()+"\n"), stored...), nil
}

func decodeManifest(s *packs.Store, data []byte) (*Manifest, error) {
	head, stored, ok := bytes.Cut(data, []byte("\n"))
	hash, isManifest := strings.CutPrefix(string(head), manifestHead)
	if !ok || !isManifest {
		return nil, errors.New("it is not a snapshot's manifest")
	}
	if packs.ID(blake3.Sum256(stored)).String() != hash {
		return nil, errors.New("the manifest is damaged: its bytes are not those that were written")
	}
	packed, err := s.Seal.Open(stored)
	if err != nil {
		return nil, err
	}
	text, err := packs.UnpackList(packed)
	if err != nil {
		return nil, err
	}
	var m Manifest
	if err := json.Unmarshal(text, &m); err != nil {
		return nil, fmt.Errorf("the manifest is damaged: %w", err)
	}
	if m.Format > manifestFormat {
		return nil, fmt.Errorf("it was written by a newer Wetland (format %d, this one reads up to %d). Use the newer one", m.Format, manifestFormat)
	}
	return &m, m.check()
}

func readManifest(ctx context.Context, s *packs.Store, name string) (*Manifest, error) {
	r, err := s.Bytes.Get(ctx, manifestName(name), 0, -1)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	m, err := decodeManifest(s, data)
	if err == nil && m.Name != name {
		err = fmt.Errorf("the manifest is that of %s", m.Name)
	}
	return m, err
}

// AreaOf finds the area that the absolute path is in, and the path below it.
func (m *Manifest) AreaOf(at string) (area Area, below string, err error) {
	best := -1
	for i, area := range m.Areas {
		if area.Only == "" && strings.HasPrefix(at, area.Path+"/") && (best < 0 || len(area.Path) > len(m.Areas[best].Path)) {
			best = i
		}
	}
	if best < 0 {
		return Area{}, "", fmt.Errorf("%s is in no part of the site that %s holds", at, m.Name)
	}
	area = m.Areas[best]
	return area, strings.TrimPrefix(at, area.Path+"/"), nil
}

// TreeAt returns what the snapshot holds at the absolute path: an error if that is nothing.
func (m *Manifest) TreeAt(at string) (files.Tree, error) {
	area, below, err := m.AreaOf(at)
	if err != nil {
		return nil, err
	}
	tree := area.Tree().Below(below)
	if len(tree) == 0 {
		return nil, fmt.Errorf("%s is not in %s", at, m.Name)
	}
	return tree, nil
}

// ItemsBelow returns the items in a folder, with their paths below it.
func (a Area) ItemsBelow(folder string) []Item {
	var part []Item
	for _, item := range a.Items {
		if rel, ok := strings.CutPrefix(item.Path, folder+"/"); ok {
			item.Path = rel
			part = append(part, item)
		}
	}
	return part
}

// ErrNoSnapshot says that the store has no snapshot of this name.
var ErrNoSnapshot = errors.New("the store has no such snapshot")

// Describe returns the snapshot's manifest without its items. It wraps ErrNoSnapshot
// if there is none.
func Describe(ctx context.Context, s *packs.Store, name string) (*Manifest, error) {
	m, err := readManifest(ctx, s, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", name, ErrNoSnapshot)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return m, nil
}

// Load returns the snapshot's manifest whole. It wraps ErrNoSnapshot if there is none.
func Load(ctx context.Context, s *packs.Store, name string) (*Manifest, error) {
	m, err := Describe(ctx, s, name)
	if err != nil {
		return nil, err
	}
	for i := range m.Areas {
		if err := loadItems(ctx, s, &m.Areas[i]); err != nil {
			return nil, fmt.Errorf("%s: the list of the files: %w", name, err)
		}
	}
	return m, nil
}
