package sftphost

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/files/filestest"
	"wetland/core/host/hosttest"
	"wetland/core/sshclient"
	"wetland/internal/testenv"

	"github.com/pkg/sftp"
)

func TestMain(m *testing.M) { os.Exit(testenv.Run(m)) }

// account is this machine by way of an account of OpenSSH's that lets files be moved alone, with more lines of its
// server's settings.
func account(t *testing.T, more ...string) *Host {
	t.Helper()
	server := testenv.StartSSH(t, append([]string{"ForceCommand internal-sftp", "MaxSessions 1"}, more...)...)
	home := t.TempDir()
	key := testenv.MakeSSHKey(t, home, "key", "")
	server.Allow(t, key)
	config, known := filepath.Join(home, "config"), filepath.Join(home, "known")
	for file, text := range map[string]string{known: server.KnownLine(t), config: "Host *\n  IdentityFile " + key + "\n  UserKnownHostsFile " + known + "\n"} {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	client, err := sshclient.Connect(t.Context(), sshclient.Destination{User: server.User, Host: "127.0.0.1", Port: server.Port}, sshclient.Options{Files: sshclient.Files{Home: home, Configs: []string{config}}})
	if err != nil {
		t.Fatal(err)
	}
	h, err := On(t.Context(), client, "sftp://127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = h.Close() })
	return h
}

// counting counts what is sent.
type counting struct {
	io.ReadWriteCloser
	writes atomic.Int64
}

func (c *counting) Write(p []byte) (int, error) {
	c.writes.Add(1)
	return c.ReadWriteCloser.Write(p)
}

// served is the line to another server on this machine: it has other words beyond those of the protocol than
// OpenSSH's, and may answer in another order than it was asked.
func served(t *testing.T) net.Conn {
	t.Helper()
	here, there := net.Pipe()
	server, err := sftp.NewServer(there)
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve() }()
	t.Cleanup(func() {
		_ = here.Close()
		<-ended
	})
	return here
}

// other is this machine's disk by way of that server.
func other(t *testing.T) (*Disk, *counting) {
	t.Helper()
	line := &counting{ReadWriteCloser: served(t)}
	d, err := NewDisk(line)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = d.Close() })
	return d, line
}

func TestOtherServer(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	d, _ := other(t)
	filestest.TestDisk(t, d, dir, Grain)
}

// A folder is moved aside and another put in its place by one write.
func TestSwapIsOneWrite(t *testing.T) {
	d, line := other(t)
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err := errors.Join(err, os.Mkdir(filepath.Join(dir, "live"), 0o755), os.Mkdir(filepath.Join(dir, "new"), 0o755)); err != nil {
		t.Fatal(err)
	}
	opened, err := d.Open(t.Context(), filepath.ToSlash(dir))
	if err != nil {
		t.Fatal(err)
	}
	swap := []files.Step{{Do: files.DoRename, Name: "live", Other: "aside"}, {Do: files.DoRename, Name: "new", Other: "live"}}
	asked := line.writes.Load() // what is looked at before
	if _, err := opened.(*root).namesOf(t.Context(), swap); err != nil {
		t.Fatal(err)
	}
	asked = line.writes.Load() - asked
	before := line.writes.Load()
	if taken, err := files.TakeSteps(t.Context(), opened, swap); err != nil || taken.Steps != 2 {
		t.Fatalf("%+v %v", taken, err)
	}
	if n := line.writes.Load() - before - asked; n != 1 {
		t.Errorf("the swap took %d writes", n)
	}
}

// A database that is a file is never looked for on our own disk.
func TestNoFileOfOurs(t *testing.T) {
	all := account(t).Databases()
	file := filepath.Join(t.TempDir(), "site.sqlite")
	login := database.Login{Engine: "sqlite", File: file}
	_, err1 := all.Open(t.Context(), login, database.Everything)
	_, _, err2 := all.Scratch(t.Context(), login)
	for call, err := range map[string]error{"Open": err1, "Scratch": err2, "Create": all.Create(t.Context(), login), "SweepScratch": all.SweepScratch(t.Context(), login)} {
		if !errors.Is(err, errors.ErrUnsupported) {
			t.Errorf("%s: %v", call, err)
		}
	}
	if _, err := os.Lstat(file); err == nil {
		t.Error("it was made here")
	}
}

// All that the contracts ask of a host, where connections may be made by way of it and where they may not.
func TestHost(t *testing.T) {
	for name, more := range map[string][]string{"with connections": nil, "without": {"AllowTcpForwarding no", "AllowStreamLocalForwarding no"}} {
		t.Run(name, func(t *testing.T) {
			h := account(t, more...)
			place := hosttest.Here(t, h)
			place.Grain, place.Print, place.Fail, place.Environment = Grain, "", nil, ""
			if dials := more == nil; h.Abilities().Dial != dials {
				t.Fatalf("it is told to be able: %+v", h.Abilities())
			} else if !dials {
				place.Echo, place.Nobody = nil, nil
			}
			hosttest.TestHost(t, place)
		})
	}
}

// shortest is how much a server that cuts answers gives at a time, in bytes.
const shortest = 700

// unruly stands before a server: it gives less than was asked for, and answers in any order, as the protocol allows.
func unruly(t *testing.T, server net.Conn) net.Conn {
	t.Helper()
	here, there := net.Pipe()
	go func() {
		defer server.Close()
		for {
			question, err := packet(there)
			if err != nil {
				return
			}
			const read = 5 // SSH_FXP_READ, which ends with how much is wanted
			if last := question[len(question)-4:]; question[4] == read && binary.BigEndian.Uint32(last) > shortest {
				binary.BigEndian.PutUint32(last, shortest)
			}
			if _, err := server.Write(question); err != nil {
				return
			}
		}
	}()
	answers := make(chan []byte, 16)
	go func() {
		defer close(answers)
		for {
			answer, err := packet(server)
			if err != nil {
				return
			}
			answers <- answer
		}
	}()
	go func() {
		defer there.Close()
		for answer := range answers {
			held := [][]byte{answer}
			for len(answers) > 0 {
				held = append(held, <-answers)
			}
			rand.Shuffle(len(held), func(i, j int) { held[i], held[j] = held[j], held[i] })
			if _, err := there.Write(bytes.Join(held, nil)); err != nil {
				for range answers { // nobody hears them any more
				}
				return
			}
		}
	}()
	return here
}

// packet reads one packet with its length.
func packet(from io.Reader) ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(from, head); err != nil {
		return nil, err
	}
	whole := append(head, make([]byte, binary.BigEndian.Uint32(head))...)
	_, err := io.ReadFull(from, whole[4:])
	return whole, err
}

func TestUnrulyServer(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	d, err := NewDisk(unruly(t, served(t)))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = d.Close() })
	filestest.TestDisk(t, d, dir, Grain)
}
