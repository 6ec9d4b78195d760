package sftphost

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"path"
	"slices"
	"sync"
	"time"

	"wetland/core/files"
)

// TakeSteps takes renames that follow each other without waiting for an answer between them: both requests go
// in one write, and servers carry out what they are sent in its order (draft-ietf-secsh-filexfer-02, 4). None of
// these replaces anything. Files that are merely to be opened are opened many at a time. Other steps are taken one by
// one.
func (r *root) TakeSteps(ctx context.Context, steps []files.Step) (taken files.Taken, err error) {
	if areOpenings(steps) {
		return r.openAll(ctx, steps)
	}
	if !r.areRenames(steps) {
		return taken, files.ErrNoSteps
	}
	names, err := r.namesOf(ctx, steps)
	if err != nil {
		return taken, files.ErrNoSteps // one by one they say better what is wrong
	}
	if err := r.lease.check(); err != nil {
		return taken, explain("rename", names[0][0], err)
	}
	release := r.line.hold()
	results := make([]chan error, len(names))
	for i, pair := range names {
		results[i] = make(chan error, 1)
		go func() { results[i] <- r.client.Rename(pair[0], pair[1]) }()
		r.line.await(i + 1)
	}
	start := time.Now()
	if err := release(); err != nil {
		return taken, explain("rename", names[0][0], err)
	}
	for i, result := range results {
		if failed := <-result; failed != nil && err == nil && !steps[i].Anyway {
			err = explain("rename", names[i][0], failed)
		} else if err == nil {
			taken.Steps++
		}
	}
	taken.Took = time.Since(start)
	return taken, err
}

func areOpenings(steps []files.Step) bool {
	return !slices.ContainsFunc(steps, func(step files.Step) bool { return step.Do != files.DoOpen })
}

// openedTogether is how many files are opened before it is looked whether one of them could not be.
const openedTogether = 4 * together

// openAll opens files and closes them again.
func (r *root) openAll(ctx context.Context, steps []files.Step) (taken files.Taken, err error) {
	start := time.Now()
	for several := range slices.Chunk(steps, openedTogether) {
		opened, failed := each(ctx, len(several), func(i int) error {
			file, err := r.Open(ctx, several[i].Name, 0)
			if err != nil {
				return err
			}
			return file.Close()
		})
		taken.Steps += opened
		if err = failed; err != nil {
			break
		}
	}
	taken.Took = time.Since(start)
	return taken, err
}

// areRenames tells of steps each of which makes room for the next: where one fails, so do those that follow, but for
// those that are taken anyway.
func (r *root) areRenames(steps []files.Step) bool {
	room := ""
	for _, step := range steps {
		if step.Do != files.DoRename || !step.Anyway && room != "" && step.Other != room {
			return false
		}
		if !step.Anyway {
			room = step.Name
		}
	}
	return len(steps) > 1
}

func (r *root) namesOf(ctx context.Context, steps []files.Step) (names [][2]string, err error) {
	for _, step := range steps {
		from, err1 := r.below(ctx, "rename", step.Name)
		to, err2 := r.below(ctx, "rename", step.Other)
		if err := errors.Join(err1, err2); err != nil {
			return nil, err
		}
		names = append(names, [2]string{path.Clean(from), path.Clean(to)})
	}
	return names, nil
}

// line is the way to a server. Requests can be held back, to be sent together.
type line struct {
	io.WriteCloser
	turn sync.Mutex // held by whoever holds back
	lock sync.Mutex
	came *sync.Cond // something was held back
	held []byte
	back bool
	err  error
}

func newLine(to io.WriteCloser) *line {
	l := &line{WriteCloser: to}
	l.came = sync.NewCond(&l.lock)
	return l
}

func (l *line) Write(p []byte) (int, error) {
	l.lock.Lock()
	defer l.lock.Unlock()
	if l.back {
		l.held = append(l.held, p...)
		l.came.Broadcast()
		return len(p), l.err
	}
	return l.WriteCloser.Write(p)
}

// Close ends the waiting for requests, too.
func (l *line) Close() error {
	l.lock.Lock()
	l.err = io.ErrClosedPipe
	l.came.Broadcast()
	l.lock.Unlock()
	return l.WriteCloser.Close()
}

// hold holds back what is sent, until release sends all of it in one write.
func (l *line) hold() (release func() error) {
	l.turn.Lock()
	l.lock.Lock()
	l.back = true
	l.lock.Unlock()
	return func() error {
		defer l.turn.Unlock()
		l.lock.Lock()
		defer l.lock.Unlock()
		held := l.held
		l.held, l.back = nil, false
		_, err := l.WriteCloser.Write(held)
		return err
	}
}

// renameRequest is SSH_FXP_RENAME.
const renameRequest = 18

// await waits until so many requests to rename are held back whole.
func (l *line) await(count int) {
	l.lock.Lock()
	defer l.lock.Unlock()
	for l.err == nil && renames(l.held) < count {
		l.came.Wait()
	}
}

// renames counts the requests to rename in what is to be sent: each begins with its length, in 4 bytes, and its
// type.
func renames(sent []byte) (count int) {
	for len(sent) >= 5 {
		length := int(binary.BigEndian.Uint32(sent))
		if len(sent) < 4+length {
			break
		}
		if sent[4] == renameRequest {
			count++
		}
		sent = sent[4+length:]
	}
	return count
}
