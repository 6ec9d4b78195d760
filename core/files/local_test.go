package files_test

import (
	"os"
	"path/filepath"
	"testing"

	"wetland/core/files"
	"wetland/core/files/filestest"
)

func TestLocal(t *testing.T) {
	if os.Getenv("WETLAND_TORTURE") != "" {
		filestest.Rounds = 5000
	}
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	filestest.TestDisk(t, files.Local{}, dir, files.TimeGrain)
}
