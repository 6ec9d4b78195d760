package wire

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
)

// call is one call under way: a stream of bytes in each direction.
type call struct {
	line   *line
	number uint32
	in     *inbox
	out    *credit
	ended  sync.Once
	owner  *Stream // on the desk
}

func newCall(l *line, number uint32) *call {
	return &call{line: l, number: number, in: newInbox(), out: newCredit()}
}

// stop ends both directions.
func (c *call) stop(reason error) {
	c.in.end(reason)
	c.out.end(reason)
}

// Read reads what the other side writes, and io.EOF after all of it.
func (c *call) Read(p []byte) (int, error) {
	n, consumed, err := c.in.read(p)
	if consumed > 0 { // what was read makes room for more
		if err := c.line.send(frameCredit, c.number, binary.BigEndian.AppendUint32(nil, uint32(consumed))); err != nil {
			return n, err
		}
	}
	return n, err
}

// Write writes to the other side. It waits while that does not read.
func (c *call) Write(p []byte) (written int, err error) {
	for len(p) > 0 {
		n, err := c.out.take(min(len(p), pieceSize))
		if err != nil {
			return written, err
		}
		if err := c.line.send(frameData, c.number, p[:n]); err != nil {
			return written, err
		}
		written, p = written+n, p[n:]
	}
	return written, nil
}

// CloseWrite says that no more is written.
func (c *call) CloseWrite() (err error) {
	c.ended.Do(func() { err = c.line.send(frameEnd, c.number, nil) })
	return err
}

// inbox holds what came and was not read yet: at most a window.
type inbox struct {
	lock     sync.Mutex
	changed  *sync.Cond
	bytes    []byte
	consumed int // read, and not credited yet
	over     error
}

func newInbox() *inbox {
	b := &inbox{}
	b.changed = sync.NewCond(&b.lock)
	return b
}

func (b *inbox) put(p []byte) error {
	b.lock.Lock()
	defer b.lock.Unlock()
	if b.over != nil {
		return nil // nobody reads it any more
	}
	if len(b.bytes)+b.consumed+len(p) > window {
		return fmt.Errorf("%w: more bytes than may be on their way", ErrProtocol)
	}
	b.bytes = append(b.bytes, p...)
	b.changed.Broadcast()
	return nil
}

// end lets what came be read, and then gives the reason; a failure at once.
func (b *inbox) end(reason error) {
	b.lock.Lock()
	defer b.lock.Unlock()
	if b.over == nil || errors.Is(b.over, io.EOF) {
		b.over = reason
	}
	b.changed.Broadcast()
}

// read also returns how many bytes may be credited.
func (b *inbox) read(p []byte) (n, credited int, err error) {
	b.lock.Lock()
	defer b.lock.Unlock()
	for len(b.bytes) == 0 && b.over == nil {
		b.changed.Wait()
	}
	if b.over != nil && (len(b.bytes) == 0 || !errors.Is(b.over, io.EOF)) {
		return 0, 0, b.over
	}
	n = copy(p, b.bytes)
	b.bytes = b.bytes[n:]
	if len(b.bytes) == 0 {
		b.bytes = nil // its room is given back
	}
	if b.consumed += n; b.consumed >= window/8 && b.over == nil {
		credited, b.consumed = b.consumed, 0
	}
	return n, credited, nil
}

// credit is how many bytes may still be sent.
type credit struct {
	lock    sync.Mutex
	changed *sync.Cond
	left    int
	over    error
}

func newCredit() *credit {
	c := &credit{left: window}
	c.changed = sync.NewCond(&c.lock)
	return c
}

// take waits until some of the bytes may be sent.
func (c *credit) take(most int) (int, error) {
	c.lock.Lock()
	defer c.lock.Unlock()
	for c.left == 0 && c.over == nil {
		c.changed.Wait()
	}
	if c.over != nil {
		return 0, c.over
	}
	n := min(most, c.left)
	c.left -= n
	return n, nil
}

func (c *credit) add(n uint32) error {
	c.lock.Lock()
	defer c.lock.Unlock()
	if int64(c.left)+int64(n) > window {
		return fmt.Errorf("%w: a credit for bytes that were not sent", ErrProtocol)
	}
	c.left += int(n)
	c.changed.Broadcast()
	return nil
}

func (c *credit) end(reason error) {
	c.lock.Lock()
	defer c.lock.Unlock()
	if c.over == nil {
		c.over = reason
	}
	c.changed.Broadcast()
}

// outcome is how a call ended, as it goes over the line.
type outcome struct {
	Result json.RawMessage `json:"result,omitempty"`
	Failure
}

// Failure is an error on its way.
type Failure struct {
	Error string   `json:"error,omitempty"`
	Is    []string `json:"is,omitempty"` // names of Errors
}

// remote is an error of the other side.
type remote struct {
	text string
	is   []error
}

func (r *remote) Error() string   { return r.text }
func (r *remote) Unwrap() []error { return r.is }

// Describe makes a failure of an error.
func (known Errors) Describe(err error) Failure {
	o := Failure{Error: err.Error()}
	if len(o.Error) > mostPayload/8 {
		o.Error = o.Error[:mostPayload/8]
	}
	if o.Error == "" {
		o.Error = "it failed"
	}
	for name, one := range known {
		if errors.Is(err, one) {
			o.Is = append(o.Is, name)
		}
	}
	if errors.Is(err, context.Canceled) {
		o.Is = append(o.Is, "canceled")
	}
	return o
}

// Err is the error of a failure; nil if there is none.
func (known Errors) Err(o Failure) error {
	if o.Error == "" {
		return nil
	}
	r := &remote{text: o.Error}
	for _, name := range o.Is {
		if one, ok := known[name]; ok {
			r.is = append(r.is, one)
		}
		if name == "canceled" {
			r.is = append(r.is, context.Canceled)
		}
	}
	return r
}
