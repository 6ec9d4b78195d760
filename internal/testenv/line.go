package testenv

import (
	"io"
	"net"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wetland/internal/loopback"
)

// Line is a way to a server that takes its time, and that can be cut and frozen.
type Line struct {
	Address  string       // HOST:PORT, which leads to the server
	Received atomic.Int64 // bytes that came from the server
	delay    time.Duration
	width    int
	lock     sync.Mutex
	open     []*way
}

// way is one connection over a line.
type way struct {
	near, far net.Conn
	frozen    atomic.Bool
	over      chan struct{} // closed when it is cut
	cut       sync.Once
}

// StartLine leads to a server until the test ends: what goes in either direction comes delay later,
// and at most so many bytes a second; 0 is no bound.
func StartLine(t testing.TB, server string, delay time.Duration, width int) *Line {
	t.Helper()
	l := &Line{delay: delay, width: width}
	l.Address = loopback.Listen(t, "tcp", "127.0.0.1:0", func(near net.Conn) {
		far, err := net.Dial("tcp", server)
		if err != nil {
			return
		}
		w := &way{near: near, far: far, over: make(chan struct{})}
		l.lock.Lock()
		l.open = append(l.open, w)
		l.lock.Unlock()
		go func() { l.carry(w, far, near, nil); w.thawed(); w.end() }()
		go func() { l.carry(w, near, far, &l.Received); w.thawed(); w.end() }()
		<-w.over
	}).String()
	return l
}

// thawed waits while it is frozen: not even an end gets through.
func (w *way) thawed() {
	for w.frozen.Load() {
		select {
		case <-w.over:
			return
		case <-time.After(5 * time.Millisecond):
		}
	}
}

func (w *way) end() {
	w.cut.Do(func() {
		close(w.over)
		_ = w.near.Close()
		_ = w.far.Close()
	})
}

// each does something with all connections that are on the line now. Later ones pass.
func (l *Line) each(do func(*way)) {
	l.lock.Lock()
	defer l.lock.Unlock()
	for _, w := range l.open {
		do(w)
	}
}

// Cut ends all connections that are on the line.
func (l *Line) Cut() { l.each((*way).end) }

// Freeze holds up all that is on the line, without a word to either side, until Thaw.
func (l *Line) Freeze() { l.each(func(w *way) { w.frozen.Store(true) }) }

// Thaw lets it go on.
func (l *Line) Thaw() { l.each(func(w *way) { w.frozen.Store(false) }) }

// parcel is what is on its way.
type parcel struct {
	data []byte
	due  time.Time
}

// carry carries bytes to one side, each stretch after its delay, in their order.
func (l *Line) carry(w *way, to io.Writer, from io.Reader, count *atomic.Int64) {
	sent := make(chan parcel, 4096)
	go func() {
		defer close(sent)
		free := time.Now() // when the line can take more
		for {
			data := make([]byte, 16<<10)
			n, err := from.Read(data)
			if n > 0 {
				if now := time.Now(); free.Before(now) {
					free = now
				}
				if l.width > 0 {
					free = free.Add(time.Duration(n) * time.Second / time.Duration(l.width))
				}
				select {
				case sent <- parcel{data[:n], free.Add(l.delay)}:
				case <-w.over:
					return
				}
			}
			if err != nil {
				return
			}
		}
	}()
	for one := range sent {
		time.Sleep(time.Until(one.due))
		w.thawed()
		if _, err := to.Write(one.data); err != nil {
			return
		}
		if count != nil {
			count.Add(int64(len(one.data)))
		}
	}
}
