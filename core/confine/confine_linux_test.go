package confine

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"wetland/core/host"
	"wetland/internal/testenv"
)

// This program is the keeper, too.
func TestMain(m *testing.M) {
	if IsKeeper() {
		_ = Keep(context.Background(), os.Stdin, os.Stdout)
		return
	}
	os.Exit(testenv.Run(m))
}

// entered is a world with a folder of its own, and the machine's folder that is its root.
func entered(t *testing.T, change func(*host.World)) (on host.Host, w host.World, top string) {
	t.Helper()
	rooms, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	w = host.World{Shown: System(), User: os.Geteuid(), Group: os.Getegid(), Folders: []host.WorldFolder{{Name: "/tmp", Mode: fs.ModeSticky | 0o777}, {Name: "/site", Mode: 0o755, Own: true}}}
	if w.User == 0 {
		w.User, w.Group = 65534, 65534
	}
	if change != nil {
		change(&w)
	}
	on, top, err = Enter(t.Context(), On(rooms, nil), w)
	if errors.Is(err, host.ErrNotConfined) {
		testenv.Missing(t, fmt.Sprintf("namespaces (%v)", err))
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := on.Close(); err != nil {
			t.Error(err)
		}
		if left, err := os.ReadDir(rooms); err != nil || len(left) > 0 {
			t.Errorf("%d rooms are left, %v", len(left), err)
		}
	})
	return on, w, top
}

func sh(t *testing.T, on host.Host, script string) (string, error) {
	t.Helper()
	said, err := on.Run(t.Context(), "/bin/sh", "-c", script)
	return strings.TrimSpace(said), err
}

// asOrdinary runs the test once more as a user who is not root.
func asOrdinary(t *testing.T) {
	t.Helper()
	if os.Geteuid() != 0 {
		return
	}
	folder := t.TempDir()
	program := filepath.Join(folder, "test")
	text, err := os.ReadFile(os.Args[0])
	if err = errors.Join(err, os.WriteFile(program, text, 0o755), os.Chmod(folder, 0o777), os.Chmod(filepath.Dir(folder), 0o755)); err != nil {
		t.Fatal(err)
	}
	command := exec.Command(program, "-test.run", "^"+t.Name()+"$", "-test.v")
	command.Dir = folder
	command.Env = append(os.Environ(), "TMPDIR="+folder, "HOME="+folder)
	command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	out, err := command.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "--- PASS") {
		t.Errorf("as an ordinary user: %v\n%s", err, out)
	}
}

// needPHP skips a test whose attempts are made by PHP.
func needPHP(t *testing.T) {
	t.Helper()
	if _, err := exec.LookPath("php"); err != nil {
		testenv.Missing(t, "php")
	}
}

// Whatever is tried, nothing leaves the world.
func TestNothingLeaves(t *testing.T) {
	needPHP(t)
	outside := t.TempDir()
	secret := filepath.Join(outside, "secret.txt")
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	socket := filepath.Join(outside, "socket")
	local, err2 := net.Listen("unix", socket)
	abstract, err3 := net.Listen("unix", "@wetland-confine-"+filepath.Base(filepath.Dir(outside)))
	if err := errors.Join(err, err2, err3, os.WriteFile(secret, []byte("theirs"), 0o666)); err != nil {
		t.Fatal(err)
	}
	reached := make(chan string, 10)
	for _, one := range []net.Listener{listener, local, abstract} {
		defer one.Close()
		go func() {
			for {
				conn, err := one.Accept()
				if err != nil {
					return
				}
				reached <- one.Addr().String()
				_ = conn.Close()
			}
		}()
	}
	_, port, _ := net.SplitHostPort(listener.Addr().String())
	on, w, _ := entered(t, nil)
	php := func(code string) string { return "php -n -r " + "'" + code + "'" }
	ways := map[string]string{
		"read a file of the machine":      "cat " + secret,
		"write to a file of the machine":  "echo ours > " + secret,
		"look into the homes":             "test -e /root || test -e /home",
		"write to the system":             "echo x > /usr/wetland-was-here",
		"write to the settings":           "echo x >> /etc/hosts.allow",
		"set a switch of the kernel":      "echo 1 > /proc/sys/vm/drop_caches || echo h > /proc/sysrq-trigger",
		"open a port of the machine":      php(`exit(@fsockopen("127.0.0.1", ` + port + `, $e, $s, 2) ? 0 : 1);`),
		"open a socket of the machine":    php(`exit(@stream_socket_client("unix://` + socket + `") ? 0 : 1);`),
		"open a socket without a name":    php(`exit(@stream_socket_client("unix://\0` + strings.TrimPrefix(abstract.Addr().String(), "@") + `") ? 0 : 1);`),
		"reach another machine":           php(`exit(@fsockopen("192.0.2.1", 80, $e, $s, 2) ? 0 : 1);`),
		"ask for a name":                  php(`exit(gethostbyname("ferry.example") != "ferry.example" ? 0 : 1);`),
		"end a process of the machine":    fmt.Sprintf("kill -0 %d", os.Getpid()),
		"see the machine's processes":     "test $(ls -d /proc/[0-9]* | wc -l) -gt 6",
		"mount something":                 "mount -t tmpfs x /tmp || mount --bind /usr /tmp",
		"make a device":                   "mknod /tmp/disk b 254 0",
		"become root":                     "setpriv --reuid 0 true || su -c true root",
		"make namespaces of its own":      "unshare -Urm true && unshare -Urm mount -o remount,rw,bind /usr",
		"climb out of the root":           php(`exit(@chroot("/tmp") ? 0 : 1);`),
		"end what keeps it":               "kill -9 1 && sleep 0.2 && false",
		"leave a program that may more":   "cp /bin/true /tmp/t && chmod u+s /tmp/t && test $(stat -c %u /tmp/t) = 0",
		"write to the keeper's own files": "echo x > /.wetland-hosts",
	}
	if w.User == os.Geteuid() { // they are the user's own, and only the world reads them
		delete(ways, "write to the keeper's own files")
	}
	for name, way := range ways {
		if said, err := sh(t, on, way); err == nil {
			t.Errorf("%s: it could: %s", name, said)
		}
	}
	// Outside of it, the same can be done.
	for _, name := range []string{"read a file of the machine", "open a port of the machine", "open a socket of the machine", "open a socket without a name", "end a process of the machine"} {
		if said, err := exec.Command("/bin/sh", "-c", ways[name]).CombinedOutput(); err != nil {
			t.Errorf("%s cannot be done at all: %v %s", name, err, said)
		}
	}
	for range 3 {
		<-reached
	}
	text, err := os.ReadFile(secret)
	if err != nil || string(text) != "theirs" {
		t.Errorf("a file of the machine was changed: %q, %v", text, err)
	}
	select {
	case at := <-reached:
		t.Errorf("%s was reached", at)
	default:
	}
	asOrdinary(t)
}

// What programs need is there, and they are whom the world names.
func TestWhatAWorldOffers(t *testing.T) {
	needPHP(t)
	on, w, top := entered(t, func(w *host.World) {
		w.Names, w.Addresses = []string{"ferry.example"}, []string{"192.0.2.7"}
	})
	for name, script := range map[string]string{
		"its user":          fmt.Sprintf("test $(id -u) = %d", w.User),
		"a folder":          "echo ours > /site/a.txt && echo > /tmp/x",
		"its rank":          "test $(nice) -ge 10 && { ! test -e /proc/self || test $(cat /proc/self/oom_score_adj) -ge 500; }",
		"its own devices":   "echo > /dev/null && head -c 1 /dev/urandom > /tmp/x && echo x > /dev/shm/x",
		"its name":          `php -n -r 'exit(gethostbyname("ferry.example") == "127.0.0.1" ? 0 : 1);'`,
		"a port below 1024": `php -n -r 'exit(stream_socket_server("tcp://0.0.0.0:80") ? 0 : 1);'`,
		"its address":       `php -n -r '$s = stream_socket_server("tcp://0.0.0.0:3307"); exit(fsockopen("192.0.2.7", 3307) ? 0 : 1);'`,
	} {
		if said, err := sh(t, on, script); err != nil {
			t.Errorf("%s: %v %s", name, err, said)
		}
	}
	if text, err := os.ReadFile(filepath.Join(top, "site/a.txt")); err != nil || string(text) != "ours\n" {
		t.Errorf("what was written in the world: %q, %v", text, err)
	}
	asOrdinary(t)
}

// What runs in a world ends with it.
func TestAllEndsWithTheWorld(t *testing.T) {
	on, _, top := entered(t, nil)
	mark := "mark-" + strings.ToLower(rand.Text())
	ended := make(chan error, 1)
	go func() {
		_, err := on.Run(context.WithoutCancel(t.Context()), "/bin/sh", "-c", "(trap '' TERM HUP; while :; do date +%N > /tmp/beat; done) & wait", mark)
		ended <- err
	}()
	if err := testenv.Until(func() error { _, err := os.Stat(filepath.Join(top, "tmp/beat")); return err }); err != nil {
		t.Fatal(err)
	}
	if !runsWith(t, mark) {
		t.Fatal("what runs in the world is not seen")
	}
	if err := on.Close(); err != nil {
		t.Fatal(err)
	}
	<-ended
	if runsWith(t, mark) {
		t.Error("it goes on after the world's end")
	}
}

// runsWith tells whether a program runs on this machine that was started with a word.
func runsWith(t *testing.T, word string) bool {
	t.Helper()
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		t.Fatal(err)
	}
	return slices.ContainsFunc(all, func(one string) bool {
		line, err := os.ReadFile(one)
		return err == nil && slices.Contains(strings.Split(string(line), "\x00"), word)
	})
}
