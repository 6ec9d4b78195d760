package testenv

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// Terminal is a pseudo terminal with a program in it, and a person who types.
type Terminal struct {
	master  *os.File
	command *exec.Cmd
	mu      sync.Mutex
	shown   bytes.Buffer
	ended   chan struct{}
}

// OnTerminal starts the command on a terminal of its own: man 4 ptmx.
func OnTerminal(t testing.TB, command *exec.Cmd) *Terminal {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	number, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	if err != nil {
		t.Fatal(err)
	}
	if err := unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0); err != nil {
		t.Fatal(err)
	}
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", number), os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	command.Stdin, command.Stdout, command.Stderr = slave, slave, slave
	command.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	_ = slave.Close() // the program has its own
	terminal := &Terminal{master: master, command: command, ended: make(chan struct{})}
	go terminal.read()
	return terminal
}

func (p *Terminal) read() {
	defer close(p.ended)
	buffer := make([]byte, 4096)
	for {
		n, err := p.master.Read(buffer)
		p.mu.Lock()
		p.shown.Write(buffer[:n])
		p.mu.Unlock()
		if err != nil {
			return // the program has closed its end
		}
	}
}

// Shown is all that the terminal showed so far.
func (p *Terminal) Shown() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.shown.String()
}

// Answer waits until the question stands there and nothing typed is shown any more
// if hidden is true, then types the answer and Enter.
func (p *Terminal) Answer(t testing.TB, question, answer string, hidden bool) {
	t.Helper()
	for !strings.Contains(p.Shown(), question) || (hidden && p.echoes(t)) {
		select {
		case <-p.ended:
			t.Fatalf("it ended without asking %q:\n%s", question, p.Shown())
		case <-time.After(5 * time.Millisecond):
		}
	}
	if _, err := p.master.WriteString(answer + "\r"); err != nil {
		t.Fatal(err)
	}
}

func (p *Terminal) echoes(t testing.TB) bool {
	t.Helper()
	state, err := unix.IoctlGetTermios(int(p.master.Fd()), unix.TCGETS)
	if err != nil {
		t.Fatal(err)
	}
	return state.Lflag&unix.ECHO != 0
}

// Wait returns how the program ended and all that was shown.
func (p *Terminal) Wait() (code int, shown string) {
	_ = p.command.Wait() // the exit code says it
	<-p.ended
	_ = p.master.Close()
	return p.command.ProcessState.ExitCode(), p.Shown()
}
