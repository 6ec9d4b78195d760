package files

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/gofrs/flock"
	"golang.org/x/sys/windows"
)

const (
	hasOwners = false
	noFollow  = 0
)

func describeOwner(*Entry, fs.FileInfo) {}

func chown(string, int, int) error { return nil }

func freeSpace(name string) (uint64, error) {
	path, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return 0, err
	}
	var free uint64
	err = windows.GetDiskFreeSpaceEx(path, &free, nil, nil)
	return free, err
}

// writable asks by doing: access lists make every other answer a guess.
func writable(name string) error {
	probe, err := os.CreateTemp(name, ".wetland-*")
	if err != nil {
		return err
	}
	return errors.Join(probe.Close(), os.Remove(probe.Name()))
}

func canOwn(int, int) bool { return true }

// lockFolder locks a file in the system's folder for temporary files, named after
// the folder: a folder itself cannot be locked here.
func lockFolder(name string) (func() error, error) {
	sum := sha256.Sum256([]byte(strings.ToLower(filepath.Clean(name))))
	lock := flock.New(filepath.Join(os.TempDir(), "wetland-"+hex.EncodeToString(sum[:8])+".lock"))
	held, err := lock.TryLock()
	if err != nil {
		return nil, err
	}
	if !held {
		return nil, ErrLocked
	}
	return lock.Unlock, nil
}
