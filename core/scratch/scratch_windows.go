package scratch

import (
	"io/fs"
	"os"
)

// isOurs: each user has a folder for temporary files of their own.
func isOurs(fs.FileInfo) bool { return true }

func isAlive(process int) bool {
	found, err := os.FindProcess(process)
	if err == nil {
		_ = found.Release()
	}
	return err == nil
}
