package remote

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"

	"wetland/core/wire"
)

// talk is a call that both sides go on talking in, by messages: a kind, a length, and so many bytes.
// Whoever writes flushes before it waits for an answer.
type talk struct {
	in      *bufio.Reader
	writing sync.Mutex
	out     *bufio.Writer
}

func newTalk(stream io.ReadWriter) *talk {
	return &talk{in: bufio.NewReaderSize(stream, 32<<10), out: bufio.NewWriterSize(stream, 32<<10)}
}

// The kinds of messages.
const (
	sayNames    byte = iota + 1 // of tables; which of them are the site's?
	sayOwned                    // those
	sayTables                   // of a moment, described
	sayWantRows                 // of a table of the moment, or of a change, by its number
	sayRow                      // one row
	sayNoMore                   // rows
	sayBroken                   // the rows cannot be had, and why
	sayApplied                  // the change is done; finish it?
	sayFinish                   // yes
	sayFinished
	sayName   // of a file
	sayStep   // of a walk
	sayResult // what became of a file; before its bytes, and after them
	sayBytes  // of a file
	sayItem   // of a tree
	sayDo     // a step to take
	sayOffer  // runs of rows by their hashes: which of them are wanted?
	sayAnswer // a byte for each: 1 if it is
	sayRun    // the rows of a run that is wanted
	saySurvey // describe all tables of the moment
)

// mostMessage bounds a message: a row is held whole by either side.
const mostMessage = 1 << 30

func (t *talk) say(kind byte, payload []byte) error {
	t.writing.Lock()
	defer t.writing.Unlock()
	var head [5]byte
	head[0] = kind
	if len(payload) > mostMessage {
		return fmt.Errorf("a row of %d bytes; at most %d are allowed", len(payload), mostMessage)
	}
	binary.BigEndian.PutUint32(head[1:], uint32(len(payload)))
	if _, err := t.out.Write(head[:]); err != nil {
		return err
	}
	_, err := t.out.Write(payload)
	return err
}

func (t *talk) flush() error {
	t.writing.Lock()
	defer t.writing.Unlock()
	return t.out.Flush()
}

// put says a value, which may wait for more.
func (t *talk) put(kind byte, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return t.say(kind, text)
}

// tell says a value, at once.
func (t *talk) tell(kind byte, value any) error {
	return errors.Join(t.put(kind, value), t.flush())
}

// hear reads the next message. Its bytes are read as they come: a length alone costs nothing.
func (t *talk) hear() (kind byte, payload []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(t.in, head[:]); err != nil {
		return 0, nil, err
	}
	length := int64(binary.BigEndian.Uint32(head[1:]))
	if length > mostMessage {
		return 0, nil, fmt.Errorf("%w: a message of %d bytes", wire.ErrProtocol, length)
	}
	if length <= 64<<10 {
		payload = make([]byte, length)
		_, err = io.ReadFull(t.in, payload)
		return head[0], payload, err
	}
	payload, err = io.ReadAll(io.LimitReader(t.in, length))
	if err == nil && int64(len(payload)) != length {
		err = io.ErrUnexpectedEOF
	}
	return head[0], payload, err
}

// expect hears a message of one kind, with a value.
func (t *talk) expect(kind byte, into any) error {
	said, payload, err := t.hear()
	if err != nil {
		return err
	}
	return take(said, payload, kind, into)
}

// take reads the value of a message that is to be of one kind.
func take(said byte, payload []byte, kind byte, into any) error {
	if said != kind {
		return fmt.Errorf("%w: the message %d where %d is due", wire.ErrProtocol, said, kind)
	}
	return json.Unmarshal(payload, into)
}
