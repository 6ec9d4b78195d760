package webfront

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/fcgi"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// served is a site before a pool that says what it was told.
func served(t *testing.T, https bool) (*httptest.Server, string) {
	t.Helper()
	dir := t.TempDir()
	public := filepath.Join(dir, "public")
	for name, text := range map[string]string{
		"index.php": "", "wp-login.php": "", "admin/index.php": "", "docs/index.html": "the docs", "style.css": "a { color: teal }", "a b.txt": "spaces", "empty/.keep": "", ".htaccess": "rules",
	} {
		file := filepath.Join(public, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "secret.txt"), []byte("theirs"), 0o644); err != nil {
		t.Fatal(err)
	}
	socket := filepath.Join(dir, "pool")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		_ = fcgi.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			told := fcgi.ProcessEnv(r)
			if r.URL.Path == "/gone" {
				w.Header().Set("Location", "/fares")
				w.WriteHeader(http.StatusSeeOther)
				return
			}
			body, _ := io.ReadAll(r.Body)
			w.Header().Add("Set-Cookie", "a=1")
			w.Header().Add("Set-Cookie", "b=2")
			fmt.Fprintf(w, "%s info= query=%s body=%s https=%v proxy=%s host=%s", strings.TrimPrefix(told["SCRIPT_FILENAME"], public), r.URL.RawQuery, body, r.TLS != nil, r.Header.Get("Proxy"), r.Host)
		}))
	}()
	server := httptest.NewServer(Site{Public: public, Script: "/index.php", Pool: socket, Name: "ferry.example", Port: "80", HTTPS: https})
	t.Cleanup(server.Close)
	return server, server.URL
}

// Addresses are answered as by the web server of a CMS.
func TestFront(t *testing.T) {
	_, address := served(t, true)
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for asked, want := range map[string]string{
		"/":                           "200 /index.php",
		"/fares":                      "200 /index.php",
		"/notices/winter.html":        "200 /index.php",
		"/no-such.xml?a=b":            "200 /index.php info= query=a=b",
		"/wp-login.php":               "200 /wp-login.php",
		"/wp-login.php/more?x=1":      "200 /wp-login.php info= query=x=1",
		"/admin/":                     "200 /admin/index.php",
		"/admin?tab=1":                "301 /admin/?tab=1",
		"/docs/":                      "200 the docs",
		"/empty/":                     "200 /index.php",
		"/style.css":                  "200 a { color: teal }",
		"/a%20b.txt":                  "200 spaces",
		"/gone":                       "303 /fares",
		"/../secret.txt":              "200 /index.php",
		"/%2e%2e/secret.txt":          "200 /index.php",
		"/..%2fsecret.txt":            "200 /index.php",
		"/style.css/../../secret.txt": "200 /index.php",
	} {
		request, err := http.NewRequest("GET", address+asked, nil)
		if err != nil {
			t.Fatal(err)
		}
		request.URL.Opaque = asked // as it is
		if path, query, ok := strings.Cut(asked, "?"); ok {
			request.URL.Opaque, request.URL.RawQuery = path, query
		}
		request.Header.Set("Proxy", "http://192.0.2.1/")
		response, err := client.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(response.Body)
		got := fmt.Sprintf("%d %s", response.StatusCode, body)
		if to := response.Header.Get("Location"); to != "" {
			got = fmt.Sprintf("%d %s", response.StatusCode, to)
		}
		if err != nil || !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s, want %s (%v)", asked, got, want, err)
		}
		if strings.Contains(got, "info=") && (!strings.Contains(got, "https=true") || !strings.Contains(got, "proxy= ") || !slices.Equal(response.Header["Set-Cookie"], []string{"a=1", "b=2"})) {
			t.Errorf("%s: %s, %v", asked, got, response.Header)
		}
	}
	response, err := client.Post(address+"/wp-login.php", "application/x-www-form-urlencoded", strings.NewReader("log=keeper&pwd=x"))
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if body, _ := io.ReadAll(response.Body); !strings.Contains(string(body), "body=log=keeper&pwd=x") {
		t.Errorf("what is sent does not come: %s", body)
	}
}

// Without a pool, files come all the same, and scripts are an error.
func TestFrontWithoutPool(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "a.txt"), []byte("a"), 0o644); err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(Site{Public: dir, Script: "/index.php", Pool: filepath.Join(dir, "none")})
	defer server.Close()
	for asked, want := range map[string]int{"/a.txt": 200, "/": 502} {
		response, err := http.Get(server.URL + asked)
		if err != nil {
			t.Fatal(err)
		}
		_ = response.Body.Close()
		if response.StatusCode != want {
			t.Errorf("%s: %d", asked, response.StatusCode)
		}
	}
}
