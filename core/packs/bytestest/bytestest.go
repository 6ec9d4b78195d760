// Package bytestest holds a packs.Bytes against its whole contract. Begin reading at TestBytes.
package bytestest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"wetland/core/packs"
)

// TestBytes holds what empty makes against the contract. empty makes a place in which nothing lies,
// one for each law; again opens the same place as another process would.
func TestBytes(t *testing.T, empty func(t *testing.T) (place packs.Bytes, again func() packs.Bytes)) {
	for name, law := range laws {
		t.Run(name, func(t *testing.T) {
			place, again := empty(t)
			if err := law(t.Context(), place, again); err != nil {
				t.Error(err)
			}
		})
	}
}

// Broken returns the laws that a place breaks, and how. empty makes one for each.
func Broken(ctx context.Context, empty func() (place packs.Bytes, again func() packs.Bytes)) map[string]error {
	broken := map[string]error{}
	for name, law := range laws {
		place, again := empty()
		if err := law(ctx, place, again); err != nil {
			broken[name] = err
		}
	}
	return broken
}

type law func(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error

var laws = map[string]law{
	"what is written is read":            writtenIsRead,
	"parts are read":                     partsAreRead,
	"nothing shows before it is whole":   nothingBeforeCommit,
	"nothing stays of what is given up":  nothingOfAborted,
	"an entry never changes":             neverChanges,
	"of many that write a name one wins": oneWriterWins,
	"names are listed":                   namesAreListed,
	"what is not there":                  notThere,
	"names that are none":                badNames,
	"deleted is gone":                    deletedIsGone,
	"what is replaced":                   replacesWhatWas,
	"of many that replace one wins":      oneReplacerWins,
	"who holds it alone is alone":        holdsAlone,
	"contexts that have ended":           endedContexts,
	"leftovers":                          clearsLeftovers,
}

func put(ctx context.Context, place packs.Bytes, name string, data []byte) error {
	return packs.PutWhole(ctx, place, name, data)
}

func get(ctx context.Context, place packs.Bytes, name string, offset, length int64) ([]byte, error) {
	r, err := place.Get(ctx, name, offset, length)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(r)
	return data, errors.Join(err, r.Close())
}

// holds tells whether a place holds an entry with just these bytes.
func holds(ctx context.Context, place packs.Bytes, name string, want []byte) error {
	data, err := get(ctx, place, name, 0, -1)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	size, err := place.Size(ctx, name)
	if err != nil || !bytes.Equal(data, want) || size != int64(len(want)) {
		return fmt.Errorf("%s: %d bytes, said to be %d, want %d, or other ones: %w", name, len(data), size, len(want), errors.Join(err))
	}
	return nil
}

func expect(what string, err, want error) error {
	if errors.Is(err, want) {
		return nil
	}
	return fmt.Errorf("%s: %v, want %v", what, err, want)
}

// large is more than any buffer takes at once.
var large = bytes.Repeat([]byte("over the weir \x00\xff"), 300_000)

func writtenIsRead(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	for name, data := range map[string][]byte{"top": []byte("a"), "volumes/empty": {}, "volumes/large.wet": large, "snapshots/ü with space": []byte("\x00")} {
		if err := errors.Join(put(ctx, place, name, data), holds(ctx, place, name, data), holds(ctx, again(), name, data)); err != nil {
			return err
		}
	}
	w, err := place.Put(ctx, "volumes/in parts")
	if err != nil {
		return err
	}
	for i := range 1000 {
		if _, err := w.Write(large[i*1000 : (i+1)*1000]); err != nil {
			return err
		}
	}
	return errors.Join(w.Commit(), w.Abort(), holds(ctx, place, "volumes/in parts", large[:1_000_000]))
}

func partsAreRead(ctx context.Context, place packs.Bytes, _ func() packs.Bytes) error {
	if err := put(ctx, place, "volumes/v", []byte("0123456789")); err != nil {
		return err
	}
	for _, c := range []struct {
		offset, length int64
		want           string
	}{{0, 3, "012"}, {9, 1, "9"}, {4, -1, "456789"}, {8, 10, "89"}, {10, -1, ""}, {10, 5, ""}, {99, 1, ""}, {3, 0, ""}} {
		data, err := get(ctx, place, "volumes/v", c.offset, c.length)
		if err != nil || string(data) != c.want {
			return fmt.Errorf("%d bytes from %d: %q %v", c.length, c.offset, data, err)
		}
	}
	return nil
}

func nothingBeforeCommit(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	w, err := place.Put(ctx, "volumes/v")
	if err != nil {
		return err
	}
	if _, err := w.Write(large); err != nil {
		return err
	}
	for _, at := range []packs.Bytes{place, again()} {
		_, err := get(ctx, at, "volumes/v", 0, -1)
		names, listErr := at.List(ctx, "volumes/")
		if !errors.Is(err, fs.ErrNotExist) || listErr != nil || len(names) > 0 {
			return fmt.Errorf("before it is whole: %v, listed %v %v", err, names, listErr)
		}
	}
	return errors.Join(w.Commit(), holds(ctx, again(), "volumes/v", large))
}

func nothingOfAborted(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	w, err := place.Put(ctx, "volumes/v")
	if err != nil {
		return err
	}
	if _, err := w.Write(large); err != nil {
		return err
	}
	if err := errors.Join(w.Abort(), w.Abort()); err != nil {
		return err
	}
	names, err := again().List(ctx, "volumes/")
	if err != nil || len(names) > 0 {
		return fmt.Errorf("left: %v %v", names, err)
	}
	return errors.Join(put(ctx, place, "volumes/v", []byte("other")), holds(ctx, place, "volumes/v", []byte("other")))
}

func neverChanges(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	if err := put(ctx, place, "volumes/v", []byte("first")); err != nil {
		return err
	}
	return errors.Join(
		expect("written twice", put(ctx, place, "volumes/v", []byte("second")), fs.ErrExist),
		expect("written by another", put(ctx, again(), "volumes/v", nil), fs.ErrExist),
		holds(ctx, place, "volumes/v", []byte("first")))
}

func oneWriterWins(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	const writers = 12
	for round := range 10 {
		name := fmt.Sprintf("pins/round-%d", round)
		var won [writers]bool
		var group errgroup.Group
		for i := range writers {
			at := place
			if i%2 == 1 {
				at = again()
			}
			group.Go(func() error {
				err := put(ctx, at, name, bytes.Repeat([]byte{byte(i)}, 1000))
				if won[i] = err == nil; won[i] || errors.Is(err, fs.ErrExist) {
					return nil
				}
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
		winner := slices.Index(won[:], true)
		if winner < 0 || slices.Contains(won[winner+1:], true) {
			return fmt.Errorf("who won: %v", won)
		}
		if err := holds(ctx, place, name, bytes.Repeat([]byte{byte(winner)}, 1000)); err != nil {
			return err
		}
	}
	return nil
}

func namesAreListed(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	if names, err := place.List(ctx, "volumes/"); err != nil || len(names) > 0 {
		return fmt.Errorf("of what was never made: %v %v", names, err)
	}
	for _, name := range []string{"marker", "volumes/b", "volumes/a", "volumes/ab", "snapshots/a"} {
		if err := put(ctx, place, name, nil); err != nil {
			return err
		}
	}
	for prefix, want := range map[string]string{"volumes/": "volumes/a volumes/ab volumes/b", "volumes/a": "volumes/a volumes/ab", "vol": "", "mark": "marker", "": "marker", "snapshots/": "snapshots/a", "none/": ""} {
		names, err := again().List(ctx, prefix)
		if err != nil || strings.Join(names, " ") != want {
			return fmt.Errorf("beginning with %q: %v %v, want %s", prefix, names, err, want)
		}
	}
	return nil
}

func notThere(ctx context.Context, place packs.Bytes, _ func() packs.Bytes) error {
	_, getErr := get(ctx, place, "volumes/none", 0, -1)
	_, sizeErr := place.Size(ctx, "volumes/none")
	return errors.Join(expect("get", getErr, fs.ErrNotExist), expect("size", sizeErr, fs.ErrNotExist),
		expect("delete", place.Delete(ctx, "volumes/none"), fs.ErrNotExist),
		expect("replace", place.Replace(ctx, "none", nil, []byte("x")), fs.ErrNotExist))
}

func badNames(ctx context.Context, place packs.Bytes, _ func() packs.Bytes) error {
	var problems []error
	for _, name := range []string{"", "/etc/passwd", "../outside", "volumes/../../outside", "volumes//a", "volumes/", "./a"} {
		_, getErr := get(ctx, place, name, 0, -1)
		_, sizeErr := place.Size(ctx, name)
		for what, err := range map[string]error{"put": put(ctx, place, name, nil), "get": getErr, "size": sizeErr, "delete": place.Delete(ctx, name), "replace": place.Replace(ctx, name, nil, nil)} {
			problems = append(problems, expect(fmt.Sprintf("%s %q", what, name), err, fs.ErrInvalid))
		}
	}
	_, err := place.List(ctx, "../")
	return errors.Join(append(problems, expect("list outside", err, fs.ErrInvalid))...)
}

func deletedIsGone(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	if err := errors.Join(put(ctx, place, "volumes/a", large), put(ctx, place, "volumes/b", nil), place.Delete(ctx, "volumes/a")); err != nil {
		return err
	}
	_, err := get(ctx, again(), "volumes/a", 0, -1)
	names, listErr := again().List(ctx, "volumes/")
	if len(names) != 1 || listErr != nil {
		return fmt.Errorf("listed: %v %v", names, listErr)
	}
	return errors.Join(expect("get", err, fs.ErrNotExist), put(ctx, place, "volumes/a", []byte("anew")), holds(ctx, again(), "volumes/a", []byte("anew")))
}

func replacesWhatWas(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	return errors.Join(
		put(ctx, place, "key", []byte("one")),
		expect("of something else", place.Replace(ctx, "key", []byte("none"), []byte("x")), packs.ErrChanged),
		holds(ctx, place, "key", []byte("one")),
		place.Replace(ctx, "key", []byte("one"), []byte("the second one")),
		holds(ctx, again(), "key", []byte("the second one")),
		expect("by who knows the first", again().Replace(ctx, "key", []byte("one"), []byte("x")), packs.ErrChanged),
		again().Replace(ctx, "key", []byte("the second one"), nil),
		holds(ctx, place, "key", nil))
}

func oneReplacerWins(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	const rounds, replacers = 10, 8
	if err := put(ctx, place, "key", []byte("round 0")); err != nil {
		return err
	}
	for round := range rounds {
		before, now := fmt.Appendf(nil, "round %d", round), fmt.Appendf(nil, "round %d", round+1)
		var won atomic.Int32
		var group errgroup.Group
		for range replacers {
			at := again()
			group.Go(func() error {
				err := at.Replace(ctx, "key", before, now)
				if err == nil {
					won.Add(1)
				}
				if errors.Is(err, packs.ErrChanged) {
					return nil
				}
				return err
			})
		}
		if err := errors.Join(group.Wait(), holds(ctx, place, "key", now)); err != nil || won.Load() != 1 {
			return fmt.Errorf("%d won: %w", won.Load(), err)
		}
	}
	return nil
}

func holdsAlone(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	if err := put(ctx, place, packs.MarkerName, nil); err != nil {
		return err
	}
	first, err := place.Hold(ctx, false)
	if err != nil {
		return err
	}
	second, err := again().Hold(ctx, false)
	if err != nil {
		return fmt.Errorf("two that read: %w", err)
	}
	// Whoever wants to be alone waits for both, however long that is.
	if err := errors.Join(waits(ctx, again(), true), second(), waits(ctx, again(), true), first()); err != nil {
		return err
	}
	alone, err := again().Hold(ctx, true)
	if err != nil {
		return err
	}
	if err := errors.Join(waits(ctx, place, false), waits(ctx, place, true), alone()); err != nil {
		return err
	}
	// Of many that want to be alone, one is at a time.
	var inside, tooMany atomic.Int32
	var group errgroup.Group
	for range 6 {
		group.Go(func() error {
			release, err := again().Hold(ctx, true)
			if err != nil {
				return err
			}
			if inside.Add(1) > 1 {
				tooMany.Add(1)
			}
			runtime.Gosched()
			inside.Add(-1)
			return release()
		})
	}
	err = group.Wait()
	if n := tooMany.Load(); n > 0 {
		err = errors.Join(err, fmt.Errorf("%d times one was not alone who thought so", n))
	}
	return err
}

// waits tells whether holding a place waits until its context ends. It is given a moment to be wrong.
func waits(ctx context.Context, place packs.Bytes, alone bool) error {
	ctx, end := context.WithCancel(ctx)
	defer end()
	done := make(chan error, 1)
	go func() {
		release, err := place.Hold(ctx, alone)
		if err == nil {
			err = errors.Join(errors.New("it is held by several, and one of them alone"), release())
		} else if errors.Is(err, context.Canceled) {
			err = nil
		}
		done <- err
	}()
	select {
	case err := <-done:
		return err
	case <-time.After(100 * time.Millisecond):
		end()
		return <-done
	}
}

func endedContexts(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	if err := errors.Join(put(ctx, place, packs.MarkerName, nil), put(ctx, place, "volumes/a", []byte("a"))); err != nil {
		return err
	}
	other, err := place.Put(ctx, "volumes/c")
	if err != nil {
		return err
	}
	writing, stop := context.WithCancel(ctx)
	defer stop()
	w, err := place.Put(writing, "volumes/b")
	if err != nil {
		return err
	}
	_, _ = w.Write([]byte("b"))
	stop()
	commit := w.Commit()
	_, getErr := get(writing, place, "volumes/a", 0, -1)
	_, sizeErr := place.Size(writing, "volumes/a")
	_, listErr := place.List(writing, "volumes/")
	_, putErr := place.Put(writing, "volumes/d")
	_, holdErr := place.Hold(writing, false)
	for what, err := range map[string]error{"commit": commit, "get": getErr, "size": sizeErr, "list": listErr, "put": putErr, "hold": holdErr,
		"delete": place.Delete(writing, "volumes/a"), "replace": place.Replace(writing, "volumes/a", []byte("a"), []byte("b")), "clear": place.Clear(writing)} {
		if err := expect(what, err, context.Canceled); err != nil {
			return err
		}
	}
	names, err := again().List(ctx, "volumes/")
	if len(names) != 1 {
		return fmt.Errorf("listed: %v", names)
	}
	return errors.Join(err, holds(ctx, place, "volumes/a", []byte("a")), other.Commit(), holds(ctx, place, "volumes/c", nil))
}

func clearsLeftovers(ctx context.Context, place packs.Bytes, again func() packs.Bytes) error {
	if err := errors.Join(place.Clear(ctx), put(ctx, place, "volumes/a", []byte("a")), put(ctx, place, "key", []byte("k"))); err != nil {
		return err
	}
	if _, err := place.Put(ctx, "volumes/b"); err != nil { // its writer dies
		return err
	}
	return errors.Join(again().Clear(ctx), holds(ctx, place, "volumes/a", []byte("a")), holds(ctx, place, "key", []byte("k")),
		put(ctx, again(), "volumes/b", []byte("b")), holds(ctx, place, "volumes/b", []byte("b")))
}
