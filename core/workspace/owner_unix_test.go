//go:build unix

package workspace

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What others own or may write is not obeyed.
func TestWhose(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, ConfigName)
	if err := os.WriteFile(file, []byte(strings.Split(paged, "# The pages")[0]), 0o600); err != nil {
		t.Fatal(err)
	}
	me, mine := os.Geteuid(), os.Getegid()
	for _, c := range []struct {
		name        string
		mode        os.FileMode
		user, group int
		want        string
	}{
		{"mine", 0o600, me, mine, ""},
		{"mine, to be read by all", 0o644, me, mine, ""},
		{"mine, my group may write", 0o664, me, mine, ""},
		{"everybody may write", 0o602, me, mine, "everybody on this machine can write there"},
		{"another group may write", 0o660, me, mine + 1, "can write there, and is not your own"},
	} {
		if err := os.Chmod(file, c.mode); err != nil {
			t.Fatal(err)
		}
		info, err := os.Stat(file)
		if err != nil {
			t.Fatal(err)
		}
		if problem, _ := whose(info, c.user, c.group); (c.want == "") != (problem == "") || !strings.Contains(problem, c.want) {
			t.Errorf("%s: %q, want %q", c.name, problem, c.want)
		}
	}
	if err := os.Chmod(file, 0o666); err != nil {
		t.Fatal(err)
	}
	if _, err := Load(dir, OnlyHere); err == nil || !strings.Contains(err.Error(), "chmod o-w") {
		t.Errorf("it is obeyed: %v", err)
	}
	if err := os.Chmod(file, 0o600); err != nil {
		t.Fatal(err)
	}
	if me != 0 { // only root can give files away
		return
	}
	for _, name := range []string{dir, file} {
		if err := os.Chown(name, 65534, 65534); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := Load(dir, OnlyHere); err == nil || strings.Count(err.Error(), "you run Wetland as root") != 1 {
		t.Errorf("another's settings are obeyed: %v", err)
	}
}
