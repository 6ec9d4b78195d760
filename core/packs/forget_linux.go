package packs

import (
	"context"
	"os"

	"golang.org/x/sys/unix"
)

// Forget has the next reader of a part of an entry get it from the disk. Where that cannot be, nothing is lost but
// that.
func (d DiskBytes) Forget(name string, offset, length int64) {
	at, err := d.at(context.Background(), "forget", name)
	if err != nil {
		return
	}
	file, err := os.Open(at)
	if err != nil {
		return
	}
	defer file.Close()
	_ = unix.Fadvise(int(file.Fd()), offset, length, unix.FADV_DONTNEED)
}
