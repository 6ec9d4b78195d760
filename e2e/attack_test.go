package e2e

import (
	"bytes"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"wetland/core/files/filestest"
)

// attackVariable names, for a process of this test's own program, what it is to attack: a
// pattern of folders, and where links in their place lead.
const attackVariable = "WETLAND_E2E_ATTACK"

// attackRounds is how often each command is attacked.
func attackRounds() int {
	if os.Getenv("WETLAND_TORTURE") != "" {
		return 300
	}
	return 3
}

// attack exchanges folders with links, over and over: as soon as something happens in one of
// them, and now and then besides. It ends with its process.
func attack(pattern, outside string) {
	events, err := unix.InotifyInit1(unix.IN_NONBLOCK)
	if err != nil {
		panic(err)
	}
	buffer := make([]byte, 64<<10)
	for {
		folders, _ := filepath.Glob(pattern)
		if len(folders) == 0 {
			time.Sleep(100 * time.Microsecond)
			continue
		}
		folder := folders[rand.IntN(len(folders))]
		link := filepath.Join(filepath.Dir(folder), ".link-of-"+filepath.Base(folder))
		_ = os.Symlink(outside, link)
		watch, err := unix.InotifyAddWatch(events, folder, unix.IN_CREATE|unix.IN_ATTRIB|unix.IN_DELETE|unix.IN_OPEN|unix.IN_MODIFY|unix.IN_ONLYDIR|unix.IN_DONT_FOLLOW)
		if err == nil {
			_, _ = unix.Poll([]unix.PollFd{{Fd: int32(events), Events: unix.POLLIN}}, 1+rand.IntN(5))
			_, _ = unix.InotifyRmWatch(events, uint32(watch))
			_, _ = unix.Read(events, buffer)
		}
		if unix.Renameat2(unix.AT_FDCWD, folder, unix.AT_FDCWD, link, unix.RENAME_EXCHANGE) == nil {
			fmt.Print(".")
			time.Sleep(time.Duration(rand.IntN(1500)) * time.Microsecond)
			_ = unix.Renameat2(unix.AT_FDCWD, folder, unix.AT_FDCWD, link, unix.RENAME_EXCHANGE)
		}
		_ = os.Remove(link)
	}
}

// attacked is the demo's site as a host has it: its files, and the folder around them, belong
// to another user, who attacks, while root looks after it.
type attacked struct {
	*ferry
	outside *filestest.Outside
	// exchanged counts what the attacker did: a test without it would show nothing.
	exchanged int
}

func newAttacked(t *testing.T, names ...string) *attacked {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can be led out of a site")
	}
	a := &attacked{ferry: layOut(t), outside: filestest.NewOutside(t, names...)}
	for _, name := range names {
		file := filepath.Join(a.root, "uploads/zzz", name)
		must(t, os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte("of the site"), 0o644))
	}
	give(t, ordinaryUser, filepath.Dir(a.root))
	must(t, os.Chmod(filepath.Dir(filepath.Dir(a.root)), 0o755)) // the attacker must get there
	must(t, os.Chown(a.care, 0, 0), os.Chmod(a.care, 0o700))
	t.Cleanup(func() {
		if a.exchanged == 0 {
			t.Error("nothing was exchanged")
		}
	})
	a.run(t, "adopt", a.root, "--address", a.address, "--name", "Otterby Ferry", "--no-browser").want(t, 0)
	a.run(t, "snapshot").want(t, 0)
	return a
}

// under runs the command while folders are attacked, and returns what came of it, whatever
// that is.
func (a *attacked) under(t *testing.T, pattern string, args ...string) result {
	t.Helper()
	attacker := exec.Command(attackProgram)
	attacker.Env = append(os.Environ(), attackVariable+"="+pattern+"\n"+a.outside.Dir)
	asOrdinaryUser(attacker)
	attacker.SysProcAttr.Pdeathsig = syscall.SIGKILL
	var exchanged bytes.Buffer
	attacker.Stdout = &exchanged
	must(t, attacker.Start())
	ended := a.run(t, args...)
	must(t, attacker.Process.Kill())
	_ = attacker.Wait()
	a.exchanged += exchanged.Len()
	a.outside.Untouched(t, "wetland "+strings.Join(args, " "))
	return ended
}

// settle makes the site whole again after an attack.
func (a *attacked) settle(t *testing.T) {
	t.Helper()
	must(t, filepath.WalkDir(filepath.Dir(a.root), func(name string, entry fs.DirEntry, err error) error {
		if err == nil && strings.HasPrefix(entry.Name(), ".link-of-") {
			if entry.Type()&fs.ModeSymlink == 0 { // the folder itself, exchanged when its attacker ended
				live := filepath.Join(filepath.Dir(name), strings.TrimPrefix(entry.Name(), ".link-of-"))
				_ = os.Remove(live)
				if err := os.Rename(name, live); err != nil {
					return err
				}
				return fs.SkipDir
			}
			return os.Remove(name)
		}
		return err
	}))
	a.run(t, "recover", "--to", "old")
	a.run(t, "restore", "snap-1", "--yes").want(t, 0, "Restored.")
	a.outside.Untouched(t, "settling")
}

var manyFiles = func() (names []string) {
	for n := range 12 {
		names = append(names, fmt.Sprintf("%02d.txt", n), fmt.Sprintf("d/%02d.txt", n))
	}
	return names
}()

// Whoever may write to the site exchanges its folders for links to a private one, while root
// restores, takes snapshots, updates and clears caches. Nothing outside is read, written,
// given away or deleted.
func TestNothingLeadsOutOfTheSite(t *testing.T) {
	t.Run("restore", func(t *testing.T) {
		t.Parallel()
		a := newAttacked(t, manyFiles...)
		for round := range attackRounds() {
			for i, name := range manyFiles {
				file := filepath.Join(a.root, "uploads/zzz", name)
				if (i+round)%2 == 0 {
					must(t, os.Remove(file))
				} else {
					must(t, os.WriteFile(file, []byte("changed"), 0o600))
				}
			}
			must(t, os.WriteFile(filepath.Join(a.root, "uploads/zzz/d/new.txt"), []byte("new"), 0o600), os.Chmod(filepath.Join(a.root, "uploads/zzz/d"), 0o777))
			a.under(t, filepath.Join(a.root, "uploads/zz[z]"), "restore", "snap-1", "--only", "files", "--yes")
			a.settle(t)
		}
	})
	t.Run("snapshot", func(t *testing.T) {
		t.Parallel()
		a := newAttacked(t, manyFiles...)
		for range attackRounds() {
			a.under(t, filepath.Join(a.root, "uploads/zz[z]"), "snapshot")
			a.settle(t)
		}
		for n := 2; ; n++ {
			copied := filepath.Join(t.TempDir(), "copy")
			name := fmt.Sprint("snap-", n)
			if ended := a.run(t, "restore", name, "--into", copied); ended.code != 0 {
				if n < 3 {
					t.Errorf("no snapshot was taken: %s", ended)
				}
				break
			}
			must(t, filepath.WalkDir(copied, func(file string, entry fs.DirEntry, err error) error {
				if err != nil || !entry.Type().IsRegular() {
					return err
				}
				text, err := os.ReadFile(file)
				if strings.Contains(string(text), filestest.Secret) {
					t.Errorf("%s holds %s from outside", name, file)
				}
				return err
			}))
		}
	})
	for what, pattern := range map[string]string{"update": "themes/harbourligh[t]", "staging": "../.wetland-staging-*", "parts": "themes/harbourlight/part[s]", "purge": "cache/ol[d]"} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			names := []string{"style.css", "page.html", "parts/head.html", "head.html", "index.html", "theme.toml", "assets/print.css"}
			a := newAttacked(t, names...)
			for range attackRounds() {
				for _, name := range names { // in a folder of the cache that only we empty
					file := filepath.Join(a.root, "cache/old", name)
					must(t, os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte("a page"), 0o644))
				}
				give(t, ordinaryUser, filepath.Join(a.root, "cache"))
				a.under(t, filepath.Join(a.root, pattern), "update", a.pkg("harbourlight-2.5.2"))
				a.settle(t)
			}
		})
	}
}
