package deploy

import (
	"testing"
	"time"

	"wetland/core/files"
)

func TestNewTreeGetsOwnersModesAndAFreshTime(t *testing.T) {
	later := time.Now().Add(24 * time.Hour)
	old := files.Tree{
		{Path: ".", Kind: files.Folder, Mode: 0o2775, Owner: 5, Group: 6},
		{Path: "a.php", Kind: files.File, Mode: 0o640, Owner: 5, Group: 6, Modified: later},
		{Path: "b.php", Kind: files.File, Mode: 0o640, Owner: 5, Group: 6},
		{Path: "run.sh", Kind: files.File, Mode: 0o755, Owner: 7, Group: 8},
	}
	new := files.Tree{{Path: ".", Kind: files.Folder}, {Path: "a.php", Kind: files.File}, {Path: "css", Kind: files.Folder}, {Path: "new.php", Kind: files.File}, {Path: "run.sh", Kind: files.File}}
	for i, want := range []files.Item{{Mode: 0o2775, Owner: 5}, {Mode: 0o640, Owner: 5}, {Mode: 0o2775, Owner: 5}, {Mode: 0o640, Owner: 5}, {Mode: 0o755, Owner: 7}} {
		got := likeLive(new, old, time.Now())[i]
		if got.Mode != want.Mode || got.Owner != want.Owner || !got.Modified.After(later) {
			t.Errorf("%s: mode %04o, owner %d, %s", got.Path, got.Mode, got.Owner, got.Modified)
		}
	}
}
