package browser

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"os"
	"slices"
	"sync"
	"time"
	"wetland/core/network"
)

// proxy is all that the browser can reach: it runs on this machine, and asks for whatever the
// browser wants in the way that it was told. So servers, names and certificates are those that
// the pages were fetched from and checked with. The browser believes the key of one run of the
// proxy, which never leaves this process, and no other that it would not believe anyway. Other
// users of this machine get nothing by it: the site's password is added to what it asks for.
type proxy struct {
	outer, inner *http.Server
	listener     net.Listener
	tunnels      chan net.Conn // whose ends the inner server serves
	closed       chan struct{}

	key   *ecdsa.PrivateKey
	mu    sync.Mutex
	known map[string]*tls.Certificate // by the name that was asked for
}

// tunnel is a connection that the browser takes for one to a host of its choice.
type tunnel struct {
	net.Conn
	read io.Reader
	to   string // host and port
}

func (t *tunnel) Read(p []byte) (int, error) { return t.read.Read(p) }

// toKey finds in a context where a tunnel leads.
type toKey struct{}

// startProxy listens on a free port of this machine alone, for this user and the browser's.
func startProxy(reach http.RoundTripper, browserUser int) (*proxy, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &proxy{listener: listener, tunnels: make(chan net.Conn), closed: make(chan struct{}), key: key, known: map[string]*tls.Certificate{}}
	silent := log.New(io.Discard, "", 0)
	forward := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.Host = r.In.Host
			if to, tunnelled := r.In.Context().Value(toKey{}).(string); tunnelled {
				r.Out.URL.Host, r.Out.URL.Scheme = to, "http"
				if r.In.TLS != nil {
					r.Out.URL.Scheme = "https"
				}
			}
		},
		Transport: reach, FlushInterval: -1, ErrorLog: silent,
		// To the browser it is as if the server had said nothing.
		ErrorHandler: func(http.ResponseWriter, *http.Request, error) { panic(http.ErrAbortHandler) },
	}
	p.outer = &http.Server{ErrorLog: silent, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == http.MethodConnect:
			p.dig(w, r)
		case r.URL.IsAbs() && r.URL.Scheme == "http":
			forward.ServeHTTP(w, r)
		default:
			http.Error(w, "this is a proxy", http.StatusBadRequest)
		}
	})}
	p.inner = &http.Server{ErrorLog: silent, Handler: forward, TLSConfig: p.certificates(), ConnContext: func(ctx context.Context, c net.Conn) context.Context {
		if secure, ok := c.(*tls.Conn); ok {
			c = secure.NetConn()
		}
		return context.WithValue(ctx, toKey{}, c.(*tunnel).to)
	}}
	go func() { _ = p.outer.Serve(ownListener{listener, []int{os.Geteuid(), browserUser}}) }() // until Close
	go func() { _ = p.inner.Serve(p) }()
	return p, nil
}

// ownListener hangs up on other users than these, where the system tells whose a connection is.
type ownListener struct {
	net.Listener
	users []int
}

func (l ownListener) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if user, known := userOf(conn); !known || slices.Contains(l.users, user) {
			return conn, nil
		}
		_ = conn.Close()
	}
}

// dig makes a tunnel, whose other end is here.
func (p *proxy) dig(w http.ResponseWriter, r *http.Request) {
	conn, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	if _, err := io.WriteString(conn, "HTTP/1.1 200 Connection established\r\n\r\n"); err != nil {
		_ = conn.Close()
		return
	}
	read := bufio.NewReader(io.MultiReader(io.LimitReader(buffered, int64(buffered.Reader.Buffered())), conn))
	t := &tunnel{Conn: conn, read: read, to: r.Host}
	var end net.Conn = t
	const handshake = 22 // the first byte of TLS, RFC 8446, 5.1
	if first, err := read.Peek(1); err == nil && first[0] == handshake {
		end = tls.Server(t, p.inner.TLSConfig)
	}
	select {
	case p.tunnels <- end:
	case <-p.closed:
		_ = conn.Close()
	}
}

// Accept gives the inner server the next tunnel.
func (p *proxy) Accept() (net.Conn, error) {
	select {
	case conn := <-p.tunnels:
		return conn, nil
	case <-p.closed:
		return nil, net.ErrClosed
	}
}

// Addr is where the browser finds the proxy.
func (p *proxy) Addr() net.Addr { return p.listener.Addr() }

// Close ends all connections.
func (p *proxy) Close() error {
	select {
	case <-p.closed:
		return nil
	default:
		close(p.closed)
	}
	return errors.Join(p.outer.Close(), p.inner.Close())
}

// keyHash names the proxy's key to the browser.
func (p *proxy) keyHash() (string, error) {
	public, err := x509.MarshalPKIXPublicKey(p.key.Public())
	sum := sha256.Sum256(public)
	return base64.StdEncoding.EncodeToString(sum[:]), err
}

// certificates makes one for each name that the browser asks for, all with the proxy's key.
func (p *proxy) certificates() *tls.Config {
	return &tls.Config{NextProtos: []string{"h2", "http/1.1"}, GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		p.mu.Lock()
		defer p.mu.Unlock()
		if known := p.known[hello.ServerName]; known != nil {
			return known, nil
		}
		// An address of numbers has no name here.
		made, err := network.SelfSigned(p.key, hello.ServerName, int64(len(p.known)+1), 24*time.Hour)
		if err != nil {
			return nil, err
		}
		p.known[hello.ServerName] = &tls.Certificate{Certificate: [][]byte{made}, PrivateKey: p.key}
		return p.known[hello.ServerName], nil
	}}
}
