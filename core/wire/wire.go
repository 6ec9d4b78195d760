// Package wire is how a desk and a helper on another machine talk over one pair of streams: calls, each
// with a stream of bytes in both directions, many at the same time. Begin reading at Dial and Serve;
// docs/wire.md describes every byte.
//
// It promises that what comes from the other side costs bounded memory, whatever it is; that a call
// which nobody reads holds up no other; and that a line which is dead, or says what nobody says, ends
// every call with an error.
package wire

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"
)

// Version is that of the protocol: both sides must have the same.
const Version = 1

const (
	preface      = "WETLAND LINE " // begins what each side says first
	mostGreeting = 64 << 10        // of what a shell prints before it, in bytes
	mostPayload  = 64 << 10        // of one frame, in bytes
	pieceSize    = 32 << 10        // of the frames that are sent
	window       = 2 << 20         // bytes on their way in one direction of a call, before they are packed
	mostCalls    = 128             // at the same time
	headSize     = 1 + 4 + 4
)

// The kinds of frames: kind, number of the call, length, and so many bytes.
const (
	frameCall   byte = iota + 1 // the desk begins a call: its head as JSON
	frameData                   // bytes of a call's stream
	frameEnd                    // no more bytes come from this side
	frameDone                   // the helper ended the call: its outcome as JSON
	frameCancel                 // the desk gave the call up
	frameCredit                 // so many more bytes may be sent
	framePing
	framePong
)

// Reasons why a line ended.
var (
	// ErrBroken says that the streams ended, or failed.
	ErrBroken = errors.New("the line broke")
	// ErrSilent says that nothing came back for too long.
	ErrSilent = errors.New("the line is dead: nothing came back")
	// ErrProtocol says that the other side said what nobody says.
	ErrProtocol = errors.New("the other side does not keep to the protocol")
	// ErrNoHelper says that something else answers, as a shell that prints.
	ErrNoHelper = errors.New("no helper answers")
	// ErrVersion says that the other side speaks another version.
	ErrVersion = errors.New("the helper is of another version")
)

// Errors are those that keep what they are on their way: errors.Is finds them on the other side.
// Their names are part of the protocol.
type Errors map[string]error

// Options say how a line is kept.
type Options struct {
	Errors Errors
	// Silence is how long nothing may come before the line is given up; 0: 15 seconds.
	Silence time.Duration
	// Packed has all frames packed with zstd, as both sides must agree.
	Packed bool
	// Heard, if not nil, is called whenever something came, before it is carried out.
	Heard func()
}

// line is what both sides have.
type line struct {
	options Options
	from    *bufio.Reader
	to      io.Writer
	flush   func() error // what was written, to the other side
	close   func() error
	ctx     context.Context
	end     context.CancelCauseFunc
	heard   atomic.Int64 // when the last frame came, in nanoseconds

	answering atomic.Bool // a pong is on its way

	writing sync.Mutex
	frame   []byte // room for what is written

	lock  sync.Mutex // guards calls and last
	calls map[uint32]*call
	last  uint32 // the number of the newest call
}

func newLine(ctx context.Context, streams io.ReadWriteCloser, o Options) *line {
	if o.Silence == 0 {
		o.Silence = 15 * time.Second
	}
	l := &line{options: o, from: bufio.NewReaderSize(streams, 2*pieceSize), to: streams, flush: func() error { return nil }, close: sync.OnceValue(streams.Close), calls: map[uint32]*call{}}
	l.ctx, l.end = context.WithCancelCause(ctx)
	context.AfterFunc(l.ctx, func() { _ = l.close() })
	return l
}

// broken says why the line ended.
func (l *line) broken(err error) error {
	if cause := context.Cause(l.ctx); cause != nil {
		return cause
	}
	if err == nil || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return ErrBroken
	}
	return fmt.Errorf("%w: %w", ErrBroken, err)
}

// introduce says who speaks here, and reads who does there. What a shell prints before that is
// passed over.
func (l *line) introduce() error {
	said := make(chan error, 1)
	go func() { // the other side may wait for us to read first
		_, err := fmt.Fprintf(l.to, "%s%d\n", preface, Version)
		said <- err
	}()
	var greeting bytes.Buffer
	for greeting.Len() < mostGreeting {
		text, err := l.from.ReadSlice('\n')
		greeting.Write(text)
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return fmt.Errorf("%w: %w%s", ErrNoHelper, l.broken(err), quoted(greeting.String()))
		}
		if _, version, ok := strings.Cut(string(text), preface); ok {
			if version != fmt.Sprintf("%d\n", Version) {
				return fmt.Errorf("%w: it speaks version %.20q of the protocol, and this is %d", ErrVersion, strings.TrimSpace(version), Version)
			}
			if err := <-said; err != nil {
				return l.broken(err)
			}
			return l.pack()
		}
	}
	return fmt.Errorf("%w%s", ErrNoHelper, quoted(greeting.String()))
}

// packWindow bounds the memory that packing takes on either side, in bytes.
const packWindow = 512 << 10

// pack has all that is said from now on packed, if that is agreed.
func (l *line) pack() error {
	if !l.options.Packed {
		return nil
	}
	packer, err := zstd.NewWriter(l.to, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(packWindow), zstd.WithEncoderConcurrency(1), zstd.WithLowerEncoderMem(true))
	if err != nil {
		return err
	}
	unpacker, err := zstd.NewReader(l.from, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(packWindow), zstd.WithDecoderLowmem(true))
	if err != nil {
		return err
	}
	l.to, l.flush, l.from = packer, packer.Flush, bufio.NewReaderSize(unpacker, 2*pieceSize)
	return nil
}

// quoted is the beginning of what something else said.
func quoted(text string) string {
	if text == "" {
		return ""
	}
	return fmt.Sprintf(": %.200q", text)
}

// send writes a frame whole.
func (l *line) send(kind byte, number uint32, payload []byte) error {
	l.writing.Lock()
	defer l.writing.Unlock()
	l.frame = append(l.frame[:0], kind)
	l.frame = binary.BigEndian.AppendUint32(l.frame, number)
	l.frame = binary.BigEndian.AppendUint32(l.frame, uint32(len(payload)))
	l.frame = append(l.frame, payload...)
	_, err := l.to.Write(l.frame)
	if err == nil {
		err = l.flush()
	}
	if err != nil {
		err = l.broken(err)
		l.end(err)
		return err
	}
	return nil
}

// sendJSON writes a frame with a value.
func (l *line) sendJSON(kind byte, number uint32, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	if len(text) > mostPayload {
		return fmt.Errorf("%d bytes in one message; at most %d are allowed", len(text), mostPayload)
	}
	return l.send(kind, number, text)
}

// receive reads frames until the line ends, and hands each over.
func (l *line) receive(handle func(kind byte, number uint32, payload []byte) error) error {
	var head [headSize]byte
	payload := make([]byte, mostPayload)
	for {
		if _, err := io.ReadFull(l.from, head[:]); err != nil {
			return l.broken(err)
		}
		length := binary.BigEndian.Uint32(head[5:])
		if length > mostPayload {
			return fmt.Errorf("%w: a frame of %d bytes", ErrProtocol, length)
		}
		if _, err := io.ReadFull(l.from, payload[:length]); err != nil {
			return l.broken(err)
		}
		l.heard.Store(time.Now().UnixNano())
		if l.options.Heard != nil {
			l.options.Heard()
		}
		kind, number := head[0], binary.BigEndian.Uint32(head[1:])
		switch kind {
		case framePing:
			if l.answering.CompareAndSwap(false, true) { // whoever reads must not wait for who writes
				go func() {
					_ = l.send(framePong, 0, nil)
					l.answering.Store(false)
				}()
			}
		case framePong:
		default:
			if err := handle(kind, number, payload[:length]); err != nil {
				return err
			}
		}
	}
}

// watch asks whether the line stands, and gives it up when nothing comes.
func (l *line) watch(ask bool) {
	l.heard.Store(time.Now().UnixNano())
	asking := time.NewTicker(l.options.Silence / 3)
	defer asking.Stop()
	for {
		select {
		case <-l.ctx.Done():
			return
		case <-asking.C:
			if time.Since(time.Unix(0, l.heard.Load())) > l.options.Silence {
				l.end(ErrSilent)
				return
			}
			if ask {
				go func() { _ = l.send(framePing, 0, nil) }()
			}
		}
	}
}

// call finds a call; nil: it is over.
func (l *line) call(number uint32) *call {
	l.lock.Lock()
	defer l.lock.Unlock()
	return l.calls[number]
}

// forget tells whether the call was still under way.
func (l *line) forget(number uint32) bool {
	l.lock.Lock()
	defer l.lock.Unlock()
	_, was := l.calls[number]
	delete(l.calls, number)
	return was
}

// endAll ends every call for the reason for which the line ended.
func (l *line) endAll(reason error) {
	l.end(reason)
	l.lock.Lock()
	defer l.lock.Unlock()
	for _, c := range l.calls {
		c.stop(reason)
	}
}

// arrived handles the frames that both sides get.
func (l *line) arrived(kind byte, number uint32, payload []byte) error {
	c := l.call(number)
	if c == nil {
		l.lock.Lock()
		defer l.lock.Unlock()
		if number > l.last {
			return fmt.Errorf("%w: a frame of a call that nobody made", ErrProtocol)
		}
		return nil // it was under way when the call ended
	}
	switch kind {
	case frameData:
		return c.in.put(payload)
	case frameEnd:
		c.in.end(io.EOF)
		return nil
	case frameCredit:
		if len(payload) != 4 {
			return fmt.Errorf("%w: a credit of %d bytes", ErrProtocol, len(payload))
		}
		return c.out.add(binary.BigEndian.Uint32(payload))
	}
	return fmt.Errorf("%w: a frame of the kind %d", ErrProtocol, kind)
}
