package database

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
)

// RowCopy is a copy of a table's rows in a file, for what may be changed before they are needed. Close it when done.
type RowCopy struct {
	Digest Digest // of all of them
	file   *os.File
	size   int64
}

// CopyRows copies rows into a file in a folder. It is removed as soon as it is open, where the system can do that.
func CopyRows(ctx context.Context, dir string, rows Rows) (c *RowCopy, err error) {
	c = &RowCopy{}
	if c.file, err = os.CreateTemp(dir, ".rows-*"); err != nil {
		return nil, err
	}
	_ = os.Remove(c.file.Name()) // it stays open; where that cannot be, Close removes it
	out := bufio.NewWriter(c.file)
	err = rows(ctx, func(row Row) error {
		encoded, _ := c.Digest.Add(row)
		c.size += int64(len(encoded))
		_, err := out.Write(encoded)
		return err
	})
	if err = errors.Join(err, out.Flush()); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return c, nil
}

// Rows gives the rows that were copied. It may be called again.
func (c *RowCopy) Rows(ctx context.Context, each func(Row) error) error {
	var decoder RowDecoder
	from, buffer := io.NewSectionReader(c.file, 0, c.size), make([]byte, 256<<10)
	for {
		n, err := from.Read(buffer)
		if failed := errors.Join(decoder.Decode(buffer[:n], each), ctx.Err()); failed != nil {
			return failed
		}
		if err == io.EOF {
			return decoder.End()
		}
		if err != nil {
			return fmt.Errorf("read the copy of a table's rows: %w", err)
		}
	}
}

// Close deletes the file.
func (c *RowCopy) Close() error {
	err := c.file.Close()
	if gone := os.Remove(c.file.Name()); gone != nil && !errors.Is(gone, os.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}
