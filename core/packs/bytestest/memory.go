package bytestest

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"wetland/core/packs"
)

// Memory is a place in memory, for tests.
type Memory struct {
	lock    sync.Mutex
	entries map[string][]byte
	holders int // that read; -1: one is alone
}

// NewMemory returns an empty place.
func NewMemory() *Memory { return &Memory{entries: map[string][]byte{}} }

// Where says that it is in memory.
func (m *Memory) Where() string { return "memory" }

// with calls do with the entries, which nobody else changes meanwhile.
func (m *Memory) with(ctx context.Context, name string, do func() error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if !fs.ValidPath(name) {
		return &fs.PathError{Op: "reach", Path: name, Err: fs.ErrInvalid}
	}
	m.lock.Lock()
	defer m.lock.Unlock()
	return do()
}

type memoryWriter struct {
	bytes.Buffer
	of   *Memory
	ctx  context.Context
	name string
	done bool
}

// Put begins an entry.
func (m *Memory) Put(ctx context.Context, name string) (packs.Writer, error) {
	return &memoryWriter{of: m, ctx: ctx, name: name}, m.with(ctx, name, func() error { return nil })
}

func (w *memoryWriter) Commit() error {
	if w.done {
		return fs.ErrClosed
	}
	w.done = true
	return w.of.with(w.ctx, w.name, func() error {
		if _, taken := w.of.entries[w.name]; taken {
			return fmt.Errorf("%s: %w", w.name, fs.ErrExist)
		}
		w.of.entries[w.name] = bytes.Clone(w.Bytes())
		return nil
	})
}

func (w *memoryWriter) Abort() error {
	w.done = true
	return nil
}

// Get reads a part of an entry.
func (m *Memory) Get(ctx context.Context, name string, offset, length int64) (r io.ReadCloser, err error) {
	err = m.with(ctx, name, func() error {
		data, ok := m.entries[name]
		if !ok {
			return fmt.Errorf("%s: %w", name, fs.ErrNotExist)
		}
		data = data[min(offset, int64(len(data))):]
		if length >= 0 {
			data = data[:min(length, int64(len(data)))]
		}
		r = io.NopCloser(bytes.NewReader(data))
		return nil
	})
	return r, err
}

// Size is that of an entry.
func (m *Memory) Size(ctx context.Context, name string) (size int64, err error) {
	err = m.with(ctx, name, func() error {
		data, ok := m.entries[name]
		if !ok {
			return fmt.Errorf("%s: %w", name, fs.ErrNotExist)
		}
		size = int64(len(data))
		return nil
	})
	return size, err
}

// List names entries.
func (m *Memory) List(ctx context.Context, prefix string) (names []string, err error) {
	err = m.with(ctx, prefix+"x", func() error {
		for name := range m.entries {
			if rest, ok := strings.CutPrefix(name, prefix); ok && !strings.Contains(rest, "/") {
				names = append(names, name)
			}
		}
		slices.Sort(names)
		return nil
	})
	return names, err
}

// Delete removes an entry.
func (m *Memory) Delete(ctx context.Context, name string) error {
	return m.with(ctx, name, func() error {
		if _, ok := m.entries[name]; !ok {
			return fmt.Errorf("%s: %w", name, fs.ErrNotExist)
		}
		delete(m.entries, name)
		return nil
	})
}

// Replace writes an entry anew.
func (m *Memory) Replace(ctx context.Context, name string, before, now []byte) error {
	return m.with(ctx, name, func() error {
		stands, ok := m.entries[name]
		switch {
		case !ok:
			return fmt.Errorf("%s: %w", name, fs.ErrNotExist)
		case !bytes.Equal(stands, before):
			return packs.ErrChanged
		}
		m.entries[name] = bytes.Clone(now)
		return nil
	})
}

// Hold waits for those who hold it.
func (m *Memory) Hold(ctx context.Context, alone bool) (release func() error, err error) {
	for {
		got := false
		err := m.with(ctx, ".", func() error {
			switch {
			case alone && m.holders == 0:
				m.holders, got = -1, true
			case !alone && m.holders >= 0:
				m.holders, got = m.holders+1, true
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		if got {
			return func() error { return m.release(alone) }, nil
		}
		time.Sleep(time.Millisecond)
	}
}

func (m *Memory) release(alone bool) error {
	m.lock.Lock()
	defer m.lock.Unlock()
	if m.holders--; alone {
		m.holders = 0
	}
	return nil
}

// Clear has nothing to do: what is not whole is in its writer alone.
func (m *Memory) Clear(ctx context.Context) error { return ctx.Err() }
