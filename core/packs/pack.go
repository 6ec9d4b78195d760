package packs

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"sync"

	"github.com/klauspost/compress"
	"golang.org/x/sync/errgroup"

	"wetland/core/progress"
)

// Adder adds pieces to the store, from many goroutines at once: each packs the block
// that it has filled. A full volume is made safe and proved while the next one is written.
// Nothing of it counts before finish.
type Adder struct {
	Store   *Store
	report  progress.Reporter
	ctx     context.Context // of what it was made for: it lives no longer, and ends with the first failure
	closing *errgroup.Group

	mu      sync.Mutex // guards fresh, pending, written and err
	fresh   map[ID]bool
	pending gathered
	written []*volume
	Err     error // the first failure: everything after it fails, too

	writing sync.Mutex // guards volume
	volume  *volumeWriter
}

// gathered are pieces that are to be packed in one block.
type gathered struct {
	data   []byte
	pieces []piece
}

// NewAdder begins to add pieces. Finish or Abandon must follow.
func (s *Store) NewAdder(ctx context.Context, report progress.Reporter) *Adder {
	closing, ctx := errgroup.WithContext(ctx)
	closing.SetLimit(2) // where proving is slower than writing, writing waits
	return &Adder{Store: s, report: report, ctx: ctx, closing: closing, fresh: map[ID]bool{}}
}

// Add stores a piece, unless the store has it, and returns its ID. alone keeps it out
// of the packed blocks. The data may be used again by the caller afterwards.
func (a *Adder) Add(data []byte, alone bool) (ID, error) {
	id := a.Store.Seal.ID(data)
	return id, a.put(id, data, alone)
}

func (a *Adder) put(id ID, data []byte, alone bool) error {
	if a.Store.Has(id) {
		return nil
	}
	return a.copy(id, data, alone)
}

// copy stores a piece also if an older volume has it, but not twice.
func (a *Adder) copy(id ID, data []byte, alone bool) error {
	p := piece{id: id, size: uint32(len(data))}
	a.mu.Lock()
	if a.fresh[id] || a.Err != nil {
		defer a.mu.Unlock()
		return a.Err
	}
	a.fresh[id] = true
	if alone {
		a.mu.Unlock()
		return a.write(block{pieces: []piece{p}}, data)
	}
	if a.pending.data == nil {
		a.pending.data = takeBuffer()
	}
	a.pending.data = append(a.pending.data, data...)
	a.pending.pieces = append(a.pending.pieces, p)
	if len(a.pending.data) < blockSize {
		a.mu.Unlock()
		return nil
	}
	full := a.takePending()
	a.mu.Unlock()
	return a.pack(full)
}

// takePending empties what is gathered. Call it with mu held.
func (a *Adder) takePending() gathered {
	full := a.pending
	a.pending = gathered{}
	return full
}

// Flush closes the block that is being gathered, so that what comes next lies apart.
func (a *Adder) Flush() error {
	a.mu.Lock()
	full := a.takePending()
	a.mu.Unlock()
	return a.pack(full)
}

// buffers are for whole blocks, before and after they are packed.
var buffers = sync.Pool{New: func() any {
	buffer := make([]byte, 0, largestBlock)
	return &buffer
}}

func takeBuffer() []byte { return (*buffers.Get().(*[]byte))[:0] }

func giveBuffers(all ...[]byte) {
	for _, one := range all {
		buffers.Put(&one)
	}
}

// HardToPack tells by samples whether the bytes are compressed already.
func HardToPack(data []byte) bool {
	const sample, few = 4 << 10, 0.05
	if len(data) < 2*sample {
		return false
	}
	for i := range 3 {
		at := (len(data) - sample) / 2 * i
		if compress.Estimate(data[at:at+sample]) > few {
			return false
		}
	}
	return true
}

func (a *Adder) pack(full gathered) error {
	if len(full.pieces) == 0 {
		return nil
	}
	out := takeBuffer()
	stored := Packer.EncodeAll(full.data, out)
	defer func() { giveBuffers(full.data, out) }()
	packed := len(stored) < len(full.data)-len(full.data)/32
	if !packed {
		stored = full.data
	}
	b := block{packed: packed, pieces: full.pieces}
	if packed {
		b.check = checkOf(stored)
	}
	return a.write(b, stored)
}

func (a *Adder) write(b block, data []byte) error {
	data = a.Store.Seal.Close(data)
	a.writing.Lock()
	defer a.writing.Unlock()
	if err := a.writeBlock(b, data); err != nil {
		return a.fail(fmt.Errorf("write a volume of the store: %w", err))
	}
	return nil
}

// fail keeps an error for everything that comes after it.
func (a *Adder) fail(err error) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.Err = errors.Join(a.Err, err)
	return a.Err
}

func (a *Adder) writeBlock(b block, data []byte) error {
	if a.volume == nil {
		name := VolumeFolder + strings.ToLower(rand.Text()[:16]) + volumeSuffix
		var err error
		if a.volume, err = newVolumeWriter(a.ctx, a.Store.Bytes, name, a.Store.Seal); err != nil {
			return err
		}
	}
	if err := a.volume.add(b, data); err != nil {
		return err
	}
	if a.volume.volume.Size >= volumeSize {
		a.closeVolume()
	}
	return nil
}

// closeVolume hands the volume over, to be made safe and proved. Call it with writing held,
// or while nobody writes.
func (a *Adder) closeVolume() {
	v := a.volume
	a.volume = nil
	if v == nil {
		return
	}
	a.closing.Go(func() error {
		if err := v.finish(); err != nil {
			return a.fail(fmt.Errorf("write a volume of the store: %w", err))
		}
		a.mu.Lock()
		a.written = append(a.written, &v.volume)
		a.mu.Unlock()
		if err := a.Store.prove(a.ctx, &v.volume, a.report); err != nil {
			return a.fail(fmt.Errorf("prove what was written: %w", err))
		}
		return nil
	})
}

// Finish makes all that was added safe, proves it by reading it back, and makes it known to
// the store.
func (a *Adder) Finish() error {
	if err := a.Flush(); err != nil {
		return err
	}
	a.closeVolume()
	if err := a.closing.Wait(); err != nil {
		return err
	}
	for _, v := range a.written {
		a.Store.learn(v)
		a.Store.wrote(v)
	}
	a.Store.saveProofs(context.WithoutCancel(a.ctx)) // which ended with the last volume
	return nil
}

// Abandon takes away all that was written.
func (a *Adder) Abandon() error {
	var err error
	if a.volume != nil {
		err = a.volume.to.Abort()
	}
	_ = a.closing.Wait() // its error was told to whoever adds
	for _, v := range a.written {
		err = errors.Join(err, a.Store.Bytes.Delete(context.WithoutCancel(a.ctx), v.Name))
	}
	return err
}
