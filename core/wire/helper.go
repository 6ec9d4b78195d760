package wire

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
)

// helper is the side that is called.
type helper struct {
	*line
	handle  Handler
	running sync.WaitGroup
	cancels map[uint32]context.CancelFunc // guarded by line.lock
}

func (h *helper) arrived(kind byte, number uint32, payload []byte) error {
	switch kind {
	case frameCall:
		return h.begin(number, payload)
	case frameCancel:
		h.lock.Lock()
		defer h.lock.Unlock()
		if cancel := h.cancels[number]; cancel != nil {
			h.calls[number].stop(context.Canceled)
			cancel()
		}
		return nil
	}
	return h.line.arrived(kind, number, payload)
}

func (h *helper) begin(number uint32, payload []byte) error {
	var said head
	if err := json.Unmarshal(payload, &said); err != nil {
		return fmt.Errorf("%w: a call that cannot be read: %w", ErrProtocol, err)
	}
	h.lock.Lock()
	defer h.lock.Unlock()
	if number <= h.last || len(h.calls) >= mostCalls {
		return fmt.Errorf("%w: call %d after %d, with %d under way", ErrProtocol, number, h.last, len(h.calls))
	}
	h.last = number
	ctx, cancel := context.WithCancel(h.ctx)
	r := &Request{call: newCall(h.line, number), Method: said.Method, args: said.Args}
	h.calls[number], h.cancels[number] = r.call, cancel
	h.running.Add(1)
	go h.run(ctx, cancel, r)
	return nil
}

func (h *helper) run(ctx context.Context, cancel context.CancelFunc, r *Request) {
	defer h.running.Done()
	defer cancel()
	result, err := h.handle(ctx, r)
	o := outcome{}
	if err == nil && result != nil {
		o.Result, err = json.Marshal(result)
	}
	if err == nil && len(o.Result) > mostPayload/2 {
		err = fmt.Errorf("%s: a result of %d bytes belongs into the stream", r.Method, len(o.Result))
	}
	if err != nil {
		o = outcome{Failure: h.options.Errors.Describe(err)}
	}
	h.lock.Lock()
	delete(h.calls, r.number)
	delete(h.cancels, r.number)
	h.lock.Unlock()
	_ = h.sendJSON(frameDone, r.number, o) // of a line that ended, everybody knows
}
