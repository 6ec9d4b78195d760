package files_test

import (
	"path/filepath"
	"testing"

	"wetland/core/files"
	"wetland/core/files/filestest"
)

func TestLocalPartByPart(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	files.WithoutOpenat2(func() { filestest.TestDisk(t, files.Local{}, dir, files.TimeGrain) })
}
