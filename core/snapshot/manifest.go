package snapshot

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/site/cms"
)

// manifestFormat is the form of manifests that this version writes, and the
// newest it reads.
const manifestFormat = 1

const manifestFolder = "snapshots/"

// manifestHead begins a manifest, followed by the hash of the rest and a newline.
const manifestHead = "wetland snapshot "

// Manifest describes one snapshot whole.
type Manifest struct {
	Format     int             `json:"format"`
	Name       string          `json:"name"` // snap-3
	Site       string          `json:"site"`
	Root       string          `json:"root"`
	Address    string          `json:"address"`
	System     string          `json:"system"` // the CMS and its version
	Run        string          `json:"run,omitempty"`
	Reason     string          `json:"reason,omitempty"`
	FilesAt    time.Time       `json:"files_at"`
	DatabaseAt time.Time       `json:"database_at"`
	Took       time.Duration   `json:"took_ns"`
	Areas      []Area          `json:"areas"`
	Components []cms.Component `json:"components"`
	Engine     string          `json:"engine"`
	Tables     []Table         `json:"tables"`
	Weaker     []string        `json:"weaker,omitempty"`  // what this snapshot does not promise
	Skipped    []string        `json:"skipped,omitempty"` // sockets, devices and pipes
}

// Area is one part of the file system in a snapshot.
type Area struct {
	Name     string   `json:"name"`
	Path     string   `json:"path"`
	Only     string   `json:"only,omitempty"`
	LeaveOut []string `json:"leave_out,omitempty"`
	Items    []Item   `json:"items"`
}

// Tree returns the area's items without their pieces.
func (a Area) Tree() files.Tree {
	tree := make(files.Tree, len(a.Items))
	for i, item := range a.Items {
		tree[i] = item.Item
	}
	return tree
}

// Item is one entry with the pieces that its bytes are made of.
type Item struct {
	files.Item
	Pieces []string
}

// jsonItem is how an item is written: texts that are not UTF-8 go in base64.
type jsonItem struct {
	Path      string     `json:"path,omitempty"`
	PathRaw   string     `json:"path_base64,omitempty"`
	Kind      files.Kind `json:"kind"`
	Mode      string     `json:"mode"` // octal
	Owner     int        `json:"owner"`
	Group     int        `json:"group"`
	Modified  time.Time  `json:"modified"`
	Size      int64      `json:"size,omitempty"`
	Hash      string     `json:"hash,omitempty"`
	Target    string     `json:"target,omitempty"`
	TargetRaw string     `json:"target_base64,omitempty"`
	Pieces    []string   `json:"pieces,omitempty"`
}

// MarshalJSON writes the item in the form that docs/store.md describes.
func (i Item) MarshalJSON() ([]byte, error) {
	out := jsonItem{
		Kind: i.Kind, Mode: strconv.FormatUint(uint64(i.Mode), 8), Owner: i.Owner, Group: i.Group,
		Modified: i.Modified.UTC(), Size: i.Size, Hash: i.Hash, Pieces: i.Pieces,
	}
	out.Path, out.PathRaw = textOrRaw(i.Path)
	out.Target, out.TargetRaw = textOrRaw(i.Target)
	return json.Marshal(out)
}

func textOrRaw(s string) (text, raw string) {
	if utf8.ValidString(s) {
		return s, ""
	}
	return "", base64.StdEncoding.EncodeToString([]byte(s))
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (i *Item) UnmarshalJSON(data []byte) error {
	var in jsonItem
	if err := json.Unmarshal(data, &in); err != nil {
		return err
	}
	mode, err := strconv.ParseUint(in.Mode, 8, 32)
	if err != nil {
		return fmt.Errorf("the mode %q", in.Mode)
	}
	at, err1 := base64.StdEncoding.DecodeString(in.PathRaw)
	target, err2 := base64.StdEncoding.DecodeString(in.TargetRaw)
	i.Item = files.Item{
		Path: in.Path + string(at), Kind: in.Kind, Mode: uint32(mode), Owner: in.Owner, Group: in.Group,
		Modified: in.Modified, Size: in.Size, Hash: in.Hash, Target: in.Target + string(target),
	}
	i.Pieces = in.Pieces
	return errors.Join(err1, err2)
}

// Table is one table with the pieces that its rows are made of.
type Table struct {
	database.Table
	Pieces []string `json:"pieces,omitempty"`
}

// Described returns the tables without their pieces.
func (m *Manifest) Described() []database.Table {
	tables := make([]database.Table, len(m.Tables))
	for i, table := range m.Tables {
		tables[i] = table.Table
	}
	return tables
}

// Totals returns how many files and bytes, tables and rows the snapshot holds.
func (m *Manifest) Totals() (count int, size int64, tables int, rows int64) {
	for _, area := range m.Areas {
		n, b := area.Tree().Total()
		count, size = count+n, size+b
	}
	for _, table := range m.Tables {
		tables, rows = tables+1, rows+table.Rows
	}
	return count, size, tables, rows
}

// pieces lists the pieces of everything in the snapshot.
func (m *Manifest) pieces() []string {
	var all []string
	for _, area := range m.Areas {
		for _, item := range area.Items {
			all = append(all, item.Pieces...)
		}
	}
	for _, table := range m.Tables {
		all = append(all, table.Pieces...)
	}
	return all
}

func manifestName(name string) string { return manifestFolder + name + ".manifest" }

func encodeManifest(m *Manifest) ([]byte, error) {
	text, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	packed := packer.EncodeAll(text, nil)
	return append([]byte(manifestHead+hashOf(packed)+"\n"), packed...), nil
}

func decodeManifest(data []byte) (*Manifest, error) {
	head, packed, ok := bytes.Cut(data, []byte("\n"))
	hash, isManifest := strings.CutPrefix(string(head), manifestHead)
	if !ok || !isManifest {
		return nil, errors.New("it is no manifest of a snapshot")
	}
	if hashOf(packed) != hash {
		return nil, errors.New("the manifest is damaged: its bytes are not those that were written")
	}
	text, err := manifestReader.DecodeAll(packed, nil)
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
	return &m, nil
}

func readManifest(from Bytes, name string) (*Manifest, error) {
	r, err := from.Get(manifestName(name), 0, -1)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	return decodeManifest(data)
}
