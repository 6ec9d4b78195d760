// Package scratch makes folders for temporary files, and takes away those of processes that died. Begin reading at
// Folder.
package scratch

import (
	"fmt"
	"os"
	"path/filepath"
	"time"
)

// pattern begins the names of folders for temporary files: with the number of the process whose they are.
const pattern = "wetland-%d-"

// abandoned is how old a scratch folder must be, too, before it is taken for that of a process which died: in a
// container, the numbers of others mean nothing.
const abandoned = 24 * time.Hour

// Folder makes one. Remove it when done.
func Folder() (dir string, err error) {
	sweep(os.TempDir(), time.Now())
	return os.MkdirTemp("", fmt.Sprintf(pattern, os.Getpid())+"*")
}

// sweep takes away what it can: the rest is no reason to do without a folder.
func sweep(in string, now time.Time) {
	found, _ := filepath.Glob(filepath.Join(in, "wetland-*"))
	for _, folder := range found {
		var process int
		info, err := os.Lstat(folder)
		if _, failed := fmt.Sscanf(filepath.Base(folder), pattern, &process); failed != nil || err != nil {
			continue
		}
		if info.IsDir() && now.Sub(info.ModTime()) > abandoned && isOurs(info) && !isAlive(process) {
			_ = os.RemoveAll(folder)
		}
	}
}
