package confine

import (
	"context"
	"fmt"
	"net"
	"os"
	"path"
	"strings"

	"golang.org/x/sys/unix"
)

// DialSocket connects to a socket of the world whose root is the folder at, from outside of it. No link is followed on the way there:
// whoever runs in the world could have it lead elsewhere.
func DialSocket(ctx context.Context, at, name string) (net.Conn, error) {
	top, err := unix.Open(at, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: at, Err: err}
	}
	defer unix.Close(top)
	socket, err := unix.Openat2(top, strings.TrimPrefix(path.Clean(name), "/"), &unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS})
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: name, Err: err}
	}
	defer unix.Close(socket)
	return (&net.Dialer{}).DialContext(ctx, "unix", fmt.Sprintf("/proc/self/fd/%d", socket)) // names of sockets must be short
}
