package phppool

import (
	"errors"
	"net"
	"net/http"
	"net/http/fcgi"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wetland/core/host"
	"wetland/internal/testenv"
)

// at is the pool at a place of this machine.
func at(where string) Pool { return Pool{Host: host.Here, Where: where} }

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
	t.Setenv("TMPDIR", t.TempDir()) // others make temporary files, too
	where := pool(t, func(script string) string {
		if !strings.Contains(script, "opcache_reset()") {
			t.Errorf("the pool is asked to run %q", script)
		}
		return "dropped"
	})
	if err := at(where).Reset(t.Context()); err != nil {
		t.Error(err)
	}
	if err := at(pool(t, func(string) string { return "nothing kept" })).Reset(t.Context()); !errors.Is(err, ErrNothingKept) {
		t.Errorf("%v", err)
	}
	if err := at(pool(t, func(string) string { return "File not found." })).Reset(t.Context()); err == nil || !strings.Contains(err.Error(), "did not run") {
		t.Errorf("%v", err)
	}
	if err := at("unix:/no/such/socket").Reset(t.Context()); err == nil {
		t.Error("a pool that is not there")
	}
	for said, want := range map[string]bool{"kept": true, "nothing kept": false} {
		where := pool(t, func(script string) string {
			if !strings.Contains(script, "base64_decode( 'L3Nydi93d3cv' )") {
				t.Errorf("the pool is asked to run %q", script)
			}
			return said
		})
		if got, err := at(where).Keeps(t.Context(), "/srv/www"); err != nil || got != want {
			t.Errorf("%q: %v %v", said, got, err)
		}
	}
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "wetland-*.php"))
	if err != nil || len(left) > 0 {
		t.Errorf("left: %v %v", left, err)
	}
}

// PHP itself runs the script: once, and not after its time.
func TestOneUse(t *testing.T) {
	php, err := exec.LookPath("php")
	if err != nil {
		testenv.Missing(t, "php")
	}
	for said, until := range map[string]time.Duration{"nothing kept": time.Hour, "": -time.Hour} {
		file := filepath.Join(t.TempDir(), "once.php")
		if err := os.WriteFile(file, []byte(OneUse(time.Now().Add(until))), 0o644); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command(php, "-n", file).CombinedOutput()
		if err != nil || string(out) != said {
			t.Errorf("%q, want %q: %v", out, said, err)
		}
		if _, err := os.Stat(file); !os.IsNotExist(err) {
			t.Errorf("the script is still there: %v", err)
		}
	}
	if Answered("dropped") != nil || !errors.Is(Answered("nothing kept"), ErrNothingKept) || Answered("<?php") == nil {
		t.Error("answers are misread")
	}
}

// What a pool says of itself is read whole.
func TestTell(t *testing.T) {
	about, err := at(pool(t, func(script string) string {
		if !strings.Contains(script, "ini_get_all") {
			t.Errorf("the pool is asked to run %q", script)
		}
		return `{"version":"8.2.1","user":33,"group":33,"modules":["Core","imagick"],"settings":{"memory_limit":"256M","precision":"14","x":null}}told`
	})).Tell(t.Context())
	if err != nil || about.Version != "8.2.1" || about.User != 33 || about.Settings["memory_limit"] != "256M" || len(about.Modules) != 2 {
		t.Errorf("%+v %v", about, err)
	}
	if _, err := at(pool(t, func(string) string { return "<b>Fatal error</b>" })).Tell(t.Context()); err == nil {
		t.Error("an answer that is none was taken")
	}
}
