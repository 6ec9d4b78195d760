// Package packs is the store of snapshots: chunks of files and rows (pieces), packed into volumes,
// each chunk once, sealed if that is wanted. Begin reading at Open and NewAdder.
//
// It promises that what was added and committed is safe, is proved before that is said, and that no
// reader is disturbed by one who tidies.
package packs

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/klauspost/compress/zstd"

	"wetland/core/durable"
)

// Store holds the snapshots of one site.
type Store struct {
	Bytes   Bytes
	Seal    *Sealing
	volumes []*volume
	index   map[ID]location // every piece of every readable volume
	cache   blockCache
	// damaged holds the volumes whose directory could not be read, with the reason.
	damaged map[string]error
	// name tells this store from all others; "" if the store is no folder.
	name string
	// guard is the file whose lock keeps tidying apart from everything else; "" if
	// the store is no folder.
	guard string
	// release gives up the lock that keeps tidying away while this store is open.
	release func() error
}

// markerName tells a store from any other folder.
const (
	MarkerName = "wetland-store"
	markerText = "This folder is a store of snapshots. Format 2.\n"
	sealedText = "This folder is a sealed store of snapshots. Format 2. Key "
)

// nameFile holds the store's name.
const nameFile = "wetland-store-name"

// nameIn reads the name of the store in dir, or gives it one; "" where nothing can be written.
func nameIn(dir string) (string, error) {
	at := filepath.Join(dir, nameFile)
	text, err := os.ReadFile(at)
	if errors.Is(err, fs.ErrNotExist) {
		return giveName(at), nil
	}
	if err != nil {
		return "", fmt.Errorf("read the name of the store: %w", err)
	}
	return strings.TrimSpace(string(text)), nil
}

// giveName writes a new name. Whoever opens the store at the same moment finds it, or nothing yet:
// no two have different ones.
func giveName(at string) string {
	file, err := os.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return ""
	}
	name := strings.ToLower(rand.Text())
	_, err = file.WriteString(name + "\n")
	if errors.Join(err, durable.Sync(file), file.Close()) != nil {
		return ""
	}
	return name
}

// Name tells this store from all others, wherever it is moved to.
func (s *Store) Name() string { return s.name }

// Open opens the store in dir, or makes a new one there if dir is missing or
// empty. Any other folder is refused. A sealed store wants its secret: without, or with
// another one, the error wraps ErrSealed or ErrWrongKey. Where there is a secret, ask is not nil,
// and no sealed store, it wraps ErrNotSealed: nothing is written that was to be sealed.
func Open(dir string, ask Unlock) (*Store, error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("open the store: %w", err)
	}
	marker := filepath.Join(dir, MarkerName)
	text, err := os.ReadFile(marker)
	if proof, sealed := strings.CutPrefix(string(text), sealedText); err == nil && sealed {
		seal, _, err := unlock(dir, strings.TrimSpace(proof), ask)
		if err != nil {
			return nil, fmt.Errorf("open the store: %w", err)
		}
		return openFolder(dir, seal)
	}
	switch {
	case ask != nil && (err == nil && string(text) == markerText || errors.Is(err, fs.ErrNotExist) && len(entries) == 0):
		return nil, fmt.Errorf("%w: %s", ErrNotSealed, dir)
	case errors.Is(err, fs.ErrNotExist) && len(entries) > 0:
		return nil, fmt.Errorf("%s is not empty and no store of Wetland (it has no file %s). Choose another folder", dir, MarkerName)
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
		return nil, fmt.Errorf("the store %s has another format than this version of Wetland reads (%s). Use a newer Wetland, or the one that wrote it", dir, strings.TrimSpace(string(text[:min(len(text), 80)])))
	}
	return openFolder(dir, nil)
}

// openFolder opens a store and keeps others from tidying it until Close, or until this
// process ends: what its volumes hold must not move while it is in use.
func openFolder(dir string, seal *Sealing) (*Store, error) {
	guard := filepath.Join(dir, MarkerName)
	ctx, cancel := context.WithTimeout(context.Background(), longestTidy)
	defer cancel()
	release, err := hold(ctx, guard, false)
	if err != nil {
		return nil, err
	}
	s, err := OpenBytes(DiskBytes{Dir: dir}, seal)
	if err != nil {
		return nil, errors.Join(err, release())
	}
	s.guard, s.release = guard, release
	if s.name, err = nameIn(dir); err != nil {
		return nil, errors.Join(err, release())
	}
	return s, nil
}

// longestTidy is how long to wait for another process that tidies the store.
const longestTidy = 10 * time.Minute

// Close lets others tidy the store. It may be called more than once.
func (s *Store) Close() error {
	if s.release == nil {
		return nil
	}
	release := s.release
	s.release = nil
	return release()
}

// OpenBytes reads which pieces there are, of a store that lies anywhere. What is damaged is noted.
func OpenBytes(bytes Bytes, seal *Sealing) (*Store, error) {
	s := &Store{Bytes: bytes, Seal: seal, index: map[ID]location{}, damaged: map[string]error{}}
	names, err := bytes.List(VolumeFolder)
	if err != nil {
		return nil, fmt.Errorf("list the volumes of the store: %w", err)
	}
	for _, name := range names {
		if !strings.HasSuffix(name, volumeSuffix) {
			continue // somebody else's
		}
		v, err := readVolume(bytes, name, seal)
		if err != nil {
			s.damaged[name] = err
			continue
		}
		s.learn(v)
	}
	return s, nil
}

// learn makes a volume's pieces known.
func (s *Store) learn(v *volume) {
	number := int32(len(s.volumes))
	s.volumes = append(s.volumes, v)
	for i, b := range v.blocks {
		at := uint32(0)
		for _, p := range b.pieces {
			s.index[p.id] = location{volume: number, block: int32(i), at: at, size: p.size}
			at += p.size
		}
	}
}

// hold keeps a store for reading and adding, or, alone, for taking away. It waits for
// whoever has it; release gives it up.
func hold(ctx context.Context, guard string, alone bool) (release func() error, err error) {
	lock := flock.New(guard, flock.SetFlag(os.O_RDONLY))
	try := lock.TryRLockContext
	if alone {
		try = lock.TryLockContext
	}
	if _, err := try(ctx, 50*time.Millisecond); err != nil {
		return nil, fmt.Errorf("wait for another process that works on the store: %w", err)
	}
	return lock.Close, nil
}

// Names lists the snapshots, oldest first.
func (s *Store) Names() ([]string, error) { return namesIn(s.Bytes) }

// NamesIn lists the snapshots of the store in a folder, oldest first, without opening it:
// names are not sealed. There are none in a folder that is not there.
func NamesIn(dir string) ([]string, error) { return namesIn(DiskBytes{Dir: dir}) }

func namesIn(store Bytes) ([]string, error) {
	listed, err := store.List(ManifestFolder)
	var names []string
	for _, name := range listed {
		if base, ok := strings.CutSuffix(path.Base(name), ManifestSuffix); ok && Number(base) > 0 {
			names = append(names, base)
		}
	}
	slices.SortFunc(names, func(a, b string) int { return Number(a) - Number(b) })
	return names, err
}

// Number is that of a snapshot; 0 for other names.
func Number(name string) int {
	digits, ok := strings.CutPrefix(name, "snap-")
	n, err := strconv.Atoi(digits)
	if err != nil || !ok {
		return 0
	}
	return n
}

const (
	ManifestFolder = "snapshots/"
	ManifestSuffix = ".manifest"
)

// A store may have been made, or changed, by somebody else: what it says is checked before any of
// it is believed.

// ErrNotOurs says that a manifest or a list says what Wetland never writes.
var ErrNotOurs = errors.New("it says what Wetland never writes: the store was made or changed by somebody else. Nothing of it was used")

// NotOurs says that something is not as this program writes it.
func NotOurs(format string, args ...any) error {
	return fmt.Errorf("%s: %w", fmt.Sprintf(format, args...), ErrNotOurs)
}

// Bounds of what a packed list or manifest may unpack to. What we write is full of hashes, and
// hardly shrinks.
const (
	leastUnpacked = 16 << 20
	mostTimes     = 200
)

// UnpackList unpacks a list or a manifest, no further than what was packed can hold.
func UnpackList(packed []byte) ([]byte, error) {
	unpacker, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(uint64(max(leastUnpacked, mostTimes*len(packed)))))
	if err != nil {
		return nil, err
	}
	defer unpacker.Close()
	text, err := unpacker.DecodeAll(packed, nil)
	if errors.Is(err, zstd.ErrDecoderSizeExceeded) {
		return nil, NotOurs("%d bytes unpack to more than %d times as many", len(packed), mostTimes)
	}
	return text, err
}
