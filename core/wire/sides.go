package wire

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
)

// head begins a call.
type head struct {
	Method string          `json:"method"`
	Args   json.RawMessage `json:"args,omitempty"`
}

// Desk is the side that calls.
type Desk struct {
	line    *line
	calling sync.Mutex    // calls begin in the order of their numbers
	places  chan struct{} // one for each call under way
}

// Stream is a call, as the desk has it.
type Stream struct {
	*call
	done chan outcome
	stop func() bool
}

// Dial speaks to a helper over the two directions of streams, and owns them. Errors wrap ErrNoHelper or
// ErrVersion where that is the reason. The context ends the introduction, not the line.
func Dial(ctx context.Context, streams io.ReadWriteCloser, o Options) (*Desk, error) {
	l := newLine(context.Background(), streams, o)
	stop := context.AfterFunc(ctx, func() { l.end(ctx.Err()) })
	defer stop()
	if err := l.introduce(); err != nil {
		l.end(err)
		return nil, err
	}
	d := &Desk{line: l, places: make(chan struct{}, mostCalls)}
	go l.watch(true)
	go func() { l.endAll(l.receive(d.arrived)) }()
	return d, nil
}

// Close ends the line and every call.
func (d *Desk) Close() error {
	d.line.endAll(ErrBroken)
	return d.line.close()
}

// Ended is closed when the line ended.
func (d *Desk) Ended() <-chan struct{} { return d.line.ctx.Done() }

func (d *Desk) arrived(kind byte, number uint32, payload []byte) error {
	if kind != frameDone {
		return d.line.arrived(kind, number, payload)
	}
	c := d.line.call(number)
	if c == nil {
		return d.line.arrived(frameEnd, number, nil)
	}
	var o outcome
	if err := json.Unmarshal(payload, &o); err != nil {
		return fmt.Errorf("%w: an outcome that cannot be read: %w", ErrProtocol, err)
	}
	if !d.line.forget(number) {
		return nil // it could not even be sent
	}
	<-d.places
	c.owner.done <- o // there is room for one, and no second one comes
	c.in.end(io.EOF)
	c.out.end(errOver)
	return nil
}

// errOver says that the helper ended a call that is written to.
var errOver = errors.New("the call is over")

// Call begins a call, once there is room for one more. When its context ends, the helper is told to stop.
func (d *Desk) Call(ctx context.Context, method string, args any) (*Stream, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	text, err := json.Marshal(args)
	if err != nil {
		return nil, err
	}
	select {
	case d.places <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-d.line.ctx.Done():
		return nil, context.Cause(d.line.ctx)
	}
	s, err := d.begin(head{method, text})
	if err != nil {
		return nil, err
	}
	s.stop = context.AfterFunc(ctx, func() {
		s.call.stop(ctx.Err())
		_ = s.line.send(frameCancel, s.number, nil)
	})
	return s, nil
}

// begin gives a call its number, and tells the helper.
func (d *Desk) begin(said head) (*Stream, error) {
	d.calling.Lock()
	defer d.calling.Unlock()
	l := d.line
	l.lock.Lock()
	l.last++
	s := &Stream{call: newCall(l, l.last), done: make(chan outcome, 1)}
	s.owner = s
	l.calls[s.number] = s.call
	l.lock.Unlock()
	if err := l.sendJSON(frameCall, s.number, said); err != nil {
		if l.forget(s.number) { // else the other side said that it is over
			<-d.places
		}
		return nil, err
	}
	return s, nil
}

// Wait waits for the end of the call, and reads its result into a value; nil wants none. What the
// helper wrote and nobody read is thrown away. When the context ends, the helper is told to stop, and
// what it says of that is waited for: afterwards it does nothing more for this call. Only the end of
// the line leaves that open.
func (s *Stream) Wait(ctx context.Context, result any) error {
	defer s.stop()
	defer context.AfterFunc(ctx, func() { _ = s.line.send(frameCancel, s.number, nil) })()
	go func() { _, _ = io.Copy(io.Discard, s.call) }()
	select {
	case o := <-s.done:
		if err := s.line.options.Errors.Err(o.Failure); err != nil {
			if ended := ctx.Err(); ended != nil {
				return ended
			}
			return err
		}
		if result == nil {
			return nil
		}
		return json.Unmarshal(o.Result, result)
	case <-s.line.ctx.Done():
		if ended := ctx.Err(); ended != nil {
			return ended
		}
		return context.Cause(s.line.ctx)
	}
}

// Do is a call without streams.
func (d *Desk) Do(ctx context.Context, method string, args, result any) error {
	s, err := d.Call(ctx, method, args)
	if err != nil {
		return err
	}
	return s.Wait(ctx, result)
}

// Request is a call, as the helper has it: what the desk writes is read from it, and what is written to
// it the desk reads.
type Request struct {
	*call
	Method string
	args   json.RawMessage
}

// Args reads the arguments into a value.
func (r *Request) Args(into any) error {
	if err := json.Unmarshal(r.args, into); err != nil {
		return fmt.Errorf("read what %s is called with: %w", r.Method, err)
	}
	return nil
}

// Handler carries out a call. Its context ends when the desk gives the call up, or the line ends.
type Handler func(ctx context.Context, r *Request) (result any, err error)

// Serve carries out the calls of a desk over the two directions of streams, until the line ends, and
// returns why it did. It waits for the calls that were under way.
func Serve(ctx context.Context, streams io.ReadWriteCloser, o Options, handle Handler) error {
	l := newLine(ctx, streams, o)
	h := &helper{line: l, handle: handle, cancels: map[uint32]context.CancelFunc{}}
	if err := l.introduce(); err != nil {
		l.end(err)
		return err
	}
	go l.watch(false)
	reason := l.receive(h.arrived)
	l.endAll(reason)
	h.running.Wait()
	return reason
}
