package testenv

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"wetland/demo"
	"wetland/demo/rowlock"
)

// Ferry lays out the demo's site and its packages, and serves it until the test ends.
func Ferry(t testing.TB, root, packages string) (address string) {
	t.Helper()
	listener := listen(t)
	address = "http://" + listener.Addr().String() + "/"
	LayOutFerry(t, root, packages, address)
	serve(t, listener, root)
	return address
}

// LayOutFerry lays out the demo's site, which believes to be at this address, and its packages.
func LayOutFerry(t testing.TB, root, packages, address string) {
	t.Helper()
	if err := demo.LayOut(t.Context(), root, packages, address); err != nil {
		t.Fatal(err)
	}
}

// OpenFerry is what answers for a folder that holds the demo's site, until the test ends.
func OpenFerry(t testing.TB, root string) http.Handler {
	t.Helper()
	opened, err := rowlock.Open(root, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = opened.Close() })
	return opened
}

// ServeFerry serves a folder that holds the demo's site until the test ends.
func ServeFerry(t testing.TB, root string) (address string) {
	t.Helper()
	listener := listen(t)
	serve(t, listener, root)
	return "http://" + listener.Addr().String() + "/"
}

func listen(t testing.TB) net.Listener {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	return listener
}

func serve(t testing.TB, listener net.Listener, root string) {
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- demo.Serve(ctx, listener, root, slog.New(slog.DiscardHandler)) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
}

// EditPages lets change see each HTML page of a handler on its way.
func EditPages(next http.Handler, change func(r *http.Request, body string) string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		recorder := httptest.NewRecorder()
		next.ServeHTTP(recorder, r)
		body := recorder.Body.String()
		for name, values := range recorder.Header() {
			w.Header()[name] = values
		}
		if strings.HasPrefix(recorder.Header().Get("Content-Type"), "text/html") {
			body = change(r, body)
			w.Header().Del("Content-Length")
		}
		w.WriteHeader(recorder.Code)
		_, _ = w.Write([]byte(body))
	})
}
