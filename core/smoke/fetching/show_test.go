package fetching

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

// Every page gets the banner, and nothing else is changed.
func TestBanner(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", map[string]string{".html": "text/html; charset=utf-8", ".css": "text/css"}[r.URL.Path[strings.LastIndex(r.URL.Path, "."):]])
		if r.Header.Get("Accept-Encoding") == "gzip" {
			t.Error("packed pages are asked for")
		}
		fmt.Fprint(w, "<!DOCTYPE html><title>a</title><body class='x > y'>the <body> of it", strings.Repeat(".", 100_000))
	}))
	defer server.Close()
	by := marked{&http.Transport{DisableCompression: true}, "the <copy>"}
	for path, wants := range map[string]int{"/a.html": 1, "/a.css": 0} {
		request, err := http.NewRequest("GET", server.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Accept-Encoding", "gzip")
		response, err := by.RoundTrip(request)
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(response.Body)
		if err != nil || response.Body.Close() != nil {
			t.Fatal(err)
		}
		without := strings.Replace(string(text), by.mark(), "", 1)
		if wants == 1 && !strings.Contains(string(text), "<body class='x > y'>"+by.mark()) || strings.Count(string(text), "the &lt;copy&gt;") != wants || !strings.HasPrefix(without, "<!DOCTYPE html><title>a</title><body") || !strings.HasSuffix(without, "the <body> of it"+strings.Repeat(".", 100_000)) {
			t.Errorf("%s: %.300s", path, text)
		}
	}
}
