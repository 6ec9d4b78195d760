package testenv

import (
	"io"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"wetland/internal/loopback"
)

// Line is a way to a server that takes its time, and that can be cut and frozen.
type Line struct {
	Address string // HOST:PORT, which leads to the server
	// Sent and Received count the bytes that went to the server, and came from it.
	Sent, Received atomic.Int64
	ended          chan struct{} // closed when it is cut
	cut            atomic.Bool
	frozen         atomic.Bool
}

// StartLine leads to a server until the test ends: what goes in either direction comes delay later,
// and at most so many bytes a second; 0 is no bound.
func StartLine(t testing.TB, server string, delay time.Duration, width int) *Line {
	t.Helper()
	l := &Line{ended: make(chan struct{})}
	l.Address = loopback.Listen(t, "tcp", "127.0.0.1:0", func(near net.Conn) {
		if l.cut.Load() {
			return
		}
		far, err := net.Dial("tcp", server)
		if err != nil {
			return
		}
		defer far.Close()
		over := make(chan struct{}, 2)
		go func() { l.carry(far, near, &l.Sent, delay, width); over <- struct{}{} }()
		go func() { l.carry(near, far, &l.Received, delay, width); over <- struct{}{} }()
		select {
		case <-over:
		case <-l.ended:
		}
	}).String()
	return l
}

// Cut ends all that goes over the line, and lets nobody on it any more.
func (l *Line) Cut() {
	if l.cut.CompareAndSwap(false, true) {
		close(l.ended)
	}
}

// Freeze holds up all that is on the line, without a word to either side, until Thaw.
func (l *Line) Freeze() { l.frozen.Store(true) }

// Thaw lets it go on.
func (l *Line) Thaw() { l.frozen.Store(false) }

// parcel is what is on its way.
type parcel struct {
	data []byte
	due  time.Time
}

// carry carries bytes to one side, each stretch after its delay, in their order.
func (l *Line) carry(to io.Writer, from io.Reader, count *atomic.Int64, delay time.Duration, width int) {
	way := make(chan parcel, 4096)
	go func() {
		defer close(way)
		free := time.Now() // when the line can take more
		for {
			data := make([]byte, 16<<10)
			n, err := from.Read(data)
			if n > 0 {
				if now := time.Now(); free.Before(now) {
					free = now
				}
				if width > 0 {
					free = free.Add(time.Duration(n) * time.Second / time.Duration(width))
				}
				way <- parcel{data[:n], free.Add(delay)}
			}
			if err != nil {
				return
			}
		}
	}()
	for one := range way {
		time.Sleep(time.Until(one.due))
		for l.frozen.Load() && !l.cut.Load() {
			time.Sleep(5 * time.Millisecond)
		}
		if _, err := to.Write(one.data); err != nil {
			break
		}
		count.Add(int64(len(one.data)))
	}
	go func() { // whoever reads must not wait for ever
		for range way {
		}
	}()
}
