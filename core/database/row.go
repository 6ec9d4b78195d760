package database

import (
	"encoding/binary"
	"encoding/hex"
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

// RowDecoder turns a stream of encoded rows, given in stretches of any length, back
// into rows.
type RowDecoder struct {
	rest []byte // the beginning of a row whose end has not come yet
	row  Row
}

// Decode takes the next stretch of the stream and calls each for every row that ends
// in it; the row is valid during the call. What cannot be a row is an error.
func (d *RowDecoder) Decode(data []byte, each func(Row) error) error {
	if len(d.rest) > 0 {
		d.rest = append(d.rest, data...)
		data = d.rest
	}
	for len(data) > 0 {
		n, err := d.next(data)
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
		if err := each(d.row); err != nil {
			return err
		}
		data = data[n:]
	}
	d.rest = append([]byte(nil), data...) // data may be the end of rest itself
	return nil
}

// End tells whether the stream ended with a row.
func (d *RowDecoder) End() error {
	if len(d.rest) > 0 {
		return io.ErrUnexpectedEOF
	}
	return nil
}

// next reads one row and returns its length; 0 if its end is not in data.
func (d *RowDecoder) next(data []byte) (int, error) {
	d.row = d.row[:0]
	at := 0
	for at < len(data) {
		kind := Type(data[at])
		at++
		switch kind {
		case 0:
			return at, nil
		case Null:
			d.row = append(d.row, Value{Type: Null})
			continue
		case Integer, Real, Text, Bytes:
		default:
			return 0, fmt.Errorf("a cell of the unknown type %q", byte(kind))
		}
		size, n := binary.Uvarint(data[at:])
		if n == 0 {
			return 0, nil
		}
		if n < 0 || ((kind == Integer || kind == Real) && size != 8) || size > largestCell {
			return 0, fmt.Errorf("a cell of %d bytes", size)
		}
		at += n
		if size > uint64(len(data)-at) {
			return 0, nil
		}
		d.row = append(d.row, Value{Type: kind, Data: data[at : at+int(size) : at+int(size)]})
		at += int(size)
	}
	return 0, nil
}

// largestCell bounds what is believed: no engine stores more in one cell.
const largestCell = 4 << 30

// fingerprint is a 128-bit hash of a row.
type fingerprint [16]byte

func fingerprintOf(row []byte) (f fingerprint) {
	sum := blake3.Sum256(row)
	copy(f[:], sum[:16])
	return f
}

// Digest sums up the rows of a table so that their order does not matter: their
// number, and the sum of their hashes modulo 2^128.
type Digest struct {
	rows    int64
	hi, low uint64
	encoded []byte // of the row that was added last
}

// Add counts one more row. It returns the row encoded, valid until the next call, and
// a number that depends on the row's bytes alone.
func (d *Digest) Add(row Row) (encoded []byte, mark uint64) {
	d.encoded = AppendRow(d.encoded[:0], row)
	f := fingerprintOf(d.encoded)
	low := binary.BigEndian.Uint64(f[8:])
	var carry uint64
	d.low, carry = bits.Add64(d.low, low, 0)
	d.hi, _ = bits.Add64(d.hi, binary.BigEndian.Uint64(f[:8]), carry)
	d.rows++
	return d.encoded, low
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
