package sftphost

import (
	"context"
	"errors"
	"io"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"
)

// Servers may give less than was asked for (draft-ietf-secsh-filexfer-02, 6.4), and some never give as much as we
// ask for. The client's own reads of more than one piece take that for the end of a file; those of one piece go on
// until they have all of it.

// piece is how many bytes one question asks for: the most that every server must take.
const piece = 32 << 10

// reading is a file that is read, from its beginning or wherever.
type reading struct {
	opened
	at int64
}

func (f *reading) Read(p []byte) (int, error) {
	n, err := readAt(f.ctx, f.file, p, f.at)
	f.at += int64(n)
	if err != nil && !errors.Is(err, io.EOF) {
		err = explain("read", f.name, err)
	}
	return n, err
}

func (f *reading) Close() error { return f.file.Close() }

// readAt reads all pieces of p at the same time. n bytes are read whatever the error; the end of the file is an
// io.EOF.
func readAt(ctx context.Context, file *sftp.File, p []byte, at int64) (n int, err error) {
	read := make([]int, (len(p)+piece-1)/piece)
	first, err := each(ctx, len(read), func(i int) (err error) {
		from := i * piece
		read[i], err = file.ReadAt(p[from:min(from+piece, len(p))], at+int64(from))
		return err
	})
	for _, of := range read[:min(first+1, len(read))] { // the one that failed has the last bytes
		n += of
	}
	return n, err
}

// each does so many things, many at a time, and returns the first one that failed, in their order; n where none did.
func each(ctx context.Context, n int, do func(i int) error) (first int, err error) {
	failed := make([]error, n)
	var group errgroup.Group
	group.SetLimit(together)
	for i := range n {
		group.Go(func() error {
			if failed[i] = ctx.Err(); failed[i] == nil {
				failed[i] = do(i)
			}
			return nil
		})
	}
	_ = group.Wait() // each has its own
	for i, err := range failed {
		if err != nil {
			return i, err
		}
	}
	return n, nil
}
