package confine

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"wetland/core/environment"
	"wetland/core/host"
	"wetland/core/phrase"
)

// The system's part: a world is a set of namespaces (namespaces(7)). In a user namespace of its own whoever
// made it is allowed all that follows, and nothing outside of it (user_namespaces(7)).

// line is that to a keeper: its standard streams. Closing it ends the keeper, and with it, for it is the
// first process of its namespace, all that runs in the world (pid_namespaces(7)).
type line struct {
	io.ReadCloser
	to      io.WriteCloser
	command *exec.Cmd
	said    *bytes.Buffer
	once    sync.Once
	err     error
}

func (l *line) Write(p []byte) (int, error) { return l.to.Write(p) }

// Close ends the keeper, and waits for it.
func (l *line) Close() error {
	l.once.Do(func() {
		l.err = errors.Join(l.to.Close(), l.ReadCloser.Close())
		_ = l.command.Process.Kill() // it may be busy
		_ = l.command.Wait()         // which says that it was killed
	})
	return l.err
}

// complaint is what the keeper said about its end.
func (l *line) complaint() string {
	_ = l.Close()
	return phrase.InBrackets(strings.TrimSpace(l.said.String()))
}

// start starts a keeper in new namespaces.
func start(ctx context.Context, self string) (*line, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	command := exec.Command(self)
	command.Env = append(slices.DeleteFunc(environment.Clean(), elsewhere), keeperVariable+"=1")
	command.Dir = "/"
	attributes, err := namespaces()
	if err != nil {
		return nil, err
	}
	command.SysProcAttr = attributes
	said := &bytes.Buffer{}
	command.Stderr = said
	to, err1 := command.StdinPipe()
	from, err2 := command.StdoutPipe()
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	if err := command.Start(); err != nil {
		return nil, fmt.Errorf("%w: the system lets whoever runs this make no namespaces (%v)", host.ErrNotConfined, err)
	}
	return &line{ReadCloser: from, to: to, command: command, said: said}, nil
}

// capabilities are what a keeper needs that is not root in its namespace.
var capabilities = []uintptr{unix.CAP_SYS_ADMIN, unix.CAP_NET_ADMIN, unix.CAP_SYS_CHROOT, unix.CAP_SETPCAP, unix.CAP_NET_BIND_SERVICE}

func namespaces() (*syscall.SysProcAttr, error) {
	a := &syscall.SysProcAttr{
		Cloneflags: unix.CLONE_NEWUSER | unix.CLONE_NEWNS | unix.CLONE_NEWPID | unix.CLONE_NEWNET | unix.CLONE_NEWIPC | unix.CLONE_NEWUTS | unix.CLONE_NEWCGROUP,
		Setpgid:    true, // Ctrl-C is for whoever started it
	}
	if user := os.Geteuid(); user != 0 {
		a.UidMappings = []syscall.SysProcIDMap{{ContainerID: user, HostID: user, Size: 1}}
		a.GidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getegid(), HostID: os.Getegid(), Size: 1}}
		a.AmbientCaps = capabilities
		return a, nil
	}
	var err1, err2 error
	a.UidMappings, err1 = sameMap("/proc/self/uid_map")
	a.GidMappings, err2 = sameMap("/proc/self/gid_map")
	a.GidMappingsEnableSetgroups = true
	return a, errors.Join(err1, err2)
}

// sameMap has everybody be in a namespace who they are outside of it.
func sameMap(file string) (all []syscall.SysProcIDMap, err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(text)) {
		var inside, outside, size int
		if _, err := fmt.Sscan(line, &inside, &outside, &size); err != nil {
			return nil, fmt.Errorf("read %s: %w", file, err)
		}
		all = append(all, syscall.SysProcIDMap{ContainerID: inside, HostID: inside, Size: size})
	}
	return all, nil
}

// enter makes the world, from within its namespaces, and goes there.
func enter(o order) error {
	if os.Getpid() != 1 {
		return errors.New("it is not the first process of a namespace")
	}
	steps := []func(order) error{stepBack, ownNetwork, alone, ownTop, showMachine, ownFiles, devices, processes, moveIn}
	for _, step := range steps {
		if err := step(o); err != nil {
			return err
		}
	}
	return nil
}

// niceness is that of a world's programs, and sacrifice how readily the system ends them first where memory runs
// out (0 to 1000): a site may be on the same machine.
const (
	niceness  = 10
	sacrifice = 500
)

// stepBack has the world give way to the machine's other programs.
func stepBack(order) error {
	if err := os.WriteFile("/proc/self/oom_score_adj", []byte(strconv.Itoa(sacrifice)), 0); err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) { // it is more already
		return fmt.Errorf("give way to the machine's other programs: %w", err)
	}
	// The group is this process alone, with all of its threads (setpriority(2), of Linux). What is asked for is
	// told as 20 less.
	if is, err := unix.Getpriority(unix.PRIO_PGRP, 0); err == nil && 20-is >= niceness {
		return nil
	}
	if err := unix.Setpriority(unix.PRIO_PGRP, 0, niceness); err != nil {
		return fmt.Errorf("give way to the machine's other programs: %w", err)
	}
	return nil
}

func mount(from, to, kind string, flags uintptr, data string) error {
	if err := unix.Mount(from, to, kind, flags, data); err != nil {
		return fmt.Errorf("mount at %s: %w", to, err)
	}
	return nil
}

// alone keeps what is mounted here from being mounted elsewhere.
func alone(order) error { return mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, "") }

// ownTop makes the top a mount of its own, as its becoming the root needs.
func ownTop(o order) error {
	if err := mount(o.Top, o.Top, "", unix.MS_BIND, ""); err != nil {
		return err
	}
	return limit(o.Top, unix.MOUNT_ATTR_NOSUID|unix.MOUNT_ATTR_NODEV)
}

// limit sets bounds to a mount and to all below it (Linux 5.12).
func limit(at string, bounds uint64) error {
	err := unix.MountSetattr(unix.AT_FDCWD, at, unix.AT_RECURSIVE, &unix.MountAttr{Attr_set: bounds})
	if err != nil {
		return fmt.Errorf("set bounds to the mount at %s: %w", at, err)
	}
	return nil
}

// readOnly are the bounds of what the world is only shown.
const readOnly = unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV

func showMachine(o order) error {
	for i, name := range o.World.Shown {
		if slices.Contains(o.World.Shown[:i], name) {
			continue
		}
		info, err := os.Lstat(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil && info.Mode()&fs.ModeSymlink != 0 {
			err = showLink(o, name)
		} else if err == nil {
			err = show(o, name, info.IsDir())
		}
		if err != nil {
			return fmt.Errorf("show %s: %w", name, err)
		}
	}
	return nil
}

// showLink makes the same link.
func showLink(o order, name string) error {
	target, err := os.Readlink(name)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(o.own(name)), 0o755); err != nil {
		return err
	}
	return os.Symlink(target, o.own(name))
}

func show(o order, name string, folder bool) error {
	at := o.own(name)
	if err := place(at, folder); err != nil {
		return err
	}
	if err := mount(name, at, "", unix.MS_BIND|unix.MS_REC, ""); err != nil {
		return err
	}
	return limit(at, readOnly)
}

// place makes something that another thing can be mounted at.
func place(at string, folder bool) error {
	if folder {
		return os.MkdirAll(at, 0o755)
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return err
	}
	file, err := os.OpenFile(at, os.O_WRONLY|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	return file.Close()
}

// ownFiles makes what the world has of its own.
func ownFiles(o order) error {
	for _, one := range o.World.Folders {
		at := o.own(one.Name)
		if err := os.MkdirAll(at, 0o755); err != nil {
			return err
		}
		if err := os.Chmod(at, one.Mode); err != nil {
			return err
		}
		if one.Own && os.Geteuid() == 0 {
			if err := os.Chown(at, o.World.User, o.World.Group); err != nil {
				return err
			}
		}
	}
	if _, err := os.Lstat(o.own("/etc/hosts")); err != nil {
		return nil // names are found nowhere
	}
	own := o.own("/.wetland-hosts")
	if err := os.WriteFile(own, []byte(hostsOf(o.World)), 0o644); err != nil {
		return err
	}
	return mount(own, o.own("/etc/hosts"), "", unix.MS_BIND, "")
}

// harmless are the devices that programs expect.
var harmless = []string{"/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom"}

func devices(o order) error {
	for _, name := range harmless {
		if err := place(o.own(name), false); err != nil {
			return err
		}
		if err := mount(name, o.own(name), "", unix.MS_BIND, ""); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(o.own("/dev/shm"), 0o755); err != nil {
		return err
	}
	for name, target := range map[string]string{"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2"} {
		if err := os.Symlink(target, o.own("/dev/"+name)); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return mount("shm", o.own("/dev/shm"), "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=1777,size=64m")
}

// processes shows those of the world, and none of the system's settings. Where that is not allowed, there
// are none to be seen.
func processes(o order) error {
	if err := os.MkdirAll(o.own("/proc"), 0o755); err != nil {
		return err
	}
	_ = unix.Mount("proc", o.own("/proc"), "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, "subset=pid")
	return nil
}

// moveIn makes the top the root, and lets go of all else.
func moveIn(o order) error {
	if err := unix.Chdir(o.Top); err != nil {
		return err
	}
	if err := unix.PivotRoot(".", "."); err != nil {
		return fmt.Errorf("make %s the root: %w", o.Top, err)
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return fmt.Errorf("let go of the machine's own folders: %w", err)
	}
	return unix.Chdir("/")
}

// ownNetwork has the world reach itself, at all of its addresses and ports.
func ownNetwork(o order) error {
	if err := os.WriteFile("/proc/sys/net/ipv4/ip_unprivileged_port_start", []byte("0"), 0); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("open the ports of the world: %w", err)
	}
	if err := ask(unix.SIOCSIFFLAGS, "lo", func(to []byte) { binary.NativeEndian.PutUint16(to, unix.IFF_UP|unix.IFF_RUNNING) }); err != nil {
		return fmt.Errorf("switch on the world's network: %w", err)
	}
	for i, one := range o.World.Addresses {
		at, err := netip.ParseAddr(one)
		if err != nil || at.IsLoopback() || !at.Is4() {
			continue
		}
		name := fmt.Sprintf("lo:%d", i+1)
		err = ask(unix.SIOCSIFADDR, name, func(to []byte) { // struct sockaddr_in
			value := at.As4()
			binary.NativeEndian.PutUint16(to, unix.AF_INET)
			copy(to[4:], value[:])
		})
		if err != nil {
			return fmt.Errorf("give the world the address %s: %w", at, err)
		}
	}
	return nil
}

// ask makes a request about a network device (netdevice(7)).
func ask(request uint, device string, fill func(to []byte)) error {
	socket, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(socket)
	var about [40]byte // struct ifreq
	copy(about[:unix.IFNAMSIZ-1], device)
	fill(about[unix.IFNAMSIZ:])
	if _, _, failed := unix.Syscall(unix.SYS_IOCTL, uintptr(socket), uintptr(request), uintptr(unsafe.Pointer(&about))); failed != 0 {
		return failed
	}
	return nil
}

// run runs a program in the world, as whom it names, with no right beyond that: none that the keeper has,
// and none that a program on the disk could give.
func run(ctx context.Context, w host.World, program string, args ...string) (string, error) {
	command := exec.CommandContext(ctx, program, args...)
	command.Env = slices.DeleteFunc(environment.Clean(), elsewhere)
	command.Dir = "/"
	if os.Geteuid() == 0 {
		command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(w.User), Gid: uint32(w.Group)}}
	}
	return host.Carry(ctx, command, &tail{}, &tail{}, func() error {
		started := make(chan error)
		go func() {
			runtime.LockOSThread() // never unlocked: the thread ends with its rights
			err := giveUpRights()
			if err == nil {
				err = command.Start()
			}
			started <- err
		}()
		return <-started
	})
}

// elsewhere tells of variables that name folders which are not in a world.
func elsewhere(variable string) bool {
	name, _, _ := strings.Cut(variable, "=")
	return slices.Contains([]string{"HOME", "TMPDIR", "XDG_RUNTIME_DIR"}, name)
}

// giveUpRights gives up, for this thread and what it starts, all that is more than a user's. What
// gives another user is left: the kernel takes it away with the change.
func giveUpRights() error {
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("give up new rights: %w", err)
	}
	if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0); err != nil {
		return fmt.Errorf("give up rights: %w", err)
	}
	for right := uintptr(0); ; right++ {
		err := unix.Prctl(unix.PR_CAPBSET_DROP, right, 0, 0, 0)
		if errors.Is(err, unix.EINVAL) {
			return nil // there are no more
		}
		if err != nil {
			return fmt.Errorf("give up rights: %w", err)
		}
	}
}

// tail keeps the end of what a program says.
type tail struct {
	lock sync.Mutex
	kept []byte
}

// mostSaid is how much of it that is, in bytes.
const mostSaid = 64 << 10

func (t *tail) Write(p []byte) (int, error) {
	t.lock.Lock()
	defer t.lock.Unlock()
	t.kept = append(t.kept, p...)
	if over := len(t.kept) - mostSaid; over > 0 {
		t.kept = append(t.kept[:0], t.kept[over:]...)
	}
	return len(p), nil
}

func (t *tail) String() string {
	t.lock.Lock()
	defer t.lock.Unlock()
	return string(t.kept)
}
