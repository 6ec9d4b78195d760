package cli

import (
	"bytes"
	"strings"
	"sync"
	"testing"

	"wetland/cli/screen"
	"wetland/core/progress"
)

// lines takes what is written, and tells of each line.
type lines struct {
	mu   sync.Mutex
	text bytes.Buffer
	line chan string
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.line <- string(p)
	return l.text.Write(p)
}

// Without a terminal a long step gives a sign of life, on standard error and also beside JSON;
// a short one, and one that ended, give none.
func TestSignsOfLife(t *testing.T) {
	for name, silent := range map[string]bool{"text": false, "json": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var out bytes.Buffer
			signs := &lines{line: make(chan string, 10)}
			s := screen.New(&out, silent)
			s.Signs = signs
			s.Begin("short", 10, "pages")
			s.End(progress.Good, "short", "all of it")
			s.Begin("pages before", 10, "pages")
			s.Advance(4)
			if got := <-signs.line; got != "  ..  pages before      4 of 10 pages\n" {
				t.Errorf("%q", got)
			}
			s.End(progress.Good, "pages before", "10 pages")
			s.Begin("database", 0, "")
			if got := <-signs.line; got != "  ..  database          under way\n" {
				t.Errorf("%q", got)
			}
			s.Begin("files", 4_000_000, "bytes")
			s.Advance(1_000_000)
			if got := <-signs.line; got != "  ..  files             1.0 MB of 4.0 MB\n" {
				t.Errorf("%q", got)
			}
			s.Clear()
			signs.mu.Lock()
			defer signs.mu.Unlock()
			if got := strings.Count(signs.text.String(), "\n"); got != 3 {
				t.Errorf("%d signs: %s", got, signs.text.String())
			}
			if silent != (out.Len() == 0) {
				t.Errorf("%q", out.String())
			}
		})
	}
}
