package files

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// What is duplicated has the same bytes and the attributes that it was to have; what fails leaves nothing.
func TestDuplicate(t *testing.T) {
	ctx, dir := t.Context(), t.TempDir()
	text := make([]byte, 3<<20)
	for i := range text {
		text[i] = byte(i * 7 / 3)
	}
	holes, err := os.Create(filepath.Join(dir, "holes"))
	if err := errors.Join(err, holes.Truncate(64<<20), holes.Close(), os.WriteFile(filepath.Join(dir, "a"), text, 0o644), os.WriteFile(filepath.Join(dir, "empty"), nil, 0o644), os.Symlink("a", filepath.Join(dir, "link")), os.Mkdir(filepath.Join(dir, "to"), 0o755)); err != nil {
		t.Fatal(err)
	}
	from, err1 := Local{}.Open(ctx, dir)
	to, err2 := Local{}.Open(ctx, filepath.Join(dir, "to"))
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	with := Attributes{Mode: 0o640, Owner: Unowned, Group: Unowned, Modified: time.Unix(1_700_000_000, 0)}
	for name, want := range map[string][]byte{"a": text, "empty": nil} {
		if err := Duplicate(ctx, from, name, to, name, with); err != nil {
			t.Fatal(err)
		}
		made := filepath.Join(dir, "to", name)
		got, err := os.ReadFile(made)
		info, statErr := os.Stat(made)
		if err := errors.Join(err, statErr); err != nil {
			t.Fatal(err)
		}
		if string(got) != string(want) || info.Mode() != 0o640 || !info.ModTime().Equal(with.Modified) {
			t.Errorf("%s: %d bytes, %v", name, len(got), info)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "to", "a"), []byte("ours"), 0o640); err != nil { // which the first does not share
		t.Fatal(err)
	}
	if now, err := os.ReadFile(filepath.Join(dir, "a")); err != nil || string(now) != string(text) {
		t.Errorf("what was duplicated changed: %v", err)
	}
	ended, cancel := context.WithCancel(ctx)
	cancel()
	for name, one := range map[string]struct {
		err, want error
	}{
		"holes":         {Duplicate(ctx, from, "holes", to, "h", with), errors.ErrUnsupported},
		"a link":        {Duplicate(ctx, from, "link", to, "l", with), nil},
		"what is there": {Duplicate(ctx, from, "a", to, "a", with), fs.ErrExist},
		"nothing":       {Duplicate(ctx, from, "none", to, "n", with), fs.ErrNotExist},
		"an end":        {Duplicate(ended, from, "a", to, "e", with), context.Canceled},
	} {
		if one.err == nil || one.want != nil && !errors.Is(one.err, one.want) {
			t.Errorf("%s: %v", name, one.err)
		}
	}
	for _, name := range []string{"h", "l", "n", "e"} {
		if _, err := os.Lstat(filepath.Join(dir, "to", name)); err == nil {
			t.Errorf("%s was left", name)
		}
	}
}
