// Package snapshot takes snapshots of sites into a store, reads them, proves them, and decides which of
// them are past their time. Begin reading at Take and Manifest. What holds their bytes is package packs.
//
// It promises that a snapshot is whole or not there, and that one which was verified can be restored.
package snapshot

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/packs"
	"wetland/core/progress"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/workspace"
)

// Subject is what a snapshot is taken of.
type Subject struct {
	Site       *site.Site
	Database   database.Database // nil: it cannot be reached, for the reason in NoDatabase
	Components []cms.Component
	Run        string // the run it is taken for; empty by hand
	Reason     string
	Settles    string // the snapshot from before the update that has settled
	// Salvage takes what can be read, and lists the rest in the manifest's Unread,
	// instead of failing.
	Salvage bool
	// NoDatabase says why there is no Database where the site has one. Without Salvage, nobody expects its tables,
	// and that they are not there is told in the manifest's Weaker.
	NoDatabase error
	// Brought are trees that were brought to the site just now.
	Brought []Brought
	// Replaced are folders and files that are about to be replaced: where a disk does not tell of every change,
	// they are read, as unchanged as they may look. See mustRead.
	Replaced []string
}

// Take makes a snapshot, proves it by reading back all that was written, and only
// then lets it count. On an error the earlier snapshots are as they were.
func Take(ctx context.Context, s *packs.Store, of Subject, report progress.Reporter) (m *Manifest, err error) {
	t := &taking{Subject: of, report: report, to: s.NewAdder(ctx, report), before: Newest(ctx, s)}
	start := time.Now()
	t.m = &Manifest{
		Format: manifestFormat, Store: s.Name(), Site: of.Site.Workspace.Config.Site.Name,
		Root: of.Site.Place(), Address: of.Site.Address.String(), System: of.Site.CMS.System(), Run: of.Run, Reason: of.Reason, Settles: of.Settles,
		Components: of.Components, Layout: of.Site.CMS.Layout(),
	}
	if err := t.fill(ctx); err != nil {
		return nil, errors.Join(err, t.to.Abandon())
	}
	if err := t.to.Finish(); err != nil {
		return nil, errors.Join(err, t.to.Abandon())
	}
	if err := s.Present(ctx); err != nil {
		return nil, errors.Join(err, t.to.Abandon())
	}
	t.m.Took = time.Since(start)
	return t.m, writeManifest(ctx, s, t.m)
}

// Newest returns the newest snapshot that can be read, or nil.
func Newest(ctx context.Context, s *packs.Store) *Manifest {
	names, err := s.Names(ctx)
	if err != nil {
		return nil
	}
	for _, name := range slices.Backward(names) {
		if m, err := Load(ctx, s, name); err == nil {
			return m
		}
	}
	return nil
}

// writeManifest gives the snapshot the next free number and makes it count.
func writeManifest(ctx context.Context, s *packs.Store, m *Manifest) error {
	for {
		names, err := s.Names(ctx)
		if err != nil {
			return err
		}
		last := 0
		if len(names) > 0 {
			last = packs.Number(names[len(names)-1])
		}
		m.Name = cmp.Or(s.Begin, packs.OfSite) + strconv.Itoa(last+1)
		data, err := encodeManifest(s, m)
		if err != nil {
			return err
		}
		err = packs.PutWhole(ctx, s.Bytes, manifestName(m.Name), data)
		if !errors.Is(err, fs.ErrExist) { // else another process was faster
			return err
		}
	}
}

// taking is one snapshot that is being taken.
type taking struct {
	Subject
	report progress.Reporter
	to     *packs.Adder
	m      *Manifest
	before *Manifest  // the newest snapshot, to tell what is as it was; nil: there is none
	lock   sync.Mutex // for Unread
	// blind says that files were taken to be unchanged of which the disk does not tell every change.
	blind bool
}

// fill stores the tables and the files of the same moment. Neither waits for the other: a line to the
// site is never idle.
func (t *taking) fill(ctx context.Context) error {
	group, inner := errgroup.WithContext(ctx)
	group.Go(func() error { return t.storeTables(inner) })
	group.Go(func() error { return t.storeFiles(inner) })
	if err := group.Wait(); err != nil {
		return err
	}
	t.noteBlindness()
	return t.storeLists()
}

// storeTables stores the database; what a salvage cannot have of it is noted.
func (t *taking) storeTables(ctx context.Context) error {
	err := t.storeDatabase(ctx)
	if err == nil || !t.Salvage || ctx.Err() != nil || t.to.Err != nil {
		return err
	}
	t.m.Tables = nil
	t.unread(fmt.Sprintf("the database: %v", err))
	return nil
}

// unread notes what a salvage could not have.
func (t *taking) unread(what string) {
	t.lock.Lock()
	defer t.lock.Unlock()
	t.m.Unread = append(t.m.Unread, what)
}

// storeFiles stores all areas.
func (t *taking) storeFiles(ctx context.Context) error {
	t.m.FilesAt = time.Now()
	if ahead := t.Site.Host.Now().Sub(t.m.FilesAt); ahead.Abs() > time.Second {
		t.m.ClockAhead = ahead
	}
	for _, area := range t.Site.Areas() {
		if err := t.storeArea(ctx, area); err != nil {
			return err
		}
	}
	return nil
}

// storeLists stores the lists of the items; they lie together, for whoever wants to
// know what is in the snapshot.
func (t *taking) storeLists() error {
	if err := t.to.Flush(); err != nil {
		return err
	}
	for i := range t.m.Areas {
		var err error
		if t.m.Areas[i].Lists, err = storeItems(t.to, t.m.Areas[i].Items); err != nil {
			return err
		}
	}
	return nil
}

func (t *taking) storeDatabase(ctx context.Context) error {
	if t.Database == nil {
		if t.Salvage || t.NoDatabase == nil {
			return t.NoDatabase
		}
		t.m.Weaker = append(t.m.Weaker, fmt.Sprintf("its tables are not in it (%v)", t.NoDatabase))
		return nil
	}
	var err error
	if t.m.Engine, err = t.Database.Engine(ctx); err != nil {
		return fmt.Errorf("ask the database for its version: %w", err)
	}
	t.m.SQL = t.Database.Dialect()
	moment, err := t.Database.Read(ctx)
	if err != nil {
		return fmt.Errorf("read the database: %w", err)
	}
	t.m.DatabaseAt = time.Now()
	t.m.Weaker = moment.Weaker()
	rows := newRowStore(ctx, t.to, t.report)
	tables, err := database.Survey(rows.ctx, moment, rows.add)
	if err := errors.Join(err, rows.finish(), moment.Close()); err != nil {
		return fmt.Errorf("store the tables: %w", err)
	}
	for _, table := range tables {
		lists, err := rows.lists(table.Name)
		if err != nil {
			return fmt.Errorf("store the tables: %w", err)
		}
		t.m.Tables = append(t.m.Tables, Table{Table: table, Lists: lists})
	}
	return nil
}

// storeArea stores a part of the file system.
func (t *taking) storeArea(ctx context.Context, from cms.Area) error {
	area := Area{Name: from.Name, Path: from.Path, Only: from.Only, LeaveOut: from.LeaveOut}
	known := t.known(from)
	var fresh []int // the items to be read
	visit := func(at string, entry files.Entry) error {
		if entry.Kind == files.Other {
			t.m.Skipped = append(t.m.Skipped, path.Join(from.Path, at))
			return nil
		}
		item := Item{Changed: entry.Changed, Item: files.Item{
			Path: at, Kind: entry.Kind, Mode: entry.Mode, Owner: entry.Owner, Group: entry.Group,
			Modified: entry.Modified, Size: entry.Size, Target: entry.Target,
		}}
		if entry.Kind == files.File {
			if old, ok := known(at); ok && t.unchanged(old, item) && !t.mustRead(path.Join(from.Path, at), item) {
				t.blind = t.blind || item.Changed.IsZero()
				item.Hash, item.Pieces = old.Hash, old.Pieces
			} else {
				fresh = append(fresh, len(area.Items))
			}
		}
		area.Items = append(area.Items, item)
		return nil
	}
	err := files.WalkPast(ctx, t.Site.Files, from.Path, site.ScopeOf(from), visit, t.pass)
	if t.Salvage && len(area.Items) == 0 && errors.Is(err, fs.ErrNotExist) {
		t.unread(fmt.Sprintf("%s: it is not there", from.Path))
		err = nil
	}
	if err != nil {
		return err
	}
	if fresh, err = t.recognise(ctx, from.Path, area.Items, fresh, known); err != nil {
		return err
	}
	if err := t.readFiles(ctx, from.Path, area.Items, fresh); err != nil {
		return err
	}
	area.Items = slices.DeleteFunc(area.Items, func(item Item) bool { return item.Kind == "" })
	slices.SortFunc(area.Items, func(a, b Item) int { return files.ComparePaths(a.Path, b.Path) })
	area.Files, area.Bytes = area.Tree().Total()
	t.m.Areas = append(t.m.Areas, area)
	return nil
}

// pass decides about a folder that cannot be listed.
func (t *taking) pass(name string, err error) error {
	if !t.Salvage {
		return err
	}
	t.unread(fmt.Sprintf("%s: %v", name, err))
	return nil
}

// known returns what finds the area's files in the newest snapshot.
func (t *taking) known(area cms.Area) func(path string) (Item, bool) {
	if t.before != nil {
		for _, old := range t.before.Areas {
			if old.Name == area.Name && old.Path == area.Path {
				return byPath(old.Items)
			}
		}
	}
	return byPath(nil)
}

// byPath returns what finds items by their path. Sites have very many of them: it holds
// nothing but their places.
func byPath(items []Item) func(path string) (Item, bool) {
	places := make(map[string]int32, len(items))
	for i := range items {
		places[items[i].Path] = int32(i)
	}
	return func(path string) (Item, bool) {
		at, ok := places[path]
		if !ok {
			return Item{}, false
		}
		return items[at], true
	}
}

// grain is how long after a change another one may leave the same time: two seconds
// on FAT, the coarsest there is.
const grain = 2 * time.Second

// unchanged tells without reading whether a file is as in the newest snapshot, whose
// pieces must all be there.
func (t *taking) unchanged(old, now Item) bool {
	if !old.unchanged(t.before.readAt(), now.Size, now.Modified, now.Changed) {
		return false
	}
	return t.hasAll(old.Pieces)
}

// unchanged tells without reading whether a file is as it was when it was read after
// the moment taken: same length, same time of modification and of change, and those
// well before that moment. A person can set the first time back, but not the second
// one. Where the disk keeps no time of change, the first one must do.
func (i Item) unchanged(taken time.Time, size int64, modified, changed time.Time) bool {
	last := i.Modified
	if i.Changed.After(last) {
		last = i.Changed
	}
	return i.Kind == files.File && i.Size == size && i.Modified.Equal(modified) && i.Changed.Equal(changed) && last.Add(grain).Before(taken)
}

// mustRead tells of a file that is read though it seems to be unchanged. Where a disk keeps no time of change, by
// SFTP or on FAT, whoever sets a file's time of modification back leaves no trace: what is about to be replaced is
// read, and once in a while everything is.
func (t *taking) mustRead(name string, item Item) bool {
	if !item.Changed.IsZero() {
		return false
	}
	most := time.Duration(t.Site.Workspace.Config.Files.ReadAnewAfterDays()) * 24 * time.Hour
	return t.m.FilesAt.Sub(t.before.WholeAt).Abs() >= most || // a clock may have been wrong
		slices.ContainsFunc(t.Replaced, func(place string) bool { return files.Within(name, place) })
}

// noteBlindness notes since when files may have changed without a trace.
func (t *taking) noteBlindness() {
	t.m.WholeAt = t.m.FilesAt
	if t.blind {
		t.m.WholeAt = t.before.WholeAt
		t.m.Weaker = append(t.m.Weaker, fmt.Sprintf("files that are as before by size and time of modification were not read, for their disk keeps no time of change; the last snapshot that read them all is of %s", t.m.WholeAt.Local().Format("2 January 2006")))
	}
}

// readAt is when the files were read, by the clock that gave them their times.
func (m *Manifest) readAt() time.Time { return m.FilesAt.Add(m.ClockAhead) }

// KnownHashes returns what tells the hashes of the files of an area that are as they
// were in this snapshot, for files.ReadTreeKnowing.
func (m *Manifest) KnownHashes(area string) func(path string, entry files.Entry) string {
	known := byPath(nil)
	for _, one := range m.Areas {
		if one.Name == area {
			known = byPath(one.Items)
		}
	}
	return func(at string, entry files.Entry) string {
		item, ok := known(at)
		if entry.Kind != files.File || !ok || !item.unchanged(m.readAt(), entry.Size, entry.Modified, entry.Changed) {
			return ""
		}
		return item.Hash
	}
}

// waitingReaders are how many files are read beside those that keep a processor busy: one
// reader waits for its disk or for another one that writes.
const waitingReaders = 2

// readFiles reads the items with these numbers. A file that vanished meanwhile, or that may be
// passed over, loses its kind.
func (t *taking) readFiles(ctx context.Context, top string, items []Item, fresh []int) error {
	problems := make([]string, len(items))
	judge := func(i int, err error) error {
		at := path.Join(top, items[i].Path)
		switch {
		case err == nil:
		case errors.Is(err, fs.ErrNotExist):
			items[i].Kind = ""
		case t.Salvage && t.to.Err == nil && ctx.Err() == nil:
			items[i].Kind, problems[i] = "", fmt.Sprintf("%s: %v", at, err)
		default:
			return fmt.Errorf("store %s: %w", at, err)
		}
		return nil
	}
	err := t.readTogether(ctx, top, items, fresh, judge)
	if errors.Is(err, errors.ErrUnsupported) {
		err = t.readSeveral(ctx, top, items, fresh, judge)
	}
	for _, problem := range problems {
		if problem != "" {
			t.unread(problem)
		}
	}
	return err
}

// readTogether reads files in one stream, where trees can be read so.
func (t *taking) readTogether(ctx context.Context, top string, items []Item, fresh []int, judge func(i int, err error) error) error {
	if len(fresh) == 0 {
		return nil
	}
	names := make([]string, len(fresh))
	for n, i := range fresh {
		names[n] = items[i].Path
	}
	buffer := make([]byte, packs.PieceSize)
	return t.Site.Files.ReadFiles(ctx, top, names, func(n int, file *files.Reading, err error) error {
		i := fresh[n]
		if err == nil {
			var same bool
			if same, err = t.readOnce(file, &items[i], buffer); err == nil && !same {
				err = t.readFile(ctx, path.Join(top, items[i].Path), &items[i], buffer)
			}
		}
		return judge(i, err)
	})
}

// readSeveral reads files by themselves, several at once.
func (t *taking) readSeveral(ctx context.Context, top string, items []Item, fresh []int, judge func(i int, err error) error) error {
	group, ctx := errgroup.WithContext(ctx)
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) + waitingReaders {
		group.Go(func() error {
			buffer := make([]byte, packs.PieceSize)
			for i := range next {
				if err := judge(i, t.readFile(ctx, path.Join(top, items[i].Path), &items[i], buffer)); err != nil {
					return err
				}
			}
			return nil
		})
	}
	group.Go(func() error {
		defer close(next)
		for _, i := range fresh {
			select {
			case next <- i:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	return group.Wait()
}

// takes is how often a file that changes while it is read is read again.
const takes = 5

// readFile reads a file until it was as it was before when it was read.
func (t *taking) readFile(ctx context.Context, name string, item *Item, buffer []byte) error {
	for range takes {
		before, err := t.Site.Files.Lstat(ctx, name)
		if err != nil {
			return err
		}
		if before.Kind != files.File {
			return fmt.Errorf("it became a %s meanwhile: %w", before.Kind, fs.ErrNotExist)
		}
		file, err := t.Site.Files.Open(ctx, name, 0)
		if err != nil {
			return err
		}
		same, err := t.readOnce(&files.Reading{Reader: file, Before: before, After: func() (files.Entry, error) { return t.Site.Files.Lstat(ctx, name) }}, item, buffer)
		if err := errors.Join(err, file.Close()); err != nil || same {
			return err
		}
	}
	return fmt.Errorf("it changed each of the %d times it was read. If it is a log or a cache, leave it out: [files] exclude in %s", takes, workspace.ConfigName)
}

// readOnce stores a file's bytes, and tells whether it stayed the same meanwhile.
func (t *taking) readOnce(file *files.Reading, item *Item, buffer []byte) (same bool, err error) {
	if file.Before.Kind != files.File {
		return false, fmt.Errorf("it became a %s meanwhile: %w", file.Before.Kind, fs.ErrNotExist)
	}
	if err := t.readBytes(file, item, buffer); err != nil {
		return false, err
	}
	after, err := file.After()
	if err != nil {
		return false, err
	}
	if !after.Modified.Equal(file.Before.Modified) || after.Size != file.Before.Size || item.Size != after.Size {
		return false, nil
	}
	item.Modified, item.Changed, item.Mode, item.Owner, item.Group = after.Modified, after.Changed, after.Mode, after.Owner, after.Group
	return true, nil
}

func (t *taking) readBytes(file io.Reader, item *Item, buffer []byte) error {
	item.Pieces, item.Size = nil, 0
	hasher := packs.NewWholeHash(t.to.Store.Seal)
	for {
		n, err := io.ReadFull(file, buffer)
		if n > 0 {
			id, err := t.to.Add(buffer[:n], packs.HardToPack(buffer[:n]))
			if err != nil {
				return err
			}
			hasher.Add(buffer[:n], id)
			item.Pieces = append(item.Pieces, id)
			item.Size += int64(n)
			t.report.Advance(int64(n))
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			item.Hash = hasher.Sum()
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// Needs estimates how many bytes a snapshot taken now would add to the store, at most:
// what is new or changed, before it is packed.
func Needs(ctx context.Context, s *packs.Store, of Subject) (int64, error) {
	t := &taking{Subject: of, to: &packs.Adder{Store: s}, before: Newest(ctx, s)}
	t.Salvage, t.m = true, &Manifest{FilesAt: time.Now()}
	total := int64(0)
	for _, area := range of.Site.Areas() {
		known := t.known(area)
		err := files.WalkPast(ctx, of.Site.Files, area.Path, site.ScopeOf(area), func(at string, entry files.Entry) error {
			item := Item{Changed: entry.Changed, Item: files.Item{Size: entry.Size, Modified: entry.Modified}}
			if old, ok := known(at); entry.Kind == files.File && (!ok || !t.unchanged(old, item) || t.mustRead(path.Join(area.Path, at), item)) {
				total += entry.Size
			}
			return nil
		}, t.pass)
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return total, err
		}
	}
	return total, nil
}
