// Package snapshot keeps a site's files and tables as they stood at one moment,
// in a store that is a folder of files and nothing else, and gives them back
// proved.
package snapshot

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/progress"
	"wetland/core/site"
	"wetland/core/site/cms"
)

// Store holds the snapshots of one site.
type Store struct {
	bytes Bytes
	index map[string]location // every piece of every readable volume
	// damaged holds the volumes whose directory could not be read, with the reason.
	damaged map[string]error
}

// manifestReader has no bound on size but the memory: manifests of large sites
// are large, and proved by their hash before they are unpacked.
var manifestReader, _ = zstd.NewReader(nil)

// markerName tells a store from any other folder.
const (
	markerName = "wetland-store"
	markerText = "This folder is a store of snapshots. Format 1.\n"
)

// Open opens the store in dir, or makes a new one there if dir is missing or
// empty. Any other folder is refused.
func Open(dir string) (*Store, error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("open the store: %w", err)
	}
	marker := filepath.Join(dir, markerName)
	text, err := os.ReadFile(marker)
	switch {
	case errors.Is(err, fs.ErrNotExist) && len(entries) > 0:
		return nil, fmt.Errorf("%s is not empty and no store of Wetland (it has no file %s). Choose another folder", dir, markerName)
	case errors.Is(err, fs.ErrNotExist):
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, fmt.Errorf("make the store: %w", err)
		}
		if err := os.WriteFile(marker, []byte(markerText), 0o600); err != nil {
			return nil, fmt.Errorf("make the store: %w", err)
		}
	case err != nil:
		return nil, fmt.Errorf("open the store: %w", err)
	case string(text) != markerText:
		return nil, fmt.Errorf("the store %s has another format than this version of Wetland reads. Use a newer Wetland", dir)
	}
	return openBytes(diskBytes{dir})
}

func openBytes(bytes Bytes) (*Store, error) {
	s := &Store{bytes: bytes, index: map[string]location{}, damaged: map[string]error{}}
	volumes, err := bytes.List(volumeFolder)
	if err != nil {
		return nil, fmt.Errorf("list the volumes of the store: %w", err)
	}
	for _, name := range volumes {
		pieces, err := readDirectory(bytes, name)
		if err != nil {
			s.damaged[name] = err
			continue
		}
		for _, piece := range pieces {
			s.index[piece.Hash] = piece
		}
	}
	return s, nil
}

// Names lists the snapshots, oldest first.
func (s *Store) Names() ([]string, error) {
	listed, err := s.bytes.List(manifestFolder)
	var names []string
	for _, name := range listed {
		if base, ok := strings.CutSuffix(path.Base(name), ".manifest"); ok && number(base) > 0 {
			names = append(names, base)
		}
	}
	slices.SortFunc(names, func(a, b string) int { return number(a) - number(b) })
	return names, err
}

func number(name string) int {
	n, err := strconv.Atoi(strings.TrimPrefix(name, "snap-"))
	if err != nil {
		return 0
	}
	return n
}

// ErrNoSnapshot says that the store has no snapshot of this name.
var ErrNoSnapshot = errors.New("the store has no such snapshot")

// Load returns the snapshot's manifest. It wraps ErrNoSnapshot if there is none.
func (s *Store) Load(name string) (*Manifest, error) {
	m, err := readManifest(s.bytes, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", name, ErrNoSnapshot)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return m, nil
}

// Subject is what a snapshot is taken of.
type Subject struct {
	Site       *site.Site
	Database   database.Database
	Components []cms.Component
	Run        string // the run it is taken for; empty by hand
	Reason     string
}

// Take makes a snapshot, proves it by reading back all that was written, and only
// then lets it count. On an error the earlier snapshots are as they were.
func (s *Store) Take(ctx context.Context, of Subject, report progress.Reporter) (*Manifest, error) {
	names, err := s.Names()
	if err != nil {
		return nil, err
	}
	last := 0
	if len(names) > 0 {
		last = number(names[len(names)-1])
	}
	start := time.Now()
	m := &Manifest{
		Format: manifestFormat, Name: "snap-" + strconv.Itoa(last+1), Site: of.Site.Workspace.Config.Site.Name,
		Root: of.Site.Root, Address: of.Site.Address.String(), System: of.Site.CMS.System(), Run: of.Run, Reason: of.Reason,
		Components: of.Components,
	}
	volume, err := newVolume(s.bytes, fmt.Sprintf("%sv%06d-%d.wet", volumeFolder, last+1, start.UnixNano()), s.index)
	if err != nil {
		return nil, fmt.Errorf("begin a volume in the store: %w", err)
	}
	if err := s.fill(ctx, m, of, volume, report); err != nil {
		s.forget(volume)
		return nil, errors.Join(err, volume.to.Abort())
	}
	if err := volume.finish(); err != nil {
		s.forget(volume)
		return nil, fmt.Errorf("write the volume: %w", err)
	}
	if err := s.prove(ctx, m, report); err != nil {
		return nil, fmt.Errorf("prove what was written: %w", err)
	}
	m.Took = time.Since(start)
	return m, s.writeManifest(m)
}

// forget drops what a volume that was not finished put into the index.
func (s *Store) forget(volume *volumeWriter) {
	for _, piece := range volume.added {
		delete(s.index, piece.Hash)
	}
}

func (s *Store) writeManifest(m *Manifest) error {
	data, err := encodeManifest(m)
	if err != nil {
		return err
	}
	to, err := s.bytes.Put(manifestName(m.Name))
	if err != nil {
		return fmt.Errorf("write the manifest: %w", err)
	}
	if _, err := to.Write(data); err != nil {
		return errors.Join(fmt.Errorf("write the manifest: %w", err), to.Abort())
	}
	return to.Commit()
}

// fill stores the tables first and the files right after them: files change
// seldom while a site runs.
func (s *Store) fill(ctx context.Context, m *Manifest, of Subject, volume *volumeWriter, report progress.Reporter) error {
	var err error
	if m.Engine, err = of.Database.Engine(ctx); err != nil {
		return fmt.Errorf("ask the database for its version: %w", err)
	}
	moment, err := of.Database.Read(ctx)
	if err != nil {
		return fmt.Errorf("read the database: %w", err)
	}
	m.DatabaseAt = time.Now()
	m.Weaker = moment.Weaker()
	err = s.storeTables(ctx, m, moment, volume, report)
	if err := errors.Join(err, moment.Close()); err != nil {
		return err
	}
	m.FilesAt = time.Now()
	for _, area := range of.Site.Areas() {
		if err := s.storeArea(ctx, m, area, of.Site.Place, volume, report); err != nil {
			return err
		}
	}
	return nil
}

// rowsPiece is the size, in bytes, at which the rows of a table are cut into pieces.
const rowsPiece = 1 << 20

func (s *Store) storeTables(ctx context.Context, m *Manifest, moment database.Moment, volume *volumeWriter, report progress.Reporter) error {
	pieces := map[string][]string{}
	var buffer []byte
	current := ""
	flush := func() error {
		if len(buffer) == 0 {
			return nil
		}
		hash, err := volume.add(buffer)
		pieces[current] = append(pieces[current], hash)
		report.Advance(int64(len(buffer)))
		buffer = buffer[:0]
		return err
	}
	tables, err := database.Survey(ctx, moment, func(table database.Table, row database.Row) error {
		if table.Name != current || len(buffer) >= rowsPiece {
			if err := flush(); err != nil {
				return err
			}
			current = table.Name
		}
		buffer = database.AppendRow(buffer, row)
		return nil
	})
	if err := errors.Join(err, flush()); err != nil {
		return fmt.Errorf("store the tables: %w", err)
	}
	for _, table := range tables {
		m.Tables = append(m.Tables, Table{Table: table, Pieces: pieces[table.Name]})
	}
	return nil
}

func (s *Store) storeArea(ctx context.Context, m *Manifest, from cms.Area, place files.Place, volume *volumeWriter, report progress.Reporter) error {
	area := Area{Name: from.Name, Path: from.Path, Only: from.Only, LeaveOut: from.LeaveOut}
	err := files.Walk(ctx, place, from.Path, site.LeavesOut(from), func(at string, entry files.Entry) error {
		if entry.Kind == files.Other {
			m.Skipped = append(m.Skipped, path.Join(from.Path, at))
			return nil
		}
		item := Item{Item: files.Item{
			Path: at, Kind: entry.Kind, Mode: entry.Mode, Owner: entry.Owner, Group: entry.Group,
			Modified: entry.Modified, Target: entry.Target,
		}}
		if entry.Kind == files.File {
			if err := storeFile(place, path.Join(from.Path, at), &item, volume, report); err != nil {
				return fmt.Errorf("store %s: %w", path.Join(from.Path, at), err)
			}
		}
		area.Items = append(area.Items, item)
		return nil
	})
	if err != nil {
		return err
	}
	slices.SortFunc(area.Items, func(a, b Item) int { return files.ComparePaths(a.Path, b.Path) })
	m.Areas = append(m.Areas, area)
	return nil
}

// takes is how often a file that changes while it is read is read again.
const takes = 5

func storeFile(place files.Place, name string, item *Item, volume *volumeWriter, report progress.Reporter) error {
	for range takes {
		before, err := place.Lstat(name)
		if err != nil {
			return err
		}
		if err := storeBytes(place, name, item, volume, report); err != nil {
			return err
		}
		after, err := place.Lstat(name)
		if err != nil {
			return err
		}
		if after.Modified.Equal(before.Modified) && after.Size == before.Size && item.Size == after.Size {
			item.Modified = after.Modified
			return nil
		}
	}
	return fmt.Errorf("it changed each of the %d times it was read. If it is a log or a cache, leave it out: [files] leave_out in %s", takes, site.ConfigName)
}

func storeBytes(place files.Place, name string, item *Item, volume *volumeWriter, report progress.Reporter) error {
	file, err := place.Open(name, 0)
	if err != nil {
		return err
	}
	defer file.Close()
	item.Pieces, item.Size = nil, 0
	if volume.buffer == nil {
		volume.buffer = make([]byte, pieceSize)
	}
	buffer := volume.buffer
	whole, pipe := hashPipe()
	for {
		n, err := io.ReadFull(file, buffer)
		if n > 0 {
			_, _ = pipe.Write(buffer[:n]) // a hash does not fail
			hash, err := volume.add(buffer[:n])
			if err != nil {
				return err
			}
			item.Pieces = append(item.Pieces, hash)
			item.Size += int64(n)
			report.Advance(int64(n))
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			item.Hash = whole()
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// OpenFile returns the proved bytes of a file in the snapshot.
func (s *Store) OpenFile(item Item) io.ReadCloser {
	return io.NopCloser(&pieceReader{store: s, left: item.Pieces})
}

// Source opens the files of a part of the snapshot by their path in tree.
func (s *Store) Source(items []Item) files.Source {
	byPath := make(map[string]Item, len(items))
	for _, item := range items {
		byPath[item.Path] = item
	}
	return func(item files.Item) (io.ReadCloser, error) {
		found, ok := byPath[item.Path]
		if !ok {
			return nil, fmt.Errorf("%s is not in the snapshot", item.Path)
		}
		return s.OpenFile(found), nil
	}
}

// Rows returns the rows of a table in the snapshot.
func (s *Store) Rows(table Table) database.Rows {
	return func(ctx context.Context, each func(database.Row) error) error {
		from := bufio.NewReaderSize(&pieceReader{store: s, left: table.Pieces}, 1<<20)
		for {
			if err := ctx.Err(); err != nil {
				return err
			}
			row, err := database.ReadRow(from)
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return fmt.Errorf("read the rows of %s: %w", table.Name, err)
			}
			if err := each(row); err != nil {
				return err
			}
		}
	}
}

// pieceReader reads pieces one after the other.
type pieceReader struct {
	store *Store
	left  []string
	now   []byte
}

func (r *pieceReader) Read(p []byte) (int, error) {
	for len(r.now) == 0 {
		if len(r.left) == 0 {
			return 0, io.EOF
		}
		var err error
		if r.now, err = r.store.piece(r.left[0]); err != nil {
			return 0, err
		}
		r.left = r.left[1:]
	}
	n := copy(p, r.now)
	r.now = r.now[n:]
	return n, nil
}

func (s *Store) piece(hash string) ([]byte, error) {
	piece, ok := s.index[hash]
	if ok {
		return readPiece(s.bytes, piece)
	}
	for name, err := range s.damaged {
		return nil, fmt.Errorf("a piece is missing, and the volume %s cannot be read: %w", path.Base(name), err)
	}
	return nil, errors.New("a piece is missing: a volume of the store is gone")
}
