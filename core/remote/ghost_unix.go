//go:build unix

package remote

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"wetland/core/files"
)

// A helper whose line was cut without a word ends when it has heard nothing for a while. One that is
// frozen does not, and keeps its lock: it is a ghost, which would go on with what was asked of it once
// it thaws. So each helper leaves a sign of life where its user alone can, and whoever finds a lock
// held by a helper without one ends that process first. Then, and not before, the lock is free, and
// nothing of what the ghost was asked for can be done any more.

// heart is the sign of life of this process.
type heart struct {
	file string
	last atomic.Int64 // in nanoseconds
}

func signOf(process int) (string, error) {
	place, err := files.OwnPlace()
	if err != nil {
		return "", err
	}
	return filepath.Join(place, fmt.Sprintf("helper-%d", process)), nil
}

// newHeart begins to give signs. Where there is no place for them none are given.
func newHeart() *heart {
	file, err := signOf(os.Getpid())
	if err != nil || os.WriteFile(file, nil, 0o600) != nil {
		return &heart{}
	}
	h := &heart{file: file}
	h.beat()
	return h
}

// beat gives a sign, at most once a second.
func (h *heart) beat() {
	now, last := time.Now(), h.last.Load()
	if h.file == "" || now.UnixNano()-last < int64(time.Second) || !h.last.CompareAndSwap(last, now.UnixNano()) {
		return
	}
	_ = os.Chtimes(h.file, now, now)
}

func (h *heart) stop() {
	if h.file != "" {
		_ = os.Remove(h.file)
	}
}

// Whoever hears nothing ends after 15 s (wire.Options), and a desk asks every 5 s: so long after the
// last sign, a helper is frozen.
const ghostAfter = 20 * time.Second

// lock takes a folder. It waits while a helper that may be dead or frozen holds it, and ends one that
// is. One sign more than was there is no sign of life yet: what was still on the line when it broke may
// come late.
func lock(ctx context.Context, fsys files.FS, name string, counts func(user int) bool) (func() error, error) {
	var first time.Time
	late := false
	for {
		unlock, err := files.Lock(ctx, fsys, name, counts)
		var held *files.LockedError
		if err == nil || !errors.As(err, &held) || !isHelper(held.Process) {
			return unlock, err
		}
		sign, signErr := lastSign(held.Process)
		switch {
		case signErr != nil:
			return nil, err
		case first.IsZero():
			first = sign
		case !sign.Equal(first) && late:
			return nil, err // it is alive
		case !sign.Equal(first):
			first, late = sign, true
		}
		if time.Since(sign) > ghostAfter {
			if err := unix.Kill(held.Process, unix.SIGKILL); err != nil {
				return nil, fmt.Errorf("end the helper that holds the lock and gives no sign of life (process %d): %w", held.Process, err)
			}
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

func lastSign(process int) (time.Time, error) {
	file, err := signOf(process)
	if err != nil {
		return time.Time{}, err
	}
	info, err := os.Lstat(file)
	if err != nil {
		return time.Time{}, err
	}
	return info.ModTime(), nil
}

// isHelper tells whether a process runs a program of this one's name.
func isHelper(process int) bool {
	own, err1 := os.Executable()
	its, err2 := os.Readlink(fmt.Sprintf("/proc/%d/exe", process))
	return err1 == nil && err2 == nil && process != os.Getpid() && filepath.Base(strings.TrimSuffix(its, " (deleted)")) == filepath.Base(own)
}
