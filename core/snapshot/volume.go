package snapshot

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
)

// A volume is a file of pieces, one after the other, closed by a directory of
// them and a footer. docs/store.md describes it byte by byte.

const (
	volumeMagic  = "WETLVOL1"
	volumeFolder = "volumes/"
	footerSize   = 8 + 8 + 32 + 8 // offset and length of the directory, its hash, the magic
	pieceSize    = 4 << 20        // bytes of a file's pieces, unpacked
)

// hash identifies bytes: BLAKE3, 32 bytes, in hexadecimal.
func hashOf(data []byte) string {
	sum := blake3.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// location is where a piece lies.
type location struct {
	Hash   string `json:"hash"`
	Offset int64  `json:"offset"`
	Stored int64  `json:"stored"` // bytes in the volume
	Size   int64  `json:"size"`   // bytes unpacked
	Packed bool   `json:"packed"` // with zstd; else as they are
	volume string
}

var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault))
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(64<<20))
)

// volumeWriter adds pieces to one new volume.
type volumeWriter struct {
	name  string
	to    Writer
	at    int64
	index map[string]location // of the whole store, to store nothing twice
	added []location
	// buffer is for reading files, one after the other.
	buffer []byte
	err    error // the first failure: everything after it fails, too
}

func newVolume(bytes Bytes, name string, index map[string]location) (*volumeWriter, error) {
	to, err := bytes.Put(name)
	if err != nil {
		return nil, err
	}
	w := &volumeWriter{name: name, to: to, index: index}
	if w.write([]byte(volumeMagic)); w.err != nil {
		return nil, errors.Join(w.err, to.Abort())
	}
	return w, nil
}

func (w *volumeWriter) write(data []byte) {
	if w.err == nil {
		_, w.err = w.to.Write(data)
		w.at += int64(len(data))
	}
}

// add stores a piece, unless the store has it, and returns its hash.
func (w *volumeWriter) add(data []byte) (string, error) {
	hash := hashOf(data)
	if _, known := w.index[hash]; known {
		return hash, w.err
	}
	piece := location{Hash: hash, Offset: w.at, Size: int64(len(data)), volume: w.name}
	stored := packer.EncodeAll(data, nil)
	if piece.Packed = len(stored) < len(data)-len(data)/32; !piece.Packed {
		stored = data
	}
	piece.Stored = int64(len(stored))
	w.write(stored)
	if w.err == nil {
		w.index[hash] = piece
		w.added = append(w.added, piece)
	}
	return hash, w.err
}

// finish writes the directory and makes the volume visible. A volume without
// pieces is not kept.
func (w *volumeWriter) finish() error {
	if w.err != nil || len(w.added) == 0 {
		return errors.Join(w.err, w.to.Abort())
	}
	listed, err := json.Marshal(w.added)
	if err != nil {
		return errors.Join(err, w.to.Abort())
	}
	directory := packer.EncodeAll(listed, nil)
	sum := blake3.Sum256(directory)
	var footer bytes.Buffer
	for _, number := range []uint64{uint64(w.at), uint64(len(directory))} {
		_ = binary.Write(&footer, binary.BigEndian, number) // a buffer does not fail
	}
	footer.Write(sum[:])
	footer.WriteString(volumeMagic)
	w.write(directory)
	w.write(footer.Bytes())
	if w.err != nil {
		return errors.Join(w.err, w.to.Abort())
	}
	return w.to.Commit()
}

// readDirectory returns the pieces of a volume.
func readDirectory(from Bytes, name string) ([]location, error) {
	size, err := from.Size(name)
	if err != nil {
		return nil, err
	}
	if size < int64(len(volumeMagic))+footerSize {
		return nil, fmt.Errorf("%s is cut off", path.Base(name))
	}
	footer, err := readRange(from, name, size-footerSize, footerSize)
	if err != nil {
		return nil, err
	}
	if string(footer[48:]) != volumeMagic {
		return nil, fmt.Errorf("%s does not end as a volume does", path.Base(name))
	}
	offset, length := int64(binary.BigEndian.Uint64(footer)), int64(binary.BigEndian.Uint64(footer[8:]))
	if offset < 0 || length < 0 || offset > size || length != size-footerSize-offset {
		return nil, fmt.Errorf("the footer of %s is damaged", path.Base(name))
	}
	packed, err := readRange(from, name, offset, length)
	if err != nil {
		return nil, err
	}
	if sum := blake3.Sum256(packed); !bytes.Equal(sum[:], footer[16:48]) {
		return nil, fmt.Errorf("the directory of %s is damaged", path.Base(name))
	}
	listed, err := unpacker.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("the directory of %s: %w", path.Base(name), err)
	}
	var pieces []location
	if err := json.Unmarshal(listed, &pieces); err != nil {
		return nil, fmt.Errorf("the directory of %s: %w", path.Base(name), err)
	}
	for i := range pieces {
		pieces[i].volume = name
	}
	return pieces, nil
}

func readRange(from Bytes, name string, offset, length int64) ([]byte, error) {
	r, err := from.Get(name, offset, length)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data, err := io.ReadAll(r)
	if err == nil && int64(len(data)) != length {
		err = fmt.Errorf("%s is cut off", path.Base(name))
	}
	return data, err
}

// readPiece returns the proved bytes of a piece.
func readPiece(from Bytes, piece location) ([]byte, error) {
	data, err := readRange(from, piece.volume, piece.Offset, piece.Stored)
	if err != nil {
		return nil, err
	}
	if piece.Packed {
		if data, err = unpacker.DecodeAll(data, nil); err != nil {
			return nil, fmt.Errorf("a piece in %s is damaged: %w", path.Base(piece.volume), err)
		}
	}
	if hashOf(data) != piece.Hash {
		return nil, fmt.Errorf("a piece in %s is damaged: its bytes are not those that were written", path.Base(piece.volume))
	}
	return data, nil
}
