package packs

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"wetland/core/progress"
)

// shore is a store of a test, of blocks with random bytes.
type shore struct {
	*testing.T
	dir    string
	ids    []ID
	places map[ID]location // of the pieces that were flipped
}

func newShore(t *testing.T, pieces int) *shore {
	s := &shore{T: t, dir: t.TempDir(), places: map[ID]location{}}
	store := s.open()
	s.ids = s.add(store, 1, pieces)
	return s
}

func (s *shore) open() *Store {
	s.Helper()
	store, err := Open(s.Context(), s.dir, nil)
	if err != nil {
		s.Fatal(err)
	}
	s.Cleanup(func() { _ = store.Close() })
	return store
}

// add stores so many pieces, each in a block of its own, the same ones for the same seed.
func (s *shore) add(store *Store, seed uint64, pieces int) (ids []ID) {
	s.Helper()
	adder := store.NewAdder(s.Context(), progress.Silent{})
	random := rand.NewChaCha8([32]byte{byte(seed)})
	for range pieces {
		data := make([]byte, 3000)
		_, _ = random.Read(data)
		id, err := adder.Add(data, true)
		if err != nil {
			s.Fatal(err)
		}
		ids = append(ids, id)
	}
	if err := adder.Finish(); err != nil {
		s.Fatal(err)
	}
	return ids
}

// flip changes a bit in the block of a piece.
func (s *shore) flip(store *Store, id ID) {
	s.Helper()
	at, ok := s.places[id]
	if !ok {
		at = store.index[id]
		s.places[id] = at
	}
	v := store.volumes[at.volume]
	name := filepath.Join(s.dir, v.Name)
	text, err := os.ReadFile(name)
	if err == nil {
		text[v.blocks[at.block].offset+17] ^= 4
		err = os.WriteFile(name, text, 0o600)
	}
	if err != nil {
		s.Fatal(err)
	}
}

func (s *shore) proved(store *Store, ids ...ID) (missing int) {
	s.Helper()
	missing, err := store.Prove(s.Context(), ids, progress.Silent{})
	if err != nil {
		s.Fatal(err)
	}
	return missing
}

// Whatever block rots: it is found, counts as not being there, also for whoever opens the store later, and what is
// stored anew is read from then on.
func TestRotIsFoundAndStoredAnew(t *testing.T) {
	s := newShore(t, 24)
	store := s.open()
	bad := []ID{s.ids[3], s.ids[4], s.ids[20]}
	for _, id := range bad {
		s.flip(store, id)
		if !store.Has(id) {
			t.Fatal("it is known before anybody read it")
		}
	}
	if missing := s.proved(store, s.ids...); missing != len(bad) {
		t.Errorf("%d missing, not %d", missing, len(bad))
	}
	again := s.open()
	for _, id := range s.ids {
		if _, err := again.Piece(t.Context(), id); (err != nil) != slices.Contains(bad, id) ||
			again.Has(id) == slices.Contains(bad, id) {
			t.Errorf("%s: %v", id, err)
		}
	}
	if on, missing := again.ProvedOn(s.ids); missing != len(bad) || !on.IsZero() {
		t.Errorf("%s, %d missing", on, missing)
	}
	// What was wrong with one of them is right again: it was not the disk.
	s.flip(store, bad[0])
	if missing := s.proved(again, s.ids...); missing != len(bad)-1 || !again.Has(bad[0]) {
		t.Errorf("%d missing once one could be read again", missing)
	}
	s.flip(store, bad[0])
	again = s.open()
	if missing := s.proved(again, s.ids...); missing != len(bad) {
		t.Errorf("%d missing", missing)
	}
	s.add(again, 1, 24)
	if size, err := os.ReadDir(filepath.Join(s.dir, VolumeFolder)); err != nil || len(size) != 2 {
		t.Errorf("%d volumes, %v", len(size), err)
	}
	healed := s.open()
	if missing := s.proved(healed, s.ids...); missing != 0 {
		t.Errorf("%d are missing though they were stored anew", missing)
	}
	if on, _ := healed.ProvedOn(s.ids); on != today().time() {
		t.Errorf("proved on %s", on)
	}
}

// Where a reader meets rot that nobody knew of, another block may have the same piece.
func TestAnotherBlockHasIt(t *testing.T) {
	s := newShore(t, 3)
	first := s.open()
	for _, id := range s.ids {
		s.flip(first, id)
	}
	if missing := s.proved(first, s.ids...); missing != 3 {
		t.Fatal(missing)
	}
	s.add(first, 1, 3)
	if err := os.Remove(filepath.Join(s.dir, proofsFile)); err != nil { // nobody knows which is which
		t.Fatal(err)
	}
	for _, id := range s.ids {
		if data, err := s.open().Piece(t.Context(), id); err != nil || PlainID(data) != id {
			t.Errorf("%s: %v", id, err)
		}
	}
}

// Old blocks are read back by turns, those first that were proved the longest ago; all of them within the days wanted.
func TestProvedByTurns(t *testing.T) {
	const every, blocks = 10, 40
	s := newShore(t, blocks)
	age := func(days day) { // as if so much time had passed
		name := filepath.Join(s.dir, proofsFile)
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		all := parseProofs(text)
		for _, list := range all {
			for i := range list {
				list[i] -= days
			}
		}
		if err := os.WriteFile(name, all.text(), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	read := 0
	for range every + 1 {
		age(1)
		due, err := s.open().ProveDue(t.Context(), every, progress.Silent{})
		if err != nil || due.Blocks > blocks/every+1 {
			t.Errorf("%+v %v", due, err)
		}
		read += due.Blocks
	}
	if read < blocks {
		t.Errorf("%d of %d blocks were read back", read, blocks)
	}
	store := s.open()
	if on, _ := store.ProvedOn(s.ids); today()-day(on.Unix()/secondsADay) > every {
		t.Errorf("one was not read back since %s", on)
	}
	if due, err := store.ProveDue(t.Context(), every, progress.Silent{}); err != nil || due.Blocks != 0 {
		t.Errorf("again on the same day: %+v %v", due, err)
	}
	if due, err := s.open().ProveDue(t.Context(), 0, progress.Silent{}); err != nil || due.Blocks != blocks {
		t.Errorf("all of them: %+v %v", due, err)
	}
	age(100)
	if due, err := s.open().ProveDue(t.Context(), every, progress.Silent{}); err != nil || due.Blocks != blocks {
		t.Errorf("after a long time: %+v %v", due, err)
	}
}

// Notes that cannot be understood are passed over: what they were of is read anew, and nothing else is lost.
func TestProofsAreReadBack(t *testing.T) {
	all := proofs{"abc": {never, never, 20000, 20000, 20001, rotten}, "def": {20000}}
	if got := parseProofs(all.text()); !reflect.DeepEqual(got, all) {
		t.Errorf("%v", got)
	}
	text := string(all.text()) + "ghi x@2026-01-01\njkl 3@someday\nmno -1@never\npqr 99999999999@never\n\nstu\n"
	if got := parseProofs([]byte(text)); !reflect.DeepEqual(got, all) {
		t.Errorf("%v", got)
	}
	hostile := strings.Repeat("a 16777216@never 16777216@never\n", 1000)
	if got := parseProofs([]byte(hostile)); len(got) > 1 {
		t.Errorf("%d lists of millions", len(got))
	}
	s := newShore(t, 2)
	for _, text := range []string{"", "nonsense", strings.Repeat("\x00", 500),
		string(bytes.Repeat([]byte("a 1@rotten "), 9))} {
		if err := os.WriteFile(filepath.Join(s.dir, proofsFile), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		store := s.open()
		if missing := s.proved(store, s.ids...); missing != 0 {
			t.Errorf("%q: %d missing", text, missing)
		}
		if on, _ := s.open().ProvedOn(s.ids); on != today().time() {
			t.Errorf("%q: proved on %s", text, on)
		}
	}
}
