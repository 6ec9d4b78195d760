package scratch

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// Only what is old, of a process that is gone, is taken away.
func TestScratchOfDeadProcessesGoes(t *testing.T) {
	gone := exec.Command(os.Args[0], "-test.run", "^$")
	if err := gone.Run(); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	dead, mine := fmt.Sprintf(pattern, gone.Process.Pid)+"1", fmt.Sprintf(pattern, os.Getpid())+"1"
	for _, name := range []string{dead, mine, "wetland-12345678", "wetland-browser-7", "wetland-demo-1-2"} {
		if err := os.MkdirAll(filepath.Join(dir, name, "below"), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	left := func() int {
		names, err := filepath.Glob(dir + "/wetland-*")
		if err != nil {
			t.Fatal(err)
		}
		return len(names)
	}
	if sweep(dir, time.Now()); left() != 5 {
		t.Error("what is new was taken away")
	}
	sweep(dir, time.Now().Add(2*abandoned))
	if _, err := os.Stat(filepath.Join(dir, dead)); err == nil || left() != 4 {
		t.Errorf("%d are left, %v", left(), err)
	}
}
