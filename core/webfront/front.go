// Package webfront is the web server of a private copy, before a pool of PHP: it hands out the files that are
// there, has the pool run the scripts, and lets the site's first script answer for all else, as the web server
// of a CMS is set up to. Begin reading at Site.
package webfront

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/textproto"
	"net/url"
	"os"
	"path"
	"strconv"
	"strings"

	"wetland/core/fastcgi"
)

// Site is what is served.
type Site struct {
	Public string `json:"public"` // the folder whose files the address serves
	Script string `json:"script"` // the one that answers for what is not there, below Public: "/index.php"
	Pool   string `json:"pool"`   // the socket of the pool
	Name   string `json:"name"`   // the host that visitors ask for
	Port   string `json:"port"`
	HTTPS  bool   `json:"https"`
}

// Serve answers at the address, HOST:PORT, for the site that the text describes as JSON, until the context
// ends.
func Serve(ctx context.Context, text, address string) error {
	var site Site
	if err := json.Unmarshal([]byte(text), &site); err != nil {
		return fmt.Errorf("read what is served: %w", err)
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	return site.Serve(ctx, listener)
}

// Serve answers at the listener until the context ends.
func (s Site) Serve(ctx context.Context, listener net.Listener) error {
	server := &http.Server{Handler: s, BaseContext: func(net.Listener) context.Context { return ctx }}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	err := server.Serve(listener)
	if errors.Is(err, http.ErrServerClosed) {
		return ctx.Err()
	}
	return err
}

// ServeHTTP answers one request.
func (s Site) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	asked := path.Clean("/" + r.URL.Path)
	info, err := os.Stat(s.Public + asked)
	switch {
	case err == nil && info.IsDir():
		s.serveFolder(w, r, asked)
	case err == nil && path.Ext(asked) == ".php":
		s.run(w, r, asked, "")
	case err == nil && info.Mode().IsRegular():
		s.serveFile(w, r, asked)
	default:
		if script, rest, ok := s.scriptIn(asked); ok {
			s.run(w, r, script, rest)
		} else {
			s.run(w, r, s.Script, "")
		}
	}
}

// serveFolder answers with the folder's first script or page, and has its address end in a slash.
func (s Site) serveFolder(w http.ResponseWriter, r *http.Request, asked string) {
	for _, first := range []string{"index.php", "index.html"} {
		at := path.Join(asked, first)
		if _, err := os.Stat(s.Public + at); err != nil {
			continue
		}
		switch {
		case !strings.HasSuffix(r.URL.Path, "/"):
			to := url.URL{Path: r.URL.Path + "/", RawQuery: r.URL.RawQuery}
			http.Redirect(w, r, to.String(), http.StatusMovedPermanently)
		case first == "index.php":
			s.run(w, r, at, "")
		default:
			s.serveFile(w, r, at)
		}
		return
	}
	s.run(w, r, s.Script, "")
}

// serveFile hands out a file. http.ServeFile would send who asks for index.html elsewhere.
func (s Site) serveFile(w http.ResponseWriter, r *http.Request, asked string) {
	file, err := os.Open(s.Public + asked)
	if err != nil {
		http.Error(w, "forbidden", http.StatusForbidden)
		return
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		http.Error(w, "forbidden", http.StatusForbidden)
		return
	}
	http.ServeContent(w, r, path.Base(asked), info.ModTime(), file)
}

// scriptIn finds the script in an address that goes on behind it: /index.php/fares.
func (s Site) scriptIn(asked string) (script, rest string, ok bool) {
	before, _, found := strings.Cut(asked, ".php/")
	if !found {
		return "", "", false
	}
	script = before + ".php"
	info, err := os.Stat(s.Public + script)
	return script, asked[len(script):], err == nil && info.Mode().IsRegular()
}

// run has the pool run a script.
func (s Site) run(w http.ResponseWriter, r *http.Request, script, rest string) {
	connection, err := (&net.Dialer{}).DialContext(r.Context(), "unix", s.Pool)
	if err != nil {
		http.Error(w, "the pool of PHP does not answer", http.StatusBadGateway)
		return
	}
	defer connection.Close()
	stop := context.AfterFunc(r.Context(), func() { _ = connection.Close() })
	defer stop()
	said, err := fastcgi.Ask(connection, s.variables(r, script, rest), r.Body)
	if err != nil {
		http.Error(w, "the pool of PHP does not answer", http.StatusBadGateway)
		return
	}
	pass(w, bufio.NewReader(said))
}

// pass passes on what a script prints (RFC 3875, 6).
func pass(w http.ResponseWriter, said *bufio.Reader) {
	head, err := textproto.NewReader(said).ReadMIMEHeader()
	if err != nil {
		http.Error(w, "the pool of PHP did not answer", http.StatusBadGateway)
		return
	}
	status := http.StatusOK
	if line := head.Get("Status"); line != "" {
		number, _, _ := strings.Cut(line, " ")
		if n, err := strconv.Atoi(number); err == nil && n >= 100 && n <= 999 {
			status = n
		}
	} else if head.Get("Location") != "" {
		status = http.StatusFound
	}
	head.Del("Status")
	for name, values := range head {
		w.Header()[name] = values
	}
	w.WriteHeader(status)
	if _, err := io.Copy(w, said); err != nil {
		panic(http.ErrAbortHandler) // the client is to see that the answer is not whole
	}
}

// variables are what a script is told of a request (RFC 3875, 4.1), as web servers tell it.
func (s Site) variables(r *http.Request, script, rest string) []fastcgi.Pair {
	all := []fastcgi.Pair{
		{"GATEWAY_INTERFACE", "CGI/1.1"}, {"SERVER_SOFTWARE", "wetland"}, {"SERVER_PROTOCOL", r.Proto}, {"SERVER_NAME", s.Name}, {"SERVER_PORT", s.Port}, {"SERVER_ADDR", "127.0.0.1"},
		{"REMOTE_ADDR", "127.0.0.1"}, {"REMOTE_PORT", "0"}, {"REQUEST_METHOD", r.Method}, {"REQUEST_URI", r.RequestURI}, {"QUERY_STRING", r.URL.RawQuery}, {"DOCUMENT_ROOT", s.Public},
		{"DOCUMENT_URI", script}, {"SCRIPT_NAME", script}, {"SCRIPT_FILENAME", s.Public + script}, {"CONTENT_TYPE", r.Header.Get("Content-Type")}, {"REDIRECT_STATUS", "200"}, {"HTTP_HOST", r.Host},
	}
	if r.ContentLength > 0 {
		all = append(all, fastcgi.Pair{"CONTENT_LENGTH", strconv.FormatInt(r.ContentLength, 10)})
	}
	if rest != "" {
		all = append(all, fastcgi.Pair{"PATH_INFO", rest})
	}
	scheme := "http"
	if s.HTTPS {
		scheme = "https"
		all = append(all, fastcgi.Pair{"HTTPS", "on"})
	}
	all = append(all, fastcgi.Pair{"REQUEST_SCHEME", scheme})
	for name, values := range r.Header {
		if name != "Proxy" { // programs take HTTP_PROXY for a setting of theirs
			all = append(all, fastcgi.Pair{"HTTP_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_")), strings.Join(values, ", ")})
		}
	}
	return all
}
