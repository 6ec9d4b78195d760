package database

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"math/bits"
	"os"
	"slices"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
)

// Comparing two states of a table takes a bounded amount of memory, whatever their size. In a
// first pass over both, unless most is known to differ, rows go by their key into buckets, of
// which only sums are kept; buckets of equal sums hold equal rows. In a second pass the rows of
// the others, which mostly are few, are put into parts by their key, beyond some size in a file;
// and each part is compared by itself.
const (
	buckets    = 1 << 18  // for the lower half of a hash of the key
	spoolSize  = 32 << 20 // bytes that are held before a file is used
	partSize   = 8 << 20  // bytes of a part, about; a row larger than this is a part of its own
	mostParts  = 4096     // beyond 32 GiB of rows that differ, parts get larger
	recordHead = 1 + 16 + 8
)

// RowChanges are the rows in which two states of one table differ. Close it when done.
type RowChanges struct {
	Added, Removed, Changed int64
	keyed                   bool
	spool                   *spool
}

// RowChange is one row that differs: only before, only now, or both, of the same key. Also is
// the row of this key in a third state, if one was given.
type RowChange struct{ Before, Now, Also Row }

// Empty tells whether the states are equal.
func (c *RowChanges) Empty() bool { return c.Added+c.Removed+c.Changed == 0 }

// Close deletes the rows' files.
func (c *RowChanges) Close() error { return c.spool.close() }

// State is a table with rows.
type State struct {
	Table Table
	Rows  Rows
}

// RowComparison says which states of a table are to be compared. The rows of both have the
// table's columns in the same order. Rows are told apart by the table's key; without a key a
// changed row shows as one removed and one added. Both states are read at the same time.
type RowComparison struct {
	Table       Table
	Before, Now Rows
	Also        State // a third state, whose columns may be others but for the key
	// Dir is the folder for a file with what does not fit into memory. It is removed as soon as
	// it is open, where the system can do that.
	Dir string
	// Bytes is how many both states have, about, where most of their rows are known to differ:
	// they are read once then, otherwise twice.
	Bytes int64
}

// CompareRows tells which rows of a table differ, in no particular order.
func CompareRows(ctx context.Context, of RowComparison) (*RowChanges, error) {
	c := &comparing{of: of, key: keyIndexes(of.Table), seed: maphash.MakeSeed()}
	if of.Also.Rows != nil {
		c.wanted = make([]atomic.Uint64, keyBits/64)
	}
	changes, err := c.run(ctx)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("compare the rows of %s: %w", of.Table.Name, err), changes.Close())
	}
	return changes, nil
}

type comparing struct {
	of     RowComparison
	key    []int
	seed   maphash.Seed
	before []sum // by bucket; nil: all differ
	now    []sum
	wanted []atomic.Uint64 // bits for the keys that were put aside: of the third state others are of no use
}

// keyBits is how many there are: a key of the third state that nobody wants is rarely taken
// for one that somebody does.
const keyBits = 1 << 24

func (c *comparing) run(ctx context.Context) (*RowChanges, error) {
	size := c.of.Bytes
	if size == 0 {
		c.before, c.now = make([]sum, buckets), make([]sum, buckets)
		err := both(ctx, func(ctx context.Context) error { return c.sumUp(ctx, c.of.Before, c.before) }, func(ctx context.Context) error { return c.sumUp(ctx, c.of.Now, c.now) })
		if err != nil {
			return &RowChanges{spool: &spool{}}, err
		}
		size = c.differing()
	}
	changes := &RowChanges{keyed: len(c.key) > 0, spool: newSpool(c.of.Dir, size)}
	err := both(ctx, func(ctx context.Context) error { return c.fill(ctx, changes.spool, ofBefore, c.of.Before, c.key) },
		func(ctx context.Context) error { return c.fill(ctx, changes.spool, ofNow, c.of.Now, c.key) })
	if err == nil && c.of.Also.Rows != nil {
		err = c.fill(ctx, changes.spool, ofAlso, c.of.Also.Rows, keyIndexes(c.of.Also.Table))
	}
	if err == nil {
		err = changes.spool.flush()
	}
	if err == nil {
		err = changes.count(ctx)
	}
	return changes, err
}

func both(ctx context.Context, first, second func(context.Context) error) error {
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error { return first(ctx) })
	group.Go(func() error { return second(ctx) })
	return group.Wait()
}

// sum is that of the hashes of some rows, modulo 2^128.
type sum struct {
	hi, low uint64
	size    uint32 // of the rows in KiB, about
}

// coder encodes rows, and says in which bucket they belong.
type coder struct {
	key            []int
	seed           maphash.Seed
	encoded, keyed []byte
}

func (c *coder) code(row Row) (hash uint64, encoded, keyed []byte) {
	c.encoded = AppendRow(c.encoded[:0], row)
	keyed = c.encoded
	if len(c.key) > 0 {
		c.keyed = AppendRow(c.keyed[:0], pick(row, c.key))
		keyed = c.keyed
	}
	return maphash.Bytes(c.seed, keyed), c.encoded, keyed
}

// sumUp adds the rows of a state to their buckets.
func (c *comparing) sumUp(ctx context.Context, rows Rows, sums []sum) error {
	coder := coder{key: c.key, seed: c.seed}
	return rows(ctx, func(row Row) error {
		hash, encoded, _ := coder.code(row)
		print := fingerprintOf(encoded)
		s := &sums[hash%buckets]
		var carry uint64
		s.low, carry = bits.Add64(s.low, binary.BigEndian.Uint64(print[8:]), 0)
		s.hi, _ = bits.Add64(s.hi, binary.BigEndian.Uint64(print[:8]), carry)
		s.size += uint32(len(encoded)>>10) + 1
		return nil
	})
}

func (c *comparing) equal(at int) bool {
	return c.before != nil && c.before[at].hi == c.now[at].hi && c.before[at].low == c.now[at].low
}

// differing is how many bytes the rows in differing buckets have, about.
func (c *comparing) differing() (size int64) {
	for at := range c.before {
		if !c.equal(at) {
			size += int64(c.before[at].size+c.now[at].size) << 10
		}
	}
	return size
}

// The states that a record in a spool is of.
const (
	ofBefore = iota
	ofNow
	ofAlso
	states
)

// want notes a key of the first two states, and tells of one of the third whether it was noted.
func (c *comparing) want(hash uint64, state byte) bool {
	if c.wanted == nil {
		return true
	}
	at := (hash >> 32) % keyBits
	word, bit := &c.wanted[at/64], uint64(1)<<(at%64)
	if state == ofAlso {
		return word.Load()&bit != 0
	}
	word.Or(bit)
	return true
}

// fill puts the rows of differing buckets into the spool.
func (c *comparing) fill(ctx context.Context, into *spool, state byte, rows Rows, key []int) error {
	coder := coder{key: key, seed: c.seed}
	return rows(ctx, func(row Row) error {
		hash, encoded, keyed := coder.code(row)
		if c.equal(int(hash%buckets)) || !c.want(hash, state) {
			return nil
		}
		return into.add(state, fingerprintOf(keyed), encoded)
	})
}

func (c *RowChanges) count(ctx context.Context) error {
	return c.eachPair(ctx, func(before, now, _ []byte) error {
		switch {
		case before == nil:
			c.Added++
		case now == nil:
			c.Removed++
		default:
			c.Changed++
		}
		return nil
	})
}

// Each calls visit for every row that differs; the rows are valid during the call. It may be
// called again, and always visits them in the same order.
func (c *RowChanges) Each(ctx context.Context, visit func(RowChange) error) error {
	return c.eachPair(ctx, func(before, now, also []byte) error {
		var change RowChange
		err := errors.Join(decodeInto(&change.Before, before), decodeInto(&change.Now, now), decodeInto(&change.Also, also))
		if err != nil {
			return err
		}
		return visit(change)
	})
}

// eachPair is Each with encoded rows; nil: there is none.
func (c *RowChanges) eachPair(ctx context.Context, visit func(before, now, also []byte) error) error {
	for part := range c.spool.parts {
		if err := ctx.Err(); err != nil {
			return err
		}
		data, err := c.spool.read(part)
		if err != nil {
			return fmt.Errorf("read what was put aside for comparing: %w", err)
		}
		if err := c.eachIn(data, visit); err != nil {
			return err
		}
	}
	return nil
}

// eachIn compares one part.
func (c *RowChanges) eachIn(data []byte, visit func(before, now, also []byte) error) error {
	type rows [states][][]byte
	var order []*rows
	byKey := map[fingerprint]*rows{}
	for len(data) > 0 {
		state, print := data[0], fingerprint(data[1:17])
		size := binary.BigEndian.Uint64(data[17:])
		encoded := data[recordHead : recordHead+size : recordHead+size]
		data = data[recordHead+size:]
		of := byKey[print]
		if of == nil {
			of = &rows{}
			byKey[print] = of
			order = append(order, of)
		}
		of[state] = append(of[state], encoded)
	}
	at := func(all [][]byte, i int) []byte {
		if i < len(all) {
			return all[i]
		}
		return nil
	}
	for _, of := range order {
		before, now := of[ofBefore], of[ofNow]
		if c.keyed {
			before, now = withoutEqual(before, now)
		} else { // the whole row is its key: all are equal
			both := min(len(before), len(now))
			before, now = before[both:], now[both:]
		}
		for i := range max(len(before), len(now)) {
			if err := visit(at(before, i), at(now, i), at(of[ofAlso], i)); err != nil {
				return err
			}
		}
	}
	return nil
}

// withoutEqual takes out what both hold.
func withoutEqual(before, now [][]byte) (a, b [][]byte) {
	if len(before) == 1 && len(now) == 1 && !bytes.Equal(before[0], now[0]) {
		return before, now
	}
	b = slices.Clone(now)
	for _, one := range before {
		at := slices.IndexFunc(b, func(other []byte) bool { return bytes.Equal(one, other) })
		if at < 0 {
			a = append(a, one)
		} else {
			b = slices.Delete(b, at, at+1)
		}
	}
	return a, b
}

func decodeInto(to *Row, encoded []byte) error {
	if encoded == nil {
		return nil
	}
	var decoder RowDecoder
	return decoder.Decode(encoded, func(row Row) error {
		*to = slices.Clone(row)
		return nil
	})
}

// spool holds records in parts, beyond spoolSize in a file.
type spool struct {
	lock  sync.Mutex // for add
	dir   string
	parts []spoolPart
	most  int // bytes of a part that wait for being written
	file  *os.File
	end   int64
}

type spoolPart struct {
	waiting []byte
	written []stretch
}

type stretch struct{ at, length int64 }

func newSpool(dir string, size int64) *spool {
	count := int(min(mostParts, size/partSize+1))
	return &spool{dir: dir, parts: make([]spoolPart, count), most: spoolSize / count}
}

func (s *spool) add(state byte, key fingerprint, encoded []byte) error {
	s.lock.Lock()
	defer s.lock.Unlock()
	part := &s.parts[binary.BigEndian.Uint64(key[:8])%uint64(len(s.parts))]
	part.waiting = append(append(part.waiting, state), key[:]...)
	part.waiting = binary.BigEndian.AppendUint64(part.waiting, uint64(len(encoded)))
	part.waiting = append(part.waiting, encoded...)
	if len(part.waiting) < s.most {
		return nil
	}
	return s.write(part)
}

func (s *spool) write(part *spoolPart) error {
	if s.file == nil {
		var err error
		if s.file, err = os.CreateTemp(s.dir, ".comparing-*"); err != nil {
			return err
		}
		_ = os.Remove(s.file.Name()) // it stays open; where that cannot be, close removes it
	}
	if _, err := s.file.WriteAt(part.waiting, s.end); err != nil {
		return err
	}
	part.written = append(part.written, stretch{s.end, int64(len(part.waiting))})
	s.end += int64(len(part.waiting))
	part.waiting = part.waiting[:0]
	if cap(part.waiting) > 2*s.most { // it was a large row
		part.waiting = nil
	}
	return nil
}

// flush makes room, once all is added: what is in the file is there wholly.
func (s *spool) flush() error {
	if s.file == nil {
		return nil
	}
	for i := range s.parts {
		if len(s.parts[i].waiting) > 0 {
			if err := s.write(&s.parts[i]); err != nil {
				return err
			}
		}
		s.parts[i].waiting = nil
	}
	return nil
}

// read returns the records of a part.
func (s *spool) read(n int) ([]byte, error) {
	part := s.parts[n]
	if len(part.written) == 0 {
		return part.waiting, nil
	}
	size := int64(len(part.waiting))
	for _, one := range part.written {
		size += one.length
	}
	data := make([]byte, 0, size)
	for _, one := range part.written {
		from := len(data)
		data = data[:from+int(one.length)]
		if _, err := s.file.ReadAt(data[from:], one.at); err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
	}
	return append(data, part.waiting...), nil
}

func (s *spool) close() error {
	s.parts = nil
	if s.file == nil {
		return nil
	}
	err := s.file.Close()
	if gone := os.Remove(s.file.Name()); gone != nil && !errors.Is(gone, os.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	s.file = nil
	return err
}
