package remote

import (
	"errors"
	"io"
	"os"
	"os/exec"
	"syscall"
	"testing"
	"time"

	"wetland/core/boundary"
	"wetland/core/files"
	"wetland/core/host"
	"wetland/internal/testenv"
)

// ownHelper starts a helper in a process of its own, and speaks to it.
func ownHelper(t *testing.T) (*Host, *exec.Cmd) {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	command := exec.Command(self, "helper")
	in, err1 := command.StdinPipe()
	out, err2 := command.StdoutPipe()
	if err := errors.Join(err1, err2, command.Start()); err != nil {
		t.Fatal(err)
	}
	h, err := Dial(t.Context(), pipes{out, in}, "ferry.example", boundary.Site{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = h.Close()
		_ = command.Process.Kill()
		_ = command.Wait()
	})
	return h, command
}

type pipes struct {
	io.Reader
	io.WriteCloser
}

func folderOn(t *testing.T, h host.Host, folder string) files.FS {
	t.Helper()
	opened, err := h.Open(t.Context(), folder)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = opened.Close() })
	return opened
}

// A helper that is frozen while it holds the lock is ended by the next one, and what it was asked for
// meanwhile is never done.
func TestFrozenHelperIsEnded(t *testing.T) {
	folder := t.TempDir()
	first, process := ownHelper(t)
	opened := folderOn(t, first, folder)
	if _, err := files.Lock(t.Context(), opened, ".", nil); err != nil {
		t.Fatal(err)
	}
	if err := process.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	asked := make(chan error, 1)
	go func() {
		asked <- opened.Mkdir(t.Context(), "late", files.Attributes{Mode: 0o755, Owner: files.Unowned, Group: files.Unowned})
	}()
	sign, err := signOf(process.Process.Pid)
	if err != nil {
		t.Fatal(err)
	}
	old := time.Now().Add(-2 * ghostAfter) // rather than wait for it
	if err := os.Chtimes(sign, old, old); err != nil {
		t.Fatal(err)
	}
	second, _ := ownHelper(t)
	unlock, err := files.Lock(t.Context(), folderOn(t, second, folder), ".", nil)
	if err != nil {
		t.Fatalf("the lock of a frozen helper: %v", err)
	}
	_ = process.Process.Signal(syscall.SIGCONT)
	if err := <-asked; err == nil {
		t.Error("what was asked of a ghost was done")
	}
	if _, err := os.Stat(folder + "/late"); err == nil {
		t.Error("a ghost went on")
	}
	if err := unlock(); err != nil {
		t.Error(err)
	}
}

// A helper that is alive keeps its lock: the next one is told so, and no one is ended.
func TestLivingHelperKeepsItsLock(t *testing.T) {
	folder := t.TempDir()
	first, process := ownHelper(t)
	opened := folderOn(t, first, folder)
	if _, err := files.Lock(t.Context(), opened, ".", nil); err != nil {
		t.Fatal(err)
	}
	second, _ := ownHelper(t)
	var held *files.LockedError
	if _, err := files.Lock(t.Context(), folderOn(t, second, folder), ".", nil); !errors.Is(err, files.ErrLocked) {
		t.Errorf("%v %v", err, held)
	}
	if _, err := opened.Lstat(t.Context(), "."); err != nil || process.ProcessState != nil {
		t.Errorf("the first one: %v", err)
	}
	own := folderOn(t, host.Here, folder)
	if _, err := files.Lock(t.Context(), own, ".", nil); !errors.Is(err, files.ErrLocked) {
		t.Errorf("on the machine itself: %v", err)
	}
}

// The lock of a line that ended is free only when nothing that was asked for is under way any more.
func TestLockOutlivesWhatIsUnderWay(t *testing.T) {
	folder := t.TempDir()
	h, _ := ownHelper(t)
	opened := folderOn(t, h, folder)
	if _, err := files.Lock(t.Context(), opened, ".", nil); err != nil {
		t.Fatal(err)
	}
	for i := range 200 { // some of it is under way when the line ends
		go func() {
			_ = opened.Mkdir(t.Context(), "folder-"+time.Duration(i).String(), files.Attributes{Mode: 0o755, Owner: files.Unowned, Group: files.Unowned})
		}()
	}
	_ = h.Close()
	own := folderOn(t, host.Here, folder)
	err := testenv.Until(func() error {
		_, err := files.Lock(t.Context(), own, ".", nil)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	before, err := os.ReadDir(folder)
	if err != nil {
		t.Fatal(err)
	}
	for range 20 {
		time.Sleep(10 * time.Millisecond)
		after, err := os.ReadDir(folder)
		if err != nil || len(after) != len(before) {
			t.Fatalf("%d folders, then %d: %v", len(before), len(after), err)
		}
	}
}
