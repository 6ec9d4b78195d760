package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/demo/sshd"
	"wetland/internal/testenv"
)

// parted is a site on another machine whose update is interrupted somewhere on the way.
type parted struct {
	*victim
	ferry   *ferry
	account *sshd.Account
	line    *testenv.Line
}

// helpers are the processes of the helper that serve the account.
func (p *parted) helpers() (all []int) {
	programs, _ := filepath.Glob("/proc/[0-9]*/exe")
	for _, program := range programs {
		leads, err := os.Readlink(program)
		if err != nil || !strings.HasPrefix(leads, p.account.Cache+"/") {
			continue
		}
		if process, err := strconv.Atoi(strings.Split(program, "/")[2]); err == nil {
			all = append(all, process)
		}
	}
	return all
}

func parentOf(process int) (parent int) {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", process))
	_, rest, _ := strings.Cut(string(text), ") ")
	_, _ = fmt.Sscanf(rest, "%*s %d", &parent)
	if fields := strings.Fields(rest); len(fields) > 1 {
		parent, _ = strconv.Atoi(fields[1])
	}
	return parent
}

// signalHelpers sends a signal to the helpers, or to the processes of the server that started them.
func (p *parted) signalHelpers(signal syscall.Signal, server bool) {
	for _, process := range p.helpers() {
		if server {
			process = parentOf(process)
		}
		if process > 1 {
			_ = syscall.Kill(process, signal)
		}
	}
}

// partings are the ways in which the update is parted from its site; after lets go on what was frozen.
var partings = []struct {
	name  string
	part  func(p *parted, command *exec.Cmd)
	after func(p *parted, command *exec.Cmd)
}{
	{"the client is killed", func(_ *parted, c *exec.Cmd) { signalAll(c, syscall.SIGKILL) }, nil},
	{"the helper is killed", func(p *parted, _ *exec.Cmd) { p.signalHelpers(syscall.SIGKILL, false) }, nil},
	{"the server is killed", func(p *parted, _ *exec.Cmd) { p.signalHelpers(syscall.SIGKILL, true) }, nil},
	{"the line is cut", func(p *parted, _ *exec.Cmd) { p.line.Cut() }, nil},
	{"the helper is frozen", func(p *parted, c *exec.Cmd) {
		p.signalHelpers(syscall.SIGSTOP, false)
		signalAll(c, syscall.SIGKILL)
	}, func(p *parted, _ *exec.Cmd) { p.signalHelpers(syscall.SIGCONT, false) }},
	{"the line is frozen", func(p *parted, c *exec.Cmd) { p.line.Freeze(); signalAll(c, syscall.SIGKILL) }, func(p *parted, _ *exec.Cmd) { p.line.Thaw() }},
	{"the client is frozen", func(p *parted, c *exec.Cmd) { signalAll(c, syscall.SIGSTOP) }, func(_ *parted, c *exec.Cmd) { signalAll(c, syscall.SIGCONT) }},
}

// A line, and what stands at either end of it, may be cut, killed or frozen at any moment: from
// another desk the run is settled, and what thaws later changes nothing any more.
func TestPartedFromTheSite(t *testing.T) {
	testenv.TakesLong(t)
	t.Parallel()
	account := testenv.StartSSHAccount(t)
	reachBySSH(t, account)
	f := layOut(t)
	p := &parted{ferry: f, account: account, line: testenv.StartLine(t, account.Address(), 2*time.Millisecond, 0)}
	f.run(t, "adopt", account.By(p.line.Address, f.root), "--address", f.address, "--no-browser").want(t, 0)
	theme := filepath.Join(f.root, "themes/harbourlight")
	p.victim = newVictim(t, f.care, []string{theme}, map[string]files.Tree{theme: packageTree(t, "harbourlight-2.5.2")}, map[string]files.Tree{theme: packageTree(t, "harbourlight-2.5.0")})
	random := rand.New(rand.NewPCG(7, uint64(sampled(20))))
	rounds := 1
	if sampled(2) == 1 {
		rounds = 15
	}
	for range rounds {
		for i := range partings {
			pkg := []string{"harbourlight-2.5.2", "harbourlight-2.5.0"}[random.IntN(2)]
			entries := 1 + random.IntN(12)
			name := fmt.Sprintf("%s after %d entries of %s", partings[i].name, entries, pkg)
			if !t.Run(name, func(t *testing.T) {
				p.partAt(t, i, entries, time.Duration(random.IntN(40))*time.Millisecond, f.pkg(pkg))
			}) {
				return
			}
		}
	}
}

// startUntil starts an update, and returns once its journal has so many entries, or it is over.
func (v *victim) startUntil(t *testing.T, command *exec.Cmd, entries int) (ended chan error, over bool) {
	t.Helper()
	inGroup(command)
	before, _ := filepath.Glob(filepath.Join(v.workspace, "runs/run-*"))
	must(t, command.Start())
	ended = make(chan error, 1)
	go func() { ended <- command.Wait() }()
	for {
		select {
		case <-ended:
			return ended, true
		case <-time.After(time.Millisecond):
		}
		now, _ := filepath.Glob(filepath.Join(v.workspace, "runs/run-*"))
		if len(now) > len(before) && len(v.journal()) >= entries {
			return ended, false
		}
	}
}

// otherDesk is the workspace on another desk.
func otherDesk(t *testing.T, workspace string) string {
	t.Helper()
	other := filepath.Join(t.TempDir(), "care")
	must(t, os.CopyFS(other, os.DirFS(workspace)), os.Chmod(filepath.Join(other, "wetland.toml"), 0o600), os.Chmod(other, 0o700))
	return other
}

// partAt begins an update, parts it from its site after so many entries of its journal, settles it
// from another desk, and lets go on what was frozen.
func (p *parted) partAt(t *testing.T, how, entries int, moment time.Duration, pkg string) {
	var said bytes.Buffer
	command := wetlandCommand(t, "update", pkg)
	command.Dir, command.Stdout, command.Stderr = p.workspace, &said, &said
	ended, over := p.startUntil(t, command, entries)
	time.Sleep(moment)
	partings[how].part(p, command)
	frozen := partings[how].after != nil
	if !frozen && !over {
		<-ended // it finds that the line is gone, and says so
	}
	other := otherDesk(t, p.workspace)
	r := wetland(t, other, "recover")
	if r.code != 0 && !(r.code == 1 && strings.Contains(r.err, "othing to recover")) {
		t.Fatalf("recover: %s\nthe update said:\n%s", r, &said)
	}
	p.wantWhole(t)
	settled := p.ferry.siteTree(t)
	if frozen {
		partings[how].after(p, command)
		if !over {
			<-ended
		}
	}
	gone := testenv.Until(func() error {
		if left := p.helpers(); len(left) > 0 {
			return fmt.Errorf("the helpers %v are still there", left)
		}
		return nil
	})
	must(t, gone)
	same(t, settled, p.ferry.siteTree(t))
	nothingLeft(t, p.ferry.root)
	wetland(t, other, "smoke").want(t, 0, "Sound.")
	wetland(t, other, "restore", "snap-1", "--yes").want(t, 0)
	// The first desk's workspace goes on from what the other one did.
	must(t, errors.Join(os.RemoveAll(p.workspace), os.CopyFS(p.workspace, os.DirFS(other)), os.Chmod(filepath.Join(p.workspace, "wetland.toml"), 0o600), os.Chmod(p.workspace, 0o700)))
}
