package phppool

import (
	"errors"
	"net"
	"net/http"
	"net/http/fcgi"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// pool answers over FastCGI, by Go's own implementation of the other side.
func pool(t *testing.T, answer func(script string) string) string {
	t.Helper()
	socket := filepath.Join(t.TempDir(), "pool.sock")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		_ = fcgi.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			text, err := os.ReadFile(fcgi.ProcessEnv(r)["SCRIPT_FILENAME"])
			if err != nil {
				t.Error(err)
			}
			_, _ = w.Write([]byte(answer(string(text))))
		}))
	}()
	return "unix:" + socket
}

func TestReset(t *testing.T) {
	where := pool(t, func(script string) string {
		if !strings.Contains(script, "opcache_reset()") {
			t.Errorf("the pool is asked to run %q", script)
		}
		return "let go"
	})
	if err := Reset(t.Context(), where); err != nil {
		t.Error(err)
	}
	if err := Reset(t.Context(), pool(t, func(string) string { return "nothing kept" })); !errors.Is(err, ErrNothingKept) {
		t.Errorf("%v", err)
	}
	if err := Reset(t.Context(), pool(t, func(string) string { return "File not found." })); err == nil || !strings.Contains(err.Error(), "did not run") {
		t.Errorf("%v", err)
	}
	if err := Reset(t.Context(), "unix:/no/such/socket"); err == nil {
		t.Error("a pool that is not there")
	}
	for said, want := range map[string]bool{"kept": true, "nothing kept": false} {
		where := pool(t, func(script string) string {
			if !strings.Contains(script, "base64_decode( 'L3Nydi93d3cv' )") {
				t.Errorf("the pool is asked to run %q", script)
			}
			return said
		})
		if got, err := Keeps(t.Context(), where, "/srv/www"); err != nil || got != want {
			t.Errorf("%q: %v %v", said, got, err)
		}
	}
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "wetland-*.php"))
	if err != nil || len(left) > 0 {
		t.Errorf("left: %v %v", left, err)
	}
}

func FuzzAnswer(f *testing.F) {
	f.Add("\x01\x06\x00\x01\x00\x02\x00\x00ok\x01\x03\x00\x01\x00\x00\x00\x00")
	f.Fuzz(func(t *testing.T, text string) {
		if said, err := read(strings.NewReader(text)); err == nil && len(said) > mostAnswer+1<<16 {
			t.Errorf("%d bytes", len(said))
		}
	})
}
