package browser

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wetland/internal/testenv"
)

// asked is a way to reach things that notes what was wanted.
type asked struct {
	mu   sync.Mutex
	urls []string
	by   http.RoundTripper
	deny string // hosts that begin so
}

func (a *asked) RoundTrip(r *http.Request) (*http.Response, error) {
	a.mu.Lock()
	a.urls = append(a.urls, r.URL.Scheme+"://"+r.URL.Host+r.URL.Path)
	a.mu.Unlock()
	if a.deny != "" && strings.HasPrefix(r.URL.Host, a.deny) {
		return nil, errors.New("denied")
	}
	return a.by.RoundTrip(r)
}

func (a *asked) wanted(url string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Contains(a.urls, url)
}

// lookBy looks at a page with a browser that reaches things in this way.
func lookBy(t *testing.T, reach http.RoundTripper, address string) Sight {
	t.Helper()
	program := Find()
	if program == "" {
		testenv.Missing(t, "chromium")
	}
	running, err := Start(t.Context(), Options{Program: program, Patience: time.Minute, Starting: time.Minute, Reach: reach})
	if err != nil {
		t.Fatal(err)
	}
	defer running.Close()
	tab := running.Tab()
	defer tab.Close()
	sights, err := tab.Look(t.Context(), Visit{Address: address, Widths: []int{1280}})
	if err != nil {
		t.Fatal(err)
	}
	return sights[0]
}

// The browser reaches nothing, of this machine neither, but in the way that it was given; with
// HTTPS as without.
func TestBrowserReachesNothingByItself(t *testing.T) {
	var direct sync.Map
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { direct.Store(r.URL.Path, true) }))
	defer other.Close()
	page := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprintf(w, `<!DOCTYPE html><html><body><main><h1>Boats</h1><p>The otter carries twelve.</p><img src="%[1]s/picture.png"><script>fetch("%[1]s/fetched", {mode: "no-cors"}).catch(() => {})</script></main></body></html>`, other.URL)
	})
	secure, plain := httptest.NewTLSServer(page), httptest.NewServer(page)
	defer secure.Close()
	defer plain.Close()
	trusted := x509.NewCertPool()
	trusted.AddCert(secure.Certificate())
	for _, address := range []string{plain.URL, secure.URL} {
		reach := &asked{by: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: trusted}, ForceAttemptHTTP2: true}, deny: strings.TrimPrefix(other.URL, "http://")}
		sight := lookBy(t, reach, address+"/boats")
		if sight.Problem != "" || sight.Letters == 0 || !reach.wanted(address+"/boats") || !reach.wanted(other.URL+"/picture.png") {
			t.Errorf("%s: %q, %d letters; asked for %q", address, sight.Problem, sight.Letters, reach.urls)
		}
		direct.Range(func(path, _ any) bool {
			t.Errorf("the browser reached %s by itself", path)
			return true
		})
	}
}

// A certificate that is not trusted, or is another's, shows nothing.
func TestBrowserBelievesNoOtherCertificate(t *testing.T) {
	secure := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<p>Twelve boats</p>") }))
	defer secure.Close()
	trusted := x509.NewCertPool()
	trusted.AddCert(secure.Certificate())
	for name, reach := range map[string]*http.Transport{
		"not trusted":     {},
		"of another name": {TLSClientConfig: &tls.Config{RootCAs: trusted, ServerName: "ferry.example.test"}},
	} {
		if sight := lookBy(t, reach, secure.URL+"/"); sight.Problem == "" {
			t.Errorf("%s: it shows %d letters", name, sight.Letters)
		}
	}
}
