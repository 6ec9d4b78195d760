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
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"
)

// Store holds the snapshots of one site.
type Store struct {
	Bytes   Bytes
	Seal    *Sealing
	Begin   string // of the names that snapshots get; "": OfSite
	volumes []*volume
	mu      sync.RWMutex    // guards index, proofs, proved and unsaved
	index   map[ID]location // every piece of every readable volume, but of rotten blocks
	proofs  proofs
	proved  map[spot]bool // blocks that this process proved or wrote
	unsaved map[spot]bool // whose proofs are not written down yet
	anew    bool          // see ReadAnew
	cache   blockCache
	// damaged holds the volumes whose directory could not be read, with the reason.
	damaged map[string]error
	// name tells this store from all others; "" if it could not be given one.
	name string
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

// nameOf reads the name of a store, or gives it one; "" where nothing can be written. Whoever opens
// the store at the same moment finds that name: no two have different ones.
func nameOf(ctx context.Context, bytes Bytes) (string, error) {
	text, err := getWhole(ctx, bytes, nameFile)
	if errors.Is(err, fs.ErrNotExist) {
		if err = PutWhole(ctx, bytes, nameFile, []byte(strings.ToLower(rand.Text())+"\n")); err != nil &&
			!errors.Is(err, fs.ErrExist) {
			return "", ctx.Err()
		}
		text, err = getWhole(ctx, bytes, nameFile)
	}
	if err != nil {
		return "", fmt.Errorf("read the name of the store: %w", err)
	}
	return strings.TrimSpace(string(text)), nil
}

// Name tells this store from all others, wherever it is moved to.
func (s *Store) Name() string { return s.name }

// Open opens the store in dir, or makes a new one there if dir is missing or empty. Any other folder
// is refused. All else is as OpenAt says.
func Open(ctx context.Context, dir string, ask Unlock) (*Store, error) {
	at := DiskBytes{Dir: dir}
	foreign, err := at.isForeign()
	if err != nil {
		return nil, fmt.Errorf("open the store: %w", err)
	}
	if foreign {
		return nil, fmt.Errorf("%s is not empty and no store of Wetland (it has no file %s). Choose another folder", dir,
			MarkerName)
	}
	return OpenAt(ctx, at, ask)
}

// OpenAt opens the store at a place, or makes a new one there if nothing says what it is, and keeps
// others from tidying it until Close, or until this process ends: what its volumes hold must not
// move while it is in use. A sealed store wants its secret: without, or with another one, the error
// wraps ErrSealed or ErrWrongKey. Where there is a secret, ask is not nil, and no sealed store, it
// wraps ErrNotSealed: nothing is written that was to be sealed.
func OpenAt(ctx context.Context, at Bytes, ask Unlock) (*Store, error) {
	seal, err := readMarker(ctx, at, ask)
	if err != nil {
		return nil, err
	}
	waiting, cancel := context.WithTimeout(ctx, longestTidy)
	defer cancel()
	release, err := at.Hold(waiting, false)
	if err != nil {
		return nil, err
	}
	s, err := read(ctx, at, seal)
	if err == nil {
		s.name, err = nameOf(ctx, at)
	}
	if err != nil {
		return nil, errors.Join(err, release())
	}
	s.release = release
	return s, nil
}

// readMarker reads what a store is, or makes a new one; nil: it is not sealed.
func readMarker(ctx context.Context, at Bytes, ask Unlock) (*Sealing, error) {
	text, err := getWhole(ctx, at, MarkerName)
	if errors.Is(err, fs.ErrNotExist) && ask == nil {
		if err := PutWhole(ctx, at, MarkerName, []byte(markerText)); err != nil && !errors.Is(err, fs.ErrExist) {
			return nil, fmt.Errorf("make the store: %w", err)
		}
		text, err = getWhole(ctx, at, MarkerName)
	}
	proof, sealed := strings.CutPrefix(string(text), sealedText)
	switch {
	case ask != nil && (errors.Is(err, fs.ErrNotExist) || err == nil && string(text) == markerText):
		return nil, fmt.Errorf("%w: %s", ErrNotSealed, at.Where())
	case err != nil:
		return nil, fmt.Errorf("open the store: %w", err)
	case sealed:
		is, err := unlock(ctx, at, strings.TrimSpace(proof), ask)
		if err != nil {
			return nil, fmt.Errorf("open the store: %w", err)
		}
		return is.seal, nil
	case string(text) != markerText && nearly(string(text), markerText):
		return nil, fmt.Errorf("the file %s of the store %s is damaged. Nothing else of the store need be: write this line"+
			" into it, and nothing else: %s",
			MarkerName, at.Where(), strings.TrimSpace(markerText))
	case string(text) != markerText:
		return nil, fmt.Errorf("the store %s has another format than this version of Wetland reads (%s). Use a newer"+
			" Wetland, or the one that wrote it", at.Where(), strings.TrimSpace(string(text[:min(len(text), 80)])))
	}
	return nil, nil
}

// nearly tells of a text that is another one, but for a few wrong, missing or added bytes: not another format's number.
func nearly(text, other string) bool {
	if regexp.MustCompile(`^This folder is a store of snapshots\. Format [0-9]+\.\n$`).MatchString(text) {
		return false
	}
	same := 0
	for i := range min(len(text), len(other)) {
		if text[i] == other[i] {
			same++
		}
	}
	return same*10 >= len(other)*6
}

// longestTidy is how long to wait for another process that tidies the store.
const longestTidy = 10 * time.Minute

// Close notes how what was read is, and lets others tidy the store. It may be called more than once.
func (s *Store) Close() error {
	if s.release == nil {
		return nil
	}
	s.saveProofs(context.Background())
	release := s.release
	s.release = nil
	return release()
}

// readAtOnce is how many volumes are read at the same time. A place far away answers late, and
// many questions at once.
const readAtOnce = 16

// read reads which pieces there are. What is damaged is noted.
func read(ctx context.Context, bytes Bytes, seal *Sealing) (*Store, error) {
	s := &Store{
		Bytes: bytes, Seal: seal, index: map[ID]location{}, damaged: map[string]error{},
		proved: map[spot]bool{}, unsaved: map[spot]bool{},
	}
	if err := s.readProofs(ctx); err != nil {
		return nil, fmt.Errorf("read what of the store is proved: %w", err)
	}
	names, err := bytes.List(ctx, VolumeFolder)
	if err != nil {
		return nil, fmt.Errorf("list the volumes of the store: %w", err)
	}
	// somebody else's
	names = slices.DeleteFunc(names, func(name string) bool { return !strings.HasSuffix(name, volumeSuffix) })
	volumes, problems := make([]*volume, len(names)), make([]error, len(names))
	var group errgroup.Group
	group.SetLimit(readAtOnce)
	for i, name := range names {
		group.Go(func() error {
			volumes[i], problems[i] = readVolume(ctx, bytes, name, seal)
			return nil
		})
	}
	_ = group.Wait() // each has its own error
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	for i, name := range names {
		if problems[i] != nil {
			s.damaged[name] = problems[i]
			continue
		}
		s.learn(volumes[i])
	}
	return s, nil
}

// learn makes a volume's pieces known.
func (s *Store) learn(v *volume) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.volumes = append(s.volumes, v)
	s.know(int32(len(s.volumes) - 1))
}

// know puts a volume's pieces into the index. Call it with mu held.
func (s *Store) know(number int32) {
	for i, b := range s.volumes[number].blocks {
		if s.proofOf(spot{number, int32(i)}) == rotten {
			continue
		}
		at := uint32(0)
		for _, p := range b.pieces {
			s.index[p.id] = location{volume: number, block: int32(i), at: at, size: p.size}
			at += p.size
		}
	}
}

// Names lists the snapshots, oldest first.
func (s *Store) Names(ctx context.Context) ([]string, error) { return namesIn(ctx, s.Bytes) }

// NamesIn lists the snapshots of the store in a folder, oldest first, without opening it:
// names are not sealed. There are none in a folder that is not there.
func NamesIn(ctx context.Context, dir string) ([]string, error) {
	return namesIn(ctx, DiskBytes{Dir: dir})
}

func namesIn(ctx context.Context, store Bytes) ([]string, error) {
	listed, err := store.List(ctx, ManifestFolder)
	var names []string
	for _, name := range listed {
		if base, ok := strings.CutSuffix(path.Base(name), ManifestSuffix); ok && Number(base) > 0 {
			names = append(names, base)
		}
	}
	slices.SortFunc(names, func(a, b string) int { return Number(a) - Number(b) })
	return names, err
}

// What begins the names of snapshots: of a site, and of a private copy of it, which has its own store for the
// time being.
const (
	OfSite = "snap-"
	OfCopy = "copy-"
)

// Number is that of a snapshot; 0 for other names.
func Number(name string) int {
	digits, ok := strings.CutPrefix(name, OfSite)
	if !ok {
		digits, ok = strings.CutPrefix(name, OfCopy)
	}
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
var ErrNotOurs = errors.New("it says what Wetland never writes: the store was made or changed by somebody else." +
	" Nothing of it was used")

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
	unpacker, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1),
		zstd.WithDecoderMaxMemory(uint64(max(leastUnpacked, mostTimes*len(packed)))))
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
