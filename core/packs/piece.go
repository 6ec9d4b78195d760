package packs

import (
	"encoding/hex"
	"fmt"

	"github.com/zeebo/blake3"
)

// ID identifies a piece by its bytes: their BLAKE3 hash, with a key of the store's
// own where the store is sealed.
type ID [32]byte

// String writes the ID in hexadecimal.
func (id ID) String() string { return hex.EncodeToString(id[:]) }

// MarshalText writes the ID in hexadecimal.
func (id ID) MarshalText() ([]byte, error) { return []byte(id.String()), nil }

// UnmarshalText reads 64 hexadecimal digits.
func (id *ID) UnmarshalText(text []byte) error {
	if len(text) != 2*len(id) {
		return fmt.Errorf("%.70q is no hash of 32 bytes", text)
	}
	_, err := hex.Decode(id[:], text)
	return err
}

// ParseID reads 64 hexadecimal digits.
func ParseID(text string) (id ID, err error) { return id, id.UnmarshalText([]byte(text)) }

// PlainID is the ID of a piece in a store that is not sealed.
func PlainID(data []byte) ID { return blake3.Sum256(data) }

// piece is one stretch of bytes, as a volume's directory lists it.
type piece struct {
	id   ID
	size uint32 // bytes, unpacked
}

// location is where a piece lies, by the store's own numbering of its volumes.
type location struct {
	volume, block int32
	at, size      uint32 // in the unpacked block
}

// Sizes, in bytes, unpacked.
const (
	PieceSize  = 4 << 20   // of a file's pieces, but the last
	blockSize  = 4 << 20   // from which on a block is packed and written
	volumeSize = 512 << 20 // of the blocks as written, from which on a volume is closed
)
