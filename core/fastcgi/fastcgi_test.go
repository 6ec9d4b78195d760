package fastcgi

import (
	"bytes"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/fcgi"
	"strings"
	"testing"
)

// Go's own other side gets what is sent, and its answer comes whole, whatever the lengths.
func TestAsk(t *testing.T) {
	for _, length := range []int{0, 1, 65535, 65536, 300_000} {
		body := strings.Repeat("x", length)
		here, there := net.Pipe()
		listener := &once{conn: there, ended: make(chan struct{})}
		go func() {
			_ = fcgi.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				text, err := io.ReadAll(r.Body)
				if err != nil || r.Method != "POST" || fcgi.ProcessEnv(r)["ODD"] != strings.Repeat("v", 70_000) {
					t.Errorf("%d: %v %s", len(text), err, r.Method)
				}
				_, _ = w.Write(text)
			}))
		}()
		said, err := Ask(here, []Pair{{"REQUEST_METHOD", "POST"}, {"SERVER_PROTOCOL", "HTTP/1.1"}, {"REQUEST_URI", "/"}, {"HTTP_HOST", "ferry.example"}, {"ODD", strings.Repeat("v", 70_000)}}, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(said)
		_, got, _ := strings.Cut(string(text), "\r\n\r\n")
		if err != nil || got != body {
			t.Errorf("%d bytes of %d came back: %v", len(got), length, err)
		}
		_ = here.Close()
		close(listener.ended)
	}
}

// once listens for one connection.
type once struct {
	conn  net.Conn
	ended chan struct{}
}

func (o *once) Accept() (net.Conn, error) {
	if conn := o.conn; conn != nil {
		o.conn = nil
		return conn, nil
	}
	<-o.ended
	return nil, io.EOF
}
func (o *once) Close() error   { return nil }
func (o *once) Addr() net.Addr { return &net.UnixAddr{} }

// both is a connection of which one side is known beforehand.
type both struct {
	io.Reader
	io.Writer
}

// An answer that is cut off is an error, wherever it is cut.
func TestAnswerCutOff(t *testing.T) {
	whole := "\x01\x06\x00\x01\x00\x02\x01\x00ok.\x01\x03\x00\x01\x00\x00\x00\x00"
	for n := range len(whole) + 1 {
		said, err := Ask(both{strings.NewReader(whole[:n]), &bytes.Buffer{}}, nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(said)
		if n == len(whole) && (err != nil || string(text) != "ok") {
			t.Errorf("%q %v", text, err)
		}
		if n < len(whole) && !errors.Is(err, io.ErrUnexpectedEOF) {
			t.Errorf("cut after %d bytes: %v", n, err)
		}
	}
}

func FuzzAnswer(f *testing.F) {
	f.Add("\x01\x06\x00\x01\x00\x02\x00\x00ok\x01\x03\x00\x01\x00\x00\x00\x00")
	f.Fuzz(func(t *testing.T, text string) {
		said, err := Ask(both{strings.NewReader(text), io.Discard}, nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := io.ReadAll(said); err == nil && len(got) > len(text) {
			t.Errorf("%d bytes of %d", len(got), len(text))
		}
	})
}
