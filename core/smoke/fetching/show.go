package fetching

import (
	"bytes"
	"context"
	"errors"
	"html"
	"io"
	"net/http"
	"regexp"
	"strings"

	"wetland/core/smoke/browser"
)

// Show opens a browser's window at the site's first page, for a person, with a banner on every page. It returns
// when the window was closed, or the context has ended.
func (f *Fetcher) Show(ctx context.Context, banner string) error {
	program, why := f.program()
	if program == "" {
		return errors.New(why)
	}
	f.setUp()
	o := f.browserOptions(program)
	o.Reach = marked{o.Reach, banner}
	return browser.Show(ctx, o, f.Address.String())
}

// marked puts a banner on pages.
type marked struct {
	by     http.RoundTripper
	banner string
}

var bodyTag = regexp.MustCompile(`(?i)<body(\s(?:[^>"']|"[^"]*"|'[^']*')*)?>`)

// mostMarked is the largest page that gets one, in bytes.
const mostMarked = 16 << 20

func (m marked) RoundTrip(request *http.Request) (*http.Response, error) {
	request = request.Clone(request.Context())
	request.Header.Del("Accept-Encoding") // what is packed cannot be marked
	response, err := m.by.RoundTrip(request)
	if err != nil || !strings.HasPrefix(response.Header.Get("Content-Type"), "text/html") || response.Header.Get("Content-Encoding") != "" {
		return response, err
	}
	text, err := io.ReadAll(io.LimitReader(response.Body, mostMarked))
	if err != nil {
		return nil, errors.Join(err, response.Body.Close())
	}
	if at := bodyTag.FindIndex(text); at != nil {
		text = bytes.Join([][]byte{text[:at[1]], []byte(m.mark()), text[at[1]:]}, nil)
	}
	response.Header.Del("Content-Security-Policy") // it would take the banner's colours away
	response.Header.Del("Content-Length")
	response.ContentLength = -1
	response.Body = whole{bytes.NewReader(text), response.Body}
	return response, nil
}

func (m marked) mark() string {
	return `<div role="status" style="all:initial;display:block;position:sticky;top:0;z-index:2147483647;padding:10px 16px;background:#8a5a00;color:#fff;font:600 16px/1.4 sans-serif;text-align:center">` + html.EscapeString(m.banner) + `</div>`
}

// whole is a page, and then what is left of its answer.
type whole struct {
	io.Reader
	rest io.ReadCloser
}

func (w whole) Read(p []byte) (int, error) {
	n, err := w.Reader.Read(p)
	if errors.Is(err, io.EOF) {
		return w.rest.Read(p)
	}
	return n, err
}

func (w whole) Close() error { return w.rest.Close() }
