package packs_test

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"wetland/core/packs"
	"wetland/core/packs/bytestest"
)

func onDisk(t *testing.T) (packs.Bytes, func() packs.Bytes) {
	dir := filepath.Join(t.TempDir(), "a [store] of ours *")
	return packs.DiskBytes{Dir: dir}, func() packs.Bytes { return packs.DiskBytes{Dir: dir} }
}

func TestDiskBytes(t *testing.T) { bytestest.TestBytes(t, onDisk) }

func TestMemory(t *testing.T) {
	bytestest.TestBytes(t, func(*testing.T) (packs.Bytes, func() packs.Bytes) {
		place := bytestest.NewMemory()
		return place, func() packs.Bytes { return place }
	})
}

// After all that was written and given up, nothing lies in the folder but entries.
func TestDiskBytesLeavesNothing(t *testing.T) {
	place, _ := onDisk(t)
	w, err := place.Put(t.Context(), "volumes/a")
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(place.Where(), "volumes")
	if info, err := os.Stat(dir); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("others may look into it: %v %v", info.Mode(), err)
	}
	if err := errors.Join(w.Abort(), place.Clear(t.Context())); err != nil {
		t.Fatal(err)
	}
	if left, err := os.ReadDir(dir); err != nil || len(left) > 0 {
		t.Errorf("left: %v %v", left, err)
	}
}

// meeting is a place where whoever asks for a size waits for another who does.
type meeting struct {
	packs.Bytes
	both *sync.WaitGroup
}

func (m meeting) Size(ctx context.Context, name string) (int64, error) {
	m.both.Done()
	m.both.Wait()
	return m.Bytes.Size(ctx, name)
}

// A place far away answers late: volumes are not asked for one after the other.
func TestOpeningAsksForVolumesTogether(t *testing.T) {
	place := bytestest.NewMemory()
	for _, name := range []string{"a", "b"} {
		if err := packs.PutWhole(t.Context(), place, packs.VolumeFolder+name+".wet", []byte("damaged")); err != nil {
			t.Fatal(err)
		}
	}
	var both sync.WaitGroup
	both.Add(2)
	store, err := packs.OpenAt(t.Context(), meeting{place, &both}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := store.Close(); err != nil {
		t.Error(err)
	}
}

// Each of these places has one fault, which a law has to find.
type faulty struct {
	packs.Bytes
	put     func(ctx context.Context, name string) (packs.Writer, error)
	get     func(ctx context.Context, name string, offset, length int64) (io.ReadCloser, error)
	list    func(ctx context.Context, prefix string) ([]string, error)
	replace func(ctx context.Context, name string, before, now []byte) error
	hold    func(ctx context.Context, alone bool) (func() error, error)
}

func (f faulty) Put(ctx context.Context, name string) (packs.Writer, error) {
	if f.put == nil {
		return f.Bytes.Put(ctx, name)
	}
	return f.put(ctx, name)
}

func (f faulty) Get(ctx context.Context, name string, offset, length int64) (io.ReadCloser, error) {
	if f.get == nil {
		return f.Bytes.Get(ctx, name, offset, length)
	}
	return f.get(ctx, name, offset, length)
}

func (f faulty) List(ctx context.Context, prefix string) ([]string, error) {
	if f.list == nil {
		return f.Bytes.List(ctx, prefix)
	}
	return f.list(ctx, prefix)
}

func (f faulty) Replace(ctx context.Context, name string, before, now []byte) error {
	if f.replace == nil {
		return f.Bytes.Replace(ctx, name, before, now)
	}
	return f.replace(ctx, name, before, now)
}

func (f faulty) Hold(ctx context.Context, alone bool) (func() error, error) {
	if f.hold == nil {
		return f.Bytes.Hold(ctx, alone)
	}
	return f.hold(ctx, alone)
}

func TestFaultyPlacesAreFound(t *testing.T) {
	for law, fault := range map[string]func(of packs.Bytes) faulty{
		"an entry never changes": func(of packs.Bytes) faulty {
			return faulty{put: func(ctx context.Context, name string) (packs.Writer, error) {
				_ = of.Delete(ctx, name)
				return of.Put(ctx, name)
			}}
		},
		"parts are read": func(of packs.Bytes) faulty {
			return faulty{get: func(ctx context.Context, name string, _, length int64) (io.ReadCloser, error) {
				return of.Get(ctx, name, 0, length)
			}}
		},
		"names are listed": func(of packs.Bytes) faulty {
			return faulty{list: func(ctx context.Context, _ string) ([]string, error) { return of.List(ctx, "volumes/") }}
		},
		"what is replaced": func(of packs.Bytes) faulty {
			return faulty{replace: func(ctx context.Context, name string, _, now []byte) error {
				return errors.Join(of.Delete(ctx, name), packs.PutWhole(ctx, of, name, now))
			}}
		},
		"who holds it alone is alone": func(packs.Bytes) faulty {
			return faulty{hold: func(context.Context, bool) (func() error, error) { return func() error { return nil }, nil }}
		},
		"contexts that have ended": func(of packs.Bytes) faulty {
			return faulty{put: func(ctx context.Context, name string) (packs.Writer, error) {
				return of.Put(context.WithoutCancel(ctx), name)
			}}
		},
	} {
		broken := bytestest.Broken(t.Context(), func() (packs.Bytes, func() packs.Bytes) {
			memory := bytestest.NewMemory()
			place := fault(memory)
			place.Bytes = memory
			return place, func() packs.Bytes { return place }
		})
		if broken[law] == nil {
			t.Errorf("%s: nothing is found", law)
		}
	}
}
