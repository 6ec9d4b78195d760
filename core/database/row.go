package database

import (
	"bufio"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"math/bits"

	"github.com/zeebo/blake3"
)

// Type is how an engine stored a value.
type Type byte

// The types of values. Engines other than SQLite hand every value out as Bytes.
const (
	Null    Type = 'n'
	Integer Type = 'i' // eight bytes, big-endian
	Real    Type = 'r' // eight bytes, IEEE 754, big-endian
	Text    Type = 't'
	Bytes   Type = 'b'
)

// Value is one cell, exactly as stored.
type Value struct {
	Type Type
	Data []byte
}

// Row is the cells of a row in the order of its table's columns.
type Row []Value

// IntegerValue makes a value of a number.
func IntegerValue(n int64) Value {
	return Value{Type: Integer, Data: binary.BigEndian.AppendUint64(nil, uint64(n))}
}

// RealValue makes a value of a floating-point number, to the last bit.
func RealValue(f float64) Value {
	return Value{Type: Real, Data: binary.BigEndian.AppendUint64(nil, math.Float64bits(f))}
}

// String returns a value's text; NULL is the empty string.
func (v Value) String() string {
	switch v.Type {
	case Integer:
		return fmt.Sprint(int64(binary.BigEndian.Uint64(v.Data)))
	case Real:
		return fmt.Sprint(math.Float64frombits(binary.BigEndian.Uint64(v.Data)))
	}
	return string(v.Data)
}

// AppendRow encodes a row behind to: for each cell its type and, unless it is
// NULL, its length as an unsigned varint and its bytes; at the end a zero byte.
func AppendRow(to []byte, row Row) []byte {
	for _, cell := range row {
		to = append(to, byte(cell.Type))
		if cell.Type != Null {
			to = binary.AppendUvarint(to, uint64(len(cell.Data)))
			to = append(to, cell.Data...)
		}
	}
	return append(to, 0)
}

// largestCell bounds what ReadRow believes: no engine stores more in one cell.
const largestCell = 4 << 30

// ReadRow decodes the next row. It returns io.EOF at the end of the stream, and
// io.ErrUnexpectedEOF or an error that says what is wrong when it is damaged.
func ReadRow(from *bufio.Reader) (Row, error) {
	var row Row
	for {
		kind, err := from.ReadByte()
		if err != nil {
			if errors.Is(err, io.EOF) && row != nil {
				err = io.ErrUnexpectedEOF
			}
			return nil, err
		}
		switch Type(kind) {
		case 0:
			return row, nil
		case Null:
			row = append(row, Value{Type: Null})
			continue
		case Integer, Real, Text, Bytes:
		default:
			return nil, fmt.Errorf("a cell of the unknown type %q", kind)
		}
		size, err := binary.ReadUvarint(from)
		if err != nil {
			return nil, fmt.Errorf("the length of a cell: %w", noEOF(err))
		}
		if size > largestCell || ((Type(kind) == Integer || Type(kind) == Real) && size != 8) {
			return nil, fmt.Errorf("a cell of %d bytes", size)
		}
		data, err := readN(from, size)
		if err != nil {
			return nil, err
		}
		row = append(row, Value{Type: Type(kind), Data: data})
	}
}

// readN grows with what is really there, so that a damaged length cannot ask for
// more memory than the stream has bytes.
func readN(from *bufio.Reader, size uint64) ([]byte, error) {
	const step = 1 << 20
	data := make([]byte, 0, min(size, step))
	for uint64(len(data)) < size {
		n := min(size-uint64(len(data)), step)
		at := len(data)
		data = append(data, make([]byte, n)...)
		if _, err := io.ReadFull(from, data[at:]); err != nil {
			return nil, noEOF(err)
		}
	}
	return data, nil
}

func noEOF(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// fingerprint is a 128-bit hash of a row.
type fingerprint [16]byte

func fingerprintOf(row Row) (f fingerprint) {
	sum := blake3.Sum256(AppendRow(nil, row))
	copy(f[:], sum[:16])
	return f
}

// Digest sums up the rows of a table so that their order does not matter: their
// number, and the sum of their hashes modulo 2^128.
type Digest struct {
	rows    int64
	hi, low uint64
}

// Add counts one more row.
func (d *Digest) Add(row Row) {
	f := fingerprintOf(row)
	var carry uint64
	d.low, carry = bits.Add64(d.low, binary.BigEndian.Uint64(f[8:]), 0)
	d.hi, _ = bits.Add64(d.hi, binary.BigEndian.Uint64(f[:8]), carry)
	d.rows++
}

// Rows returns how many rows were added.
func (d *Digest) Rows() int64 { return d.rows }

// String returns the digest as 32 hexadecimal digits.
func (d *Digest) String() string {
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], d.hi)
	binary.BigEndian.PutUint64(b[8:], d.low)
	return hex.EncodeToString(b[:])
}

func asInteger(v Value) int64 {
	if v.Type != Integer {
		return 0
	}
	return int64(binary.BigEndian.Uint64(v.Data))
}

func asReal(v Value) float64 { return math.Float64frombits(binary.BigEndian.Uint64(v.Data)) }
