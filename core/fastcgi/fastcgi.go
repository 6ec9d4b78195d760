// Package fastcgi asks a pool of PHP processes to answer a request (FastCGI Specification 1.0). Begin reading
// at Ask.
package fastcgi

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// The parts of FastCGI that a request needs.
const (
	version1     = 1
	beginRequest = 1
	endRequest   = 3
	params       = 4
	stdin        = 5
	stdout       = 6
	responder    = 1
	oneRequest   = 1 // its number
	mostContent  = 65535
)

// Pair is a variable that the pool is told.
type Pair [2]string

// Ask sends a request with its body, nil for none, and returns what the pool prints: head and body of its
// answer. An answer that ends before it is whole is an error. The connection serves one request; closing it ends
// all that is under way.
func Ask(connection io.ReadWriter, about []Pair, body io.Reader) (io.Reader, error) {
	var request bytes.Buffer
	record(&request, beginRequest, []byte{0, responder, 0, 0, 0, 0, 0, 0})
	var all []byte
	for _, pair := range about {
		all = binary.BigEndian.AppendUint32(all, uint32(len(pair[0]))|1<<31)
		all = binary.BigEndian.AppendUint32(all, uint32(len(pair[1]))|1<<31)
		all = append(append(all, pair[0]...), pair[1]...)
	}
	for len(all) > 0 {
		n := min(len(all), mostContent)
		record(&request, params, all[:n])
		all = all[n:]
	}
	record(&request, params, nil)
	if body == nil {
		record(&request, stdin, nil)
	}
	if _, err := connection.Write(request.Bytes()); err != nil {
		return nil, err
	}
	if body != nil {
		go sendBody(connection, body) // a pool may answer before it has read all of it
	}
	return &answer{from: connection}, nil
}

// sendBody sends the body; whoever ends the connection ends that.
func sendBody(to io.Writer, body io.Reader) {
	piece := make([]byte, mostContent)
	for {
		n, err := body.Read(piece)
		var next bytes.Buffer
		if n > 0 {
			record(&next, stdin, piece[:n])
		}
		if err != nil {
			record(&next, stdin, nil)
		}
		if _, failed := to.Write(next.Bytes()); failed != nil || err != nil {
			return
		}
	}
}

func record(to *bytes.Buffer, kind byte, content []byte) {
	to.Write([]byte{version1, kind, 0, oneRequest, byte(len(content) >> 8), byte(len(content)), 0, 0})
	to.Write(content)
}

// answer is what a pool prints.
type answer struct {
	from io.Reader
	left []byte // of the last record
	end  error
}

func (a *answer) Read(p []byte) (int, error) {
	for len(a.left) == 0 && a.end == nil {
		a.left, a.end = next(a.from)
	}
	n := copy(p, a.left)
	a.left = a.left[n:]
	if n == 0 && len(p) > 0 {
		return 0, a.end
	}
	return n, nil
}

// next reads a record, and returns what it says; io.EOF is the proper end.
func next(from io.Reader) ([]byte, error) {
	var head [8]byte
	if _, err := io.ReadFull(from, head[:]); err != nil {
		return nil, early(err)
	}
	length, padding := int(binary.BigEndian.Uint16(head[4:])), int(head[6])
	content := make([]byte, length+padding)
	if _, err := io.ReadFull(from, content); err != nil {
		return nil, early(err)
	}
	switch head[1] {
	case stdout:
		return content[:length], nil
	case endRequest:
		return nil, io.EOF
	}
	return nil, nil // what it complains of is in its log
}

func early(err error) error {
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return fmt.Errorf("its answer ends early: %w", err)
}
