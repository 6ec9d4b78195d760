package packages

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// fetched downloads from a server whose address holds a key.
func fetched(t *testing.T, client *http.Client, address string) error {
	t.Helper()
	folder := t.TempDir()
	_, err := Download{Client: client, Pause: time.Millisecond}.Fetch(t.Context(), address+"/harbourlight.zip?licence=opensesame", address+"/harbourlight.zip", folder)
	if err != nil && strings.Contains(err.Error(), "opensesame") {
		t.Errorf("the key is in the error: %v", err)
	}
	if left, _ := filepath.Glob(folder + "/*"); err != nil && len(left) == 1 {
		if is, statErr := os.Stat(left[0]); statErr != nil || is.Size() > 0 {
			t.Errorf("%d bytes are left: %v", is.Size(), statErr)
		}
	}
	return err
}

// A key goes to the host that it is for, and to no other; and nothing is taken from where a
// vendor cannot be.
func TestWhereDownloadsLead(t *testing.T) {
	var met *http.Request
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		met = r
		_, _ = w.Write([]byte("PK"))
	}))
	defer elsewhere.Close()
	leads := func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, elsewhere.URL+"/files/1", http.StatusFound)
	}
	plain, secure := httptest.NewServer(http.HandlerFunc(leads)), httptest.NewTLSServer(http.HandlerFunc(leads))
	defer plain.Close()
	defer secure.Close()
	if err := fetched(t, nil, plain.URL); err != nil || met == nil || met.Header.Get("Referer") != "" {
		t.Errorf("%v, met with %+v", err, met)
	}
	met = nil
	if err := fetched(t, secure.Client(), secure.URL); !errors.Is(err, errDowngrade) || met != nil {
		t.Errorf("from https to http: %v", err)
	}
	for _, where := range []string{"http://[opensesame", "http://%zz/opensesame", "://opensesame"} {
		odd := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Location", where)
			w.WriteHeader(http.StatusFound)
		}))
		if err := fetched(t, nil, odd.URL); err == nil {
			t.Errorf("%s was followed", where)
		}
		odd.Close()
	}
	round := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, r.URL.Path+"x", http.StatusFound) }))
	defer round.Close()
	if err := fetched(t, nil, round.URL); !errors.Is(err, errTooFar) {
		t.Errorf("round and round: %v", err)
	}
}

// A host outside leads to no private network. No host outside can be asked here: the addresses
// stand for what names lead to.
func TestPrivateAddresses(t *testing.T) {
	ask := func(address string) *http.Request {
		request, err := http.NewRequestWithContext(context.Background(), http.MethodGet, address, nil)
		if err != nil {
			t.Fatal(err)
		}
		return request
	}
	via := []*http.Request{ask("https://203.0.113.7/a.zip")}
	if err := leadOn(ask("https://169.254.169.254/latest"), via); !errors.Is(err, errInward) {
		t.Errorf("into a private network: %v", err)
	}
	if err := leadOn(ask("https://203.0.113.9/a.zip"), via); err != nil {
		t.Errorf("to another host: %v", err)
	}
}

// What says that it is larger than any package is not begun.
func TestTooLargeDownload(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "1099511627776")
		_, _ = w.Write([]byte("PK"))
	}))
	defer server.Close()
	if err := fetched(t, nil, server.URL); !errors.Is(err, errTooLarge) {
		t.Errorf("%v", err)
	}
}
