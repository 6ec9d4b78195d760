package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/demo/sshd"
	"wetland/internal/testenv"
)

// serving are the processes of a server that was started, beside the one that listens.
func serving(account *sshd.Account) (all []int) {
	children := map[int][]int{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, stat := range stats {
		process, _ := strconv.Atoi(strings.Split(stat, "/")[2])
		parent := parentOf(process)
		children[parent] = append(children[parent], process)
	}
	for next := []int{account.Process()}; len(next) > 0; next = next[1:] {
		all = append(all, children[next[0]]...)
		next = append(next, children[next[0]]...)
	}
	return all
}

// partedFiles are the ways in which an update by SFTP is parted from its site. What a frozen server was sent is
// beyond reach, and is not tried.
var partedFiles = []struct {
	name  string
	own   bool // the account is nobody else's
	part  func(account *sshd.Account, line *testenv.Line, command *exec.Cmd)
	after func(line *testenv.Line, command *exec.Cmd)
}{
	{"the client is killed", false, func(_ *sshd.Account, _ *testenv.Line, c *exec.Cmd) { signalAll(c, syscall.SIGKILL) }, nil},
	{"the server is killed", true, func(account *sshd.Account, _ *testenv.Line, _ *exec.Cmd) {
		for _, process := range serving(account) {
			_ = syscall.Kill(process, syscall.SIGKILL)
		}
	}, nil},
	{"the line is cut", false, func(_ *sshd.Account, line *testenv.Line, _ *exec.Cmd) { line.Cut() }, nil},
	{"the client is frozen", false, func(_ *sshd.Account, _ *testenv.Line, c *exec.Cmd) { signalAll(c, syscall.SIGSTOP) },
		func(_ *testenv.Line, c *exec.Cmd) { signalAll(c, syscall.SIGCONT) }},
}

// By SFTP, too, an update may be parted from its site at any moment: from another desk the run is settled once
// nobody can be at work, and a client that thaws later changes nothing any more.
func TestPartedFromFiles(t *testing.T) {
	testenv.TakesLong(t)
	t.Parallel()
	account := testenv.StartFilesAccount(t, "MaxStartups 1000")
	random := rand.New(rand.NewPCG(11, uint64(sampled(20))))
	rounds := 100
	if sampled(2) > 1 {
		rounds = 2
	}
	for i := range rounds {
		how, entries, moment := random.IntN(len(partedFiles)), 1+random.IntN(12), time.Duration(random.IntN(40))*time.Millisecond
		if rounds < len(partedFiles) {
			how = []int{0, 3}[i]
		}
		t.Run(fmt.Sprintf("%d %s after %d entries", i, partedFiles[how].name, entries), func(t *testing.T) {
			t.Parallel() // most of the time is waited
			partFiles(t, account, how, entries, moment)
		})
	}
}

func partFiles(t *testing.T, shared *sshd.Account, how, entries int, moment time.Duration) {
	account := shared
	if partedFiles[how].own {
		account = testenv.StartFilesAccount(t)
	}
	reachBySSH(t, account)
	f := layOut(t)
	line := testenv.StartLine(t, account.Address(), 2*time.Millisecond, 0)
	f.run(t, "adopt", account.By(line.Address, f.root), "--address", f.address, "--no-browser").want(t, 4, "files are moved by SFTP")
	theme := filepath.Join(f.root, "themes/harbourlight")
	may := []files.Tree{tree(t, theme), packageTree(t, "harbourlight-2.5.2")}
	f.run(t, "snapshot", "--without-database").want(t, 0)

	var said bytes.Buffer
	command := wetlandCommand(t, "update", f.pkg("harbourlight-2.5.2"), "--without-database")
	command.Dir, command.Stdout, command.Stderr = f.care, &said, &said
	ended, over := (&victim{workspace: f.care}).startUntil(t, command, entries)
	time.Sleep(moment)
	partedFiles[how].part(account, line, command)
	frozen := partedFiles[how].after != nil
	if !frozen && !over {
		<-ended // it finds that the line is gone, and says so
	}
	other := otherDesk(t, f.care)
	r := wetland(t, other, "recover")
	if !slices.Contains([]int{0, 3, 4}, r.code) && !(r.code == 1 && strings.Contains(r.err, "othing to recover")) {
		t.Fatalf("recover: %s\nthe update said:\n%s", r, &said)
	}
	now := tree(t, theme)
	if !slices.ContainsFunc(may, func(one files.Tree) bool { return len(files.Content.Compare(one, now)) == 0 }) {
		t.Fatalf("the theme is a mixture of versions: %s", r)
	}
	settled := f.siteTree(t)
	if frozen {
		partedFiles[how].after(line, command)
		if !over {
			<-ended
		}
	}
	must(t, testenv.Until(func() error {
		if _, err := os.Lstat(filepath.Join(f.root, ".wetland-lock")); !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("the lock is still there: %v", err)
		}
		return nil
	}))
	same(t, settled, f.siteTree(t))
	nothingLeft(t, f.root)
	wetland(t, other, "smoke").want(t, 0, "Sound.")
	wetland(t, other, "restore", "snap-1", "--yes").want(t, 0)
}
