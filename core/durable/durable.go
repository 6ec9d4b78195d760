// Package durable makes what was written safe against a loss of power. Whoever relies on a
// file or a name calls it first: an error means that it may be gone after the next crash, and
// the work stops.
package durable

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// Fsync is the system's call, fsync(2). Tests put one in its place that fails.
var Fsync = (*os.File).Sync

// Sync makes the bytes of a file safe. Every error counts: after one the system may have
// thrown away what was not written yet, and says so only once.
func Sync(file *os.File) error {
	if err := Fsync(file); err != nil {
		return fmt.Errorf("make it safe on disk: %w", err)
	}
	return nil
}

// SyncNames makes the names in an open folder safe. Some file systems cannot sync folders,
// and say so (EINVAL, ENOTSUP): there the names are as safe as they can be. Every other error
// counts.
func SyncNames(folder *os.File) error {
	if err := Fsync(folder); err != nil && !cannotSyncFolders(err) {
		return fmt.Errorf("make the names in it safe on disk: %w", err)
	}
	return nil
}

// SyncFolder is SyncNames for the folder of that name.
func SyncFolder(dir string) error {
	if !foldersAreSynced {
		return nil
	}
	folder, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(SyncNames(folder), folder.Close())
}

// MkdirAll makes a folder and those above it that are missing, for their owner alone, and
// makes their names safe.
func MkdirAll(dir string) error {
	switch info, err := os.Stat(dir); {
	case err == nil && info.IsDir():
		return nil
	case err == nil:
		return fmt.Errorf("%s is a file, not a folder", dir)
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if err := MkdirAll(filepath.Dir(dir)); err != nil {
		return err
	}
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return SyncFolder(filepath.Dir(dir))
}

// WriteFile replaces a file as a whole: after a crash it has the old content or the new.
// Several processes may do so at once; the last one wins. Only its owner can read it.
func WriteFile(name string, content []byte) error {
	part, err := os.CreateTemp(filepath.Dir(name), filepath.Base(name)+".*.part")
	if err != nil {
		return err
	}
	_, err = part.Write(content)
	if err := errors.Join(err, Sync(part), part.Close()); err != nil {
		return errors.Join(err, os.Remove(part.Name()))
	}
	if err := os.Rename(part.Name(), name); err != nil {
		return errors.Join(err, os.Remove(part.Name()))
	}
	return SyncFolder(filepath.Dir(name))
}
