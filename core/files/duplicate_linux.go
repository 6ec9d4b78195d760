package files

import (
	"context"
	"errors"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// gains tells of a file that is not mostly holes: those would be filled.
func gains(file *os.File) bool {
	var stat unix.Stat_t
	if err := unix.Fstat(int(file.Fd()), &stat); err != nil {
		return false
	}
	return stat.Size < 1<<20 || stat.Blocks*512 >= stat.Size/2 // blocks of 512 bytes: stat(2)
}

// stretch is how many bytes are copied before it is asked whether to go on.
const stretch = 64 << 20

// duplicate has the file system share the bytes (ioctl_ficlone(2)), else copy them itself, as package os does
// from file to file (copy_file_range(2)).
func duplicate(ctx context.Context, to, from *os.File) error {
	if unix.IoctlFileClone(int(to.Fd()), int(from.Fd())) == nil {
		return nil
	}
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		_, err := io.CopyN(to, from, stretch)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
