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
	if len(p) <= piece {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		return file.ReadAt(p, at)
	}
	pieces := (len(p) + piece - 1) / piece
	read, failed := make([]int, pieces), make([]error, pieces)
	var group errgroup.Group
	group.SetLimit(together)
	for i := range pieces {
		group.Go(func() error {
			from := i * piece
			if failed[i] = ctx.Err(); failed[i] == nil {
				read[i], failed[i] = file.ReadAt(p[from:min(from+piece, len(p))], at+int64(from))
			}
			return nil
		})
	}
	_ = group.Wait() // each piece has its own
	for i := range pieces {
		n += read[i]
		if failed[i] != nil {
			return n, failed[i]
		}
	}
	return n, nil
}
