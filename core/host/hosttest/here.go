package hosttest

import (
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"

	"wetland/core/files"
	"wetland/core/host"
	"wetland/internal/loopback"
)

// Here is a place for a host that is, in truth, the machine of the test: what the suite needs is made
// there until the test ends. It has no engine.
func Here(t *testing.T, on host.Host) Place {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv(SecretVariable, "secret")
	folder := filepath.Join(dir, "site")
	if err := os.Mkdir(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	return Place{
		Host: on, Folder: folder, Grain: files.TimeGrain,
		Echo:   map[string]string{"tcp": loopback.Listen(t, "tcp", "127.0.0.1:0", sayBack).String(), "unix": loopback.Listen(t, "unix", filepath.Join(dir, "echo.sock"), sayBack).String()},
		Nobody: map[string]string{"tcp": "127.0.0.1:1", "unix": filepath.Join(dir, "none.sock")},
		Print:  "echo", Fail: []string{"sh", "-c", "echo it failed >&2; exit 3"}, Environment: "env",
	}
}

// sayBack says back all that it is told.
func sayBack(connection net.Conn) { _, _ = io.Copy(connection, connection) }
