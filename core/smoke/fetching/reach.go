package fetching

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/PuerkitoBio/goquery"

	"wetland/core/network"
	"wetland/core/smoke"
)

// Reach says how requests get to the site, where the plain way does not lead there.
type Reach struct {
	// Server is the host and port of the server itself, past what stands in front of it.
	// The site's own name is still the one that is asked for and that the certificate
	// must be made for. "": as the name says.
	Server string
	// Dial connects to the site itself, where only its own machine can; nil: from here.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Alone lets nothing be reached but the site itself.
	Alone bool
	// Trusted are the certificates to trust; nil: the system's.
	Trusted *x509.CertPool
	// User and Password protect the whole site (HTTP Basic). They go to no other host.
	User, Password string
	// SignIn opens the session in which pages with SignedIn are fetched; nil: none.
	SignIn *SignIn
}

// SignIn is a form to sign in with.
type SignIn struct {
	Path   string            // of the page with the form
	Fields map[string]string // what to fill in, the password among it
}

// transport makes connections as the reach wants them.
func (f *Fetcher) transport() *http.Transport {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.MaxConnsPerHost = f.Concurrency
	if f.Reach.Trusted != nil {
		transport.TLSClientConfig = &tls.Config{RootCAs: f.Reach.Trusted}
	}
	dial := (&net.Dialer{Timeout: 30 * time.Second, KeepAlive: 30 * time.Second, ControlContext: f.notFurtherInside()}).DialContext
	own := network.HostPort(f.Address)
	if f.Reach.Server != "" || f.Reach.Dial != nil {
		transport.Proxy = nil
	}
	transport.DialContext = func(ctx context.Context, how, to string) (net.Conn, error) {
		if to != own && f.Reach.Alone {
			return nil, errAlone
		}
		if to != own {
			return dial(ctx, how, to)
		}
		if f.Reach.Server != "" {
			to = f.Reach.Server
		}
		if f.Reach.Dial != nil {
			return f.Reach.Dial(ctx, "tcp", to)
		}
		return dial(ctx, how, to)
	}
	return transport
}

var errAlone = errors.New("nothing but the private copy is reached")

// notFurtherInside keeps connections from leading further into a private network than the site
// itself is: a page could have us ask there for what is nobody's outside. A proxy of the system's
// is reached wherever it is. As long as the site's own place cannot be found, it counts as public.
func (f *Fetcher) notFurtherInside() func(ctx context.Context, how, to string, _ syscall.RawConn) error {
	var mu sync.Mutex
	deepest, found := network.Public, false
	return func(ctx context.Context, _, to string, _ syscall.RawConn) error {
		mu.Lock()
		defer mu.Unlock()
		if !found {
			if depth, err := f.ownDepth(ctx); err == nil {
				deepest, found = depth, true
			}
		}
		at, err := netip.ParseAddrPort(to)
		if err == nil && network.DepthOf(at.Addr()) > deepest {
			return network.ErrInward
		}
		return err
	}
}

// ownDepth is how far inside the site is, or what leads to it.
func (f *Fetcher) ownDepth(ctx context.Context) (deepest network.Depth, err error) {
	hosts := []string{f.Address.Hostname()}
	if host, _, err := net.SplitHostPort(f.Reach.Server); err == nil {
		hosts = []string{host} // the name itself is not asked for
	}
	for _, name := range []string{"HTTP_PROXY", "http_proxy", "HTTPS_PROXY", "https_proxy"} {
		if proxy, err := url.Parse(os.Getenv(name)); err == nil && proxy.Host != "" {
			hosts = append(hosts, proxy.Hostname())
		}
	}
	for _, host := range hosts {
		depth, err := network.DepthOfHost(ctx, host)
		if err != nil {
			return 0, err
		}
		deepest = max(deepest, depth)
	}
	return deepest, nil
}

// browserReach asks for what the browser wants, in the way in which pages are fetched.
type browserReach struct {
	fetcher *Fetcher
	by      *http.Transport
}

// reachOfBrowser makes as many connections as a browser does, and gives back what comes as it
// comes.
func (f *Fetcher) reachOfBrowser() browserReach {
	by := f.transport()
	by.MaxConnsPerHost, by.MaxIdleConnsPerHost, by.DisableCompression = 0, 32, true
	return browserReach{f, by}
}

// RoundTrip adds the site's own password: the browser does not know it.
func (b browserReach) RoundTrip(request *http.Request) (*http.Response, error) {
	if b.fetcher.Reach.User != "" && b.fetcher.isOwn(request.URL) && request.Header.Get("Authorization") == "" {
		request = request.Clone(request.Context())
		request.SetBasicAuth(b.fetcher.Reach.User, b.fetcher.Reach.Password)
	}
	return b.by.RoundTrip(request)
}

// isOwn tells whether an address is of the site: what is secret goes nowhere else.
func (f *Fetcher) isOwn(where *url.URL) bool {
	return where.Host == f.Address.Host && where.Scheme == f.Address.Scheme
}

// certificateWords says what is wrong with a certificate; "" if it is none of that.
func certificateWords(err error) string {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err, &unknown):
		return "its certificate is signed by nobody that is trusted here"
	case errors.As(err, &name):
		return fmt.Sprintf("its certificate is made for another name, not for %s", name.Host)
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return "its certificate is out of date"
	case errors.As(err, &invalid):
		return "its certificate is not valid: " + invalid.Error()
	}
	return ""
}

// session signs in once, and returns the client that has the session.
func (f *Fetcher) session(ctx context.Context) (*http.Client, error) {
	f.signing.Lock()
	defer f.signing.Unlock()
	if f.signedIn == nil && f.signInProblem == nil {
		client, err := f.signIn(ctx)
		if ctx.Err() != nil {
			return nil, ctx.Err() // which says nothing about the site
		}
		f.signedIn, f.signInProblem = client, err
	}
	return f.signedIn, f.signInProblem
}

// signIn fills in the form as a person does: with what it holds already, such as its
// hidden fields, and what the person adds.
func (f *Fetcher) signIn(ctx context.Context) (*http.Client, error) {
	how := f.Reach.SignIn
	if how == nil {
		return nil, errors.New("nobody is signed in: say how, under [reach.sign_in]")
	}
	ctx, cancel := context.WithTimeout(ctx, f.Timeout)
	defer cancel()
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	client := *f.client
	client.Jar = jar
	where := f.Resolve(how.Path)
	page, err := f.send(ctx, &client, where, nil)
	if err != nil {
		return nil, fmt.Errorf("the page to sign in does not answer: %w", err)
	}
	filled, target := fillForm(page, where, how.Fields)
	if target == nil {
		return nil, fmt.Errorf("%s holds no form with the fields that are to be filled in", how.Path)
	}
	if !f.isOwn(target) {
		return nil, fmt.Errorf("the form to sign in sends to another host, %s", target.Host)
	}
	answered, err := f.send(ctx, &client, target, filled)
	if err != nil {
		return nil, fmt.Errorf("the form to sign in is not answered: %w", err)
	}
	if _, again := fillForm(answered, where, how.Fields); again != nil {
		return nil, errors.New("signing in was refused: the form came back. Check the user and the password")
	}
	return &client, nil
}

// send asks for a page, or sends a form, and follows to where that leads on the site. It
// returns the last page.
func (f *Fetcher) send(ctx context.Context, client *http.Client, where *url.URL, form url.Values) ([]byte, error) {
	for range smoke.MostHops {
		request, err := f.newRequest(ctx, where, manner{})
		if err != nil {
			return nil, err
		}
		if form != nil {
			request.Method, request.Body = http.MethodPost, io.NopCloser(strings.NewReader(form.Encode()))
			request.ContentLength = int64(len(form.Encode()))
			request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			form = nil
		}
		response, err := client.Do(request)
		if err != nil {
			return nil, f.explain(ctx, err)
		}
		body, err := io.ReadAll(io.LimitReader(response.Body, smoke.LargestPage))
		if err := errors.Join(err, response.Body.Close()); err != nil {
			return nil, f.explain(ctx, err)
		}
		target, err := response.Location()
		switch {
		case err != nil && response.StatusCode >= 400:
			return nil, fmt.Errorf("the server answers %d", response.StatusCode)
		case err != nil, !f.isOwn(target):
			return body, nil
		}
		where = target
	}
	return nil, errors.New("it redirects in a loop")
}

// fillForm finds the form that has all of the fields; its target is nil if there is none.
func fillForm(page []byte, where *url.URL, fields map[string]string) (filled url.Values, target *url.URL) {
	document, err := goquery.NewDocumentFromReader(bytes.NewReader(page))
	if err != nil {
		return nil, nil
	}
	document.Find("form").EachWithBreak(func(_ int, s *goquery.Selection) bool {
		held, names := url.Values{}, []string{}
		s.Find("input[name], textarea[name], select[name]").Each(func(_ int, field *goquery.Selection) {
			name := field.AttrOr("name", "")
			names = append(names, name)
			if kind := field.AttrOr("type", ""); kind == "hidden" {
				held.Set(name, field.AttrOr("value", ""))
			}
		})
		for name, value := range fields {
			if !slices.Contains(names, name) {
				return true
			}
			held.Set(name, value)
		}
		at, err := where.Parse(s.AttrOr("action", ""))
		if err != nil {
			return true
		}
		filled, target = held, at
		return false
	})
	return filled, target
}
