package confine

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"wetland/core/durable"
	"wetland/core/files"
	"wetland/core/host"
)

// A room is a folder for one copy, for our eyes only, below a folder of rooms.

// NewRoom makes a room, and holds it: whoever sweeps leaves it alone until leave is called, which takes it
// away, or this process ends.
func NewRoom(ctx context.Context, rooms string) (room string, leave func() error, err error) {
	if err := durable.MkdirAll(rooms); err != nil {
		return "", nil, fmt.Errorf("make the folder of the copies: %w", err)
	}
	room = filepath.Join(rooms, strings.ToLower(rand.Text()))
	if err := os.Mkdir(room, 0o700); err != nil {
		return "", nil, err
	}
	release, err := hold(ctx, room)
	if err != nil {
		return "", nil, errors.Join(err, os.Remove(room))
	}
	return room, func() error { return errors.Join(removeAll(room), release()) }, nil
}

// hold locks a folder until release is called. It is files.ErrLocked where somebody else does.
func hold(ctx context.Context, folder string) (release func() error, err error) {
	around, err := host.Here.Open(ctx, filepath.ToSlash(filepath.Dir(folder)))
	if err != nil {
		return nil, err
	}
	unlock, err := files.Lock(ctx, around, filepath.Base(folder), nil)
	if err != nil {
		return nil, errors.Join(err, around.Close())
	}
	return func() error { return errors.Join(unlock(), around.Close()) }, nil
}

// Sweep takes away the rooms that nobody holds any more: a crash left them. It returns how many, and how many
// are left.
func Sweep(ctx context.Context, rooms string) (swept, left int, err error) {
	entries, err := os.ReadDir(rooms)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, 0, nil
	}
	if err != nil {
		return 0, 0, err
	}
	for _, entry := range entries {
		folder := filepath.Join(rooms, entry.Name())
		release, held := hold(ctx, folder)
		if errors.Is(held, files.ErrLocked) {
			left++
			continue
		}
		if held != nil {
			err = errors.Join(err, held)
			continue
		}
		err = errors.Join(err, removeAll(folder), release())
		swept++
	}
	if err != nil {
		err = fmt.Errorf("take away the copy that was left in %s: %w", rooms, err)
	}
	return swept, left, err
}

// What ran in a world whose maker was killed ends at once, but not before that; it may have written meanwhile.
const (
	tries   = 100
	between = 50 * time.Millisecond
)

// removeAll takes a folder away, though something in it is just ending.
func removeAll(folder string) (err error) {
	for range tries {
		if err = removeOnce(folder); err == nil {
			return nil
		}
		time.Sleep(between)
	}
	return err
}

// removeOnce takes a folder away, though what is in it cannot be written: a site's own folders may be so.
func removeOnce(folder string) error {
	if os.RemoveAll(folder) == nil {
		return nil
	}
	_ = filepath.WalkDir(folder, func(name string, entry fs.DirEntry, err error) error {
		if err == nil && entry.IsDir() {
			_ = os.Chmod(name, 0o700)
		}
		return nil
	})
	return os.RemoveAll(folder)
}
