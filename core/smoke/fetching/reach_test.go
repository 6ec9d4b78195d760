package fetching

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wetland/core/progress"
	"wetland/core/smoke"
	"wetland/core/smoke/browser"
	"wetland/core/smoke/judging"
	"wetland/internal/testenv"
)

// reaching takes one page of a site at the address.
func reaching(t *testing.T, address string, reach Reach, page smoke.Page) smoke.Facts {
	t.Helper()
	at, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	fetcher := &Fetcher{Address: at, Timeout: time.Minute, Reach: reach}
	defer fetcher.Close()
	take, err := fetcher.Take(t.Context(), []smoke.Page{page}, progress.Silent{})
	if err != nil {
		t.Fatal(err)
	}
	return take.Pages[0]
}

// A server that answers behind a name that leads elsewhere, with a certificate of its own.
func TestServerBehindAName(t *testing.T) {
	server := httptest.NewTLSServer(serving(goodPage))
	defer server.Close()
	server.Config.ErrorLog = nil
	const address = "https://example.com/" // what the certificate of httptest is made for
	reach := Reach{Server: server.Listener.Addr().String(), Trusted: x509.NewCertPool()}
	reach.Trusted.AddCert(server.Certificate())
	if facts := reaching(t, address, reach, smoke.Page{Path: "/page"}); facts.Problem != "" || facts.Status != 200 || facts.Assets[0].Problem != "" {
		t.Errorf("%+v", facts)
	}
	reach.Trusted = nil
	if facts := reaching(t, address, reach, smoke.Page{Path: "/page"}); !strings.Contains(facts.Problem, "signed by nobody that is trusted") {
		t.Errorf("an unknown certificate: %q", facts.Problem)
	}
	reach.Trusted = x509.NewCertPool()
	reach.Trusted.AddCert(server.Certificate())
	facts := reaching(t, "https://ferry.example/", reach, smoke.Page{Path: "/page"})
	if !strings.Contains(facts.Problem, "made for another name") {
		t.Errorf("another name: %q", facts.Problem)
	}
	if j := judging.Judge(nil, &smoke.Take{Pages: []smoke.Facts{facts}}); j.Verdict != smoke.Broken {
		t.Errorf("a wrong certificate is %s", j.Verdict)
	}
}

// The password of a protected site goes to the site alone.
func TestProtectedSite(t *testing.T) {
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			t.Error("the password went to another host")
		}
		serving(goodPage)(w, r)
	}))
	defer other.Close()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, _ := r.BasicAuth(); user != "keeper" || password != "low tide" {
			w.Header().Set("WWW-Authenticate", `Basic realm="staging"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		if r.URL.Path == "/away" {
			http.Redirect(w, r, strings.Replace(other.URL, "127.0.0.1", "localhost", 1)+"/page", http.StatusFound)
			return
		}
		serving(goodPage)(w, r)
	}))
	defer server.Close()
	reach := Reach{User: "keeper", Password: "low tide"}
	if facts := reaching(t, server.URL+"/", reach, smoke.Page{Path: "/page"}); facts.Status != 200 || facts.Assets[0].Problem != "" {
		t.Errorf("%+v", facts)
	}
	if facts := reaching(t, server.URL+"/", reach, smoke.Page{Path: "/away"}); facts.Status != 200 || len(facts.Redirects) != 1 {
		t.Errorf("%+v", facts)
	}
	reach.Password = "high tide"
	facts := reaching(t, server.URL+"/", reach, smoke.Page{Path: "/page"})
	if j := judging.Judge(nil, &smoke.Take{Pages: []smoke.Facts{facts}}); facts.Status != 401 || j.Verdict != smoke.Broken {
		t.Errorf("a wrong password: %d, %s", facts.Status, j.Verdict)
	}
}

// office is a site with a dashboard behind a form.
func office(t *testing.T) *httptest.Server {
	form := `<html><body><form id="search"><input name="q"></form><form action="/sign-in" method="post"><input type="hidden" name="nonce" value="n7"><input name="log"><input name="pwd" type="password"></form></body></html>`
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		cookie, _ := r.Cookie("session")
		switch {
		case r.URL.Path == "/sign-in" && r.Method == http.MethodPost && r.FormValue("nonce") == "n7" && r.FormValue("log") == "keeper" && r.FormValue("pwd") == "low tide":
			http.SetCookie(w, &http.Cookie{Name: "session", Value: "s1", Path: "/"})
			http.Redirect(w, r, "/dashboard", http.StatusSeeOther)
		case r.URL.Path == "/sign-in":
			fmt.Fprint(w, form)
		case r.URL.Path == "/dashboard" && (cookie == nil || cookie.Value != "s1"):
			http.Redirect(w, r, "/sign-in", http.StatusFound)
		default:
			if r.URL.Path == "/page" && cookie != nil {
				t.Error("a page for visitors was fetched in the session")
			}
			serving(goodPage)(w, &http.Request{URL: &url.URL{Path: "/page"}})
		}
	}))
	t.Cleanup(server.Close)
	return server
}

func TestSignedIn(t *testing.T) {
	server := office(t)
	in := func(password, path string) Reach {
		return Reach{SignIn: &SignIn{Path: path, Fields: map[string]string{"log": "keeper", "pwd": password}}}
	}
	dashboard := smoke.Page{Path: "/dashboard", SignedIn: true}
	if facts := reaching(t, server.URL+"/", in("low tide", "/sign-in"), dashboard); facts.Title != "Timetable - Otterby Ferry" || len(facts.Redirects) != 0 {
		t.Errorf("signed in: %+v", facts)
	}
	reaching(t, server.URL+"/", in("low tide", "/sign-in"), smoke.Page{Path: "/page"})
	for _, c := range []struct {
		reach Reach
		want  string
	}{
		{in("wrong", "/sign-in"), "signing in was refused"},
		{in("low tide", "/page"), "holds no form"},
		{Reach{}, "say how"},
	} {
		if facts := reaching(t, server.URL+"/", c.reach, dashboard); !strings.Contains(facts.Problem, c.want) {
			t.Errorf("%q does not say %q", facts.Problem, c.want)
		}
	}
}

// Answers that are no pages: each is bounded, and none passes.
func TestNoPageAtAll(t *testing.T) {
	testenv.TakesLong(t)
	piece := []byte("<p>" + strings.Repeat("tide ", 13_000) + "</p>")
	for name, handler := range map[string]http.HandlerFunc{
		"500 MB": func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			for sent := 0; sent < 500<<20; sent += len(piece) {
				if _, err := w.Write(piece); err != nil {
					return
				}
			}
		},
		"without an end": func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			for r.Context().Err() == nil {
				if _, err := w.Write(piece); err != nil {
					return
				}
			}
		},
		"binary": func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/zip")
			_, _ = w.Write([]byte("PK\x03\x04\x00\x00\x00"))
		},
		"binary that calls itself a page": func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			_, _ = w.Write([]byte("\x7fELF\x02\x01\x00\x00\xff\xfe\xfd"))
		},
		"nothing said": func(w http.ResponseWriter, r *http.Request) { w.Header()["Content-Type"] = nil },
		"connection cut": func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Length", "5000")
			fmt.Fprint(w, goodPage[:200])
		},
	} {
		t.Run(name, func(t *testing.T) {
			result := take(t, handler)
			if j := judging.Judge(nil, result); j.Verdict == smoke.Sound || result.Pages[0].Bytes > smoke.LargestPage {
				t.Errorf("%s, %d bytes: %+v", j.Verdict, result.Pages[0].Bytes, j.Pages[0].Findings)
			}
		})
	}
}

// A browser that ends at once leaves no page unjudged.
func TestBrowserThatFails(t *testing.T) {
	server := httptest.NewServer(serving(goodPage))
	defer server.Close()
	address, err := url.Parse(server.URL + "/")
	if err != nil {
		t.Fatal(err)
	}
	fetcher := &Fetcher{Address: address, Timeout: time.Minute, BrowserProgram: "/bin/false"}
	defer fetcher.Close()
	take, err := fetcher.Take(t.Context(), []smoke.Page{{Path: "/page"}}, progress.Silent{})
	if err != nil {
		t.Fatal(err)
	}
	if j := judging.Judge(nil, take); j.Verdict != smoke.Doubtful || find(j, "not seen") == nil {
		t.Errorf("%s: %+v", j.Verdict, j.Pages)
	}
}

// The browser gets where the fetcher gets: behind a name, past a password, into a session.
func TestBrowserReachesWhatIsNotOpen(t *testing.T) {
	if browser.Find() == "" {
		testenv.Missing(t, "chromium")
	}
	form := `<html><body><form method="post"><input name="log"><input name="pwd" type="password"></form></body></html>`
	var mu sync.Mutex
	refused := []string{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if user, password, _ := r.BasicAuth(); user != "keeper" || password != "low tide" {
			w.Header().Set("WWW-Authenticate", `Basic realm="staging"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		cookie, _ := r.Cookie("session")
		switch {
		case r.URL.Path == "/sign-in" && r.Method == http.MethodPost:
			http.SetCookie(w, &http.Cookie{Name: "session", Value: "s1", Path: "/"})
			http.Redirect(w, r, "/dashboard", http.StatusSeeOther)
		case r.URL.Path == "/sign-in":
			fmt.Fprint(w, form)
		case r.URL.Path == "/dashboard" && cookie == nil:
			mu.Lock()
			refused = append(refused, r.UserAgent())
			mu.Unlock()
			w.WriteHeader(http.StatusForbidden)
		default:
			serving(goodPage)(w, &http.Request{URL: &url.URL{Path: "/page"}})
		}
	}))
	defer server.Close()
	address, err := url.Parse("http://ferry.example/")
	if err != nil {
		t.Fatal(err)
	}
	fetcher := &Fetcher{Address: address, Timeout: time.Minute, BrowserProgram: smoke.AnyBrowser, Reach: Reach{
		Server: server.Listener.Addr().String(), User: "keeper", Password: "low tide",
		SignIn: &SignIn{Path: "/sign-in", Fields: map[string]string{"log": "keeper", "pwd": "high tide"}},
	}}
	defer fetcher.Close()
	take, err := fetcher.Take(t.Context(), []smoke.Page{{Path: "/page"}, {Path: "/dashboard", SignedIn: true}}, progress.Silent{})
	if err != nil {
		t.Fatal(err)
	}
	for _, facts := range take.Pages {
		for width, sight := range facts.Sights {
			if sight.Problem != "" || sight.Letters < 100 {
				t.Errorf("%s on a %s: %q, %d letters", facts.Path, width, sight.Problem, sight.Letters)
			}
		}
		if len(facts.Sights) != 2 || facts.Problem != "" {
			t.Errorf("%s: %d looks, %q", facts.Path, len(facts.Sights), facts.Problem)
		}
	}
	if len(refused) > 0 {
		t.Errorf("the session was not there for %q", refused)
	}
}

// Between fetching and the browser's look somebody else answers, with a certificate that the same
// authority made for another name: the password does not go there, and nothing of it is shown.
func TestBrowserChecksWhoAnswers(t *testing.T) {
	if browser.Find() == "" {
		testenv.Missing(t, "chromium")
	}
	authority, err := testenv.NewAuthority()
	if err != nil {
		t.Fatal(err)
	}
	own, err1 := authority.For("ferry.example")
	others, err2 := authority.For("rogue.example")
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	var exchanged atomic.Bool
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, password, ok := r.BasicAuth(); exchanged.Load() && ok {
			t.Errorf("the password %q was given to another server", password)
		}
		serving(goodPage)(w, r)
	}))
	server.TLS = &tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		if exchanged.Load() {
			return others, nil
		}
		return own, nil
	}}
	server.StartTLS()
	defer server.Close()
	trusted := x509.NewCertPool()
	trusted.AddCert(authority.Certificate)
	address, err := url.Parse("https://ferry.example/")
	if err != nil {
		t.Fatal(err)
	}
	fetcher := &Fetcher{Address: address, Timeout: time.Minute, BrowserProgram: smoke.AnyBrowser, Reach: Reach{Server: server.Listener.Addr().String(), Trusted: trusted, User: "keeper", Password: "low tide"}}
	defer fetcher.Close()
	take, err := fetcher.Read(t.Context(), []smoke.Page{{Path: "/page"}}, progress.Silent{})
	if err != nil || take.Pages[0].Problem != "" {
		t.Fatalf("%v %q", err, take.Pages[0].Problem)
	}
	server.CloseClientConnections()
	exchanged.Store(true)
	if err := fetcher.See(t.Context(), take, nil, progress.Silent{}); err != nil {
		t.Fatal(err)
	}
	for width, sight := range take.Pages[0].Sights {
		if sight.Problem == "" {
			t.Errorf("on a %s, %d letters of another server's are shown", width, sight.Letters)
		}
	}
}

// What only the site's own machine can reach is fetched from there, and nothing else is.
func TestPagesByWayOfTheHost(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>", r.Host, "</title>") }))
	defer server.Close()
	var asked []string
	f := &Fetcher{Address: &url.URL{Scheme: "http", Host: "ferry.example", Path: "/"}}
	f.Reach.Dial = func(ctx context.Context, network, address string) (net.Conn, error) {
		asked = append(asked, network+" "+address)
		return (&net.Dialer{}).DialContext(ctx, network, server.Listener.Addr().String())
	}
	client := &http.Client{Transport: f.transport()}
	response, err := client.Get("http://ferry.example/")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if text, err := io.ReadAll(response.Body); err != nil || string(text) != "<title>ferry.example</title>" || !slices.Equal(asked, []string{"tcp ferry.example:80"}) {
		t.Errorf("%q %v, dialled %q", text, err, asked)
	}
	if response, err := client.Get("http://other.example/"); err == nil || len(asked) != 1 {
		t.Errorf("another host by way of the site's: %v %v %q", response, err, asked)
	}
}
