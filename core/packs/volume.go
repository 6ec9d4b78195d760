package packs

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"path"
	"runtime"
	"slices"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
)

// A volume is a file of blocks, one after the other, closed by a directory and a
// footer. A block holds one or more pieces. docs/store.md describes it byte by byte.

const (
	VolumeMagic  = "WETLVOL2"
	VolumeFolder = "volumes/"
	volumeSuffix = ".wet"
	footerSize   = 8 + 8 + 32 + 8 // offset and length of the directory, its hash, the magic
)

// block is where some pieces lie in a volume.
type block struct {
	offset int64
	stored uint32 // bytes in the volume
	packed bool   // with zstd; else as they are
	check  check  // of the packed bytes: unpacking passes over some damage
	pieces []piece
}

// check is the beginning of the BLAKE3 hash of some bytes.
type check [16]byte

func checkOf(data []byte) check {
	sum := blake3.Sum256(data)
	return check(sum[:16])
}

// size is the block's length unpacked, in bytes.
func (b block) size() (n int) {
	for _, p := range b.pieces {
		n += int(p.size)
	}
	return n
}

// volume is a whole volume of the store.
type volume struct {
	Name   string
	Size   int64 // of the file
	blocks []block
}

// largestBlock bounds what a reader unpacks: a full block and one more piece.
const largestBlock = blockSize + PieceSize

var (
	// A block has a check and each piece an ID: a checksum of zstd's own would be a third proof.
	Packer, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(blockSize), zstd.WithEncoderCRC(false), zstd.WithEncoderConcurrency(runtime.GOMAXPROCS(0)))
	// A block's size is known before it is unpacked, and its bytes proved after.
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(largestBlock+1<<20), zstd.WithDecoderConcurrency(0))
)

// volumeWriter writes the blocks of one new volume.
type volumeWriter struct {
	to     Writer
	seal   *Sealing
	volume volume
}

func newVolumeWriter(ctx context.Context, to Bytes, name string, seal *Sealing) (*volumeWriter, error) {
	w, err := to.Put(ctx, name)
	if err != nil {
		return nil, err
	}
	v := &volumeWriter{to: w, seal: seal, volume: volume{Name: name}}
	if err := v.write([]byte(VolumeMagic)); err != nil {
		return nil, errors.Join(err, w.Abort())
	}
	return v, nil
}

func (w *volumeWriter) write(data []byte) error {
	n, err := w.to.Write(data)
	w.volume.Size += int64(n)
	return err
}

// add writes a block whose bytes are packed and sealed already.
func (w *volumeWriter) add(b block, stored []byte) error {
	b.offset, b.stored = w.volume.Size, uint32(len(stored))
	w.volume.blocks = append(w.volume.blocks, b)
	return w.write(stored)
}

// finish writes directory and footer, and makes the volume safe and visible.
func (w *volumeWriter) finish() error {
	directory := w.seal.Close(Packer.EncodeAll(encodeDirectory(w.volume.blocks), nil))
	sum := blake3.Sum256(directory)
	footer := binary.BigEndian.AppendUint64(nil, uint64(w.volume.Size))
	footer = binary.BigEndian.AppendUint64(footer, uint64(len(directory)))
	footer = append(append(footer, sum[:]...), VolumeMagic...)
	if err := errors.Join(w.write(directory), w.write(footer)); err != nil {
		return errors.Join(err, w.to.Abort())
	}
	return w.to.Commit()
}

// encodeDirectory writes for each block: stored length, whether it is packed and then
// its check, the number of its pieces, and each one's ID and length.
func encodeDirectory(blocks []block) []byte {
	out := binary.AppendUvarint(nil, uint64(len(blocks)))
	for _, b := range blocks {
		out = binary.AppendUvarint(out, uint64(b.stored))
		if b.packed {
			out = append(append(out, 1), b.check[:]...)
		} else {
			out = append(out, 0)
		}
		out = binary.AppendUvarint(out, uint64(len(b.pieces)))
		for _, p := range b.pieces {
			out = append(out, p.id[:]...)
			out = binary.AppendUvarint(out, uint64(p.size))
		}
	}
	return out
}

var errDirectory = errors.New("its directory is damaged")

// decodeDirectory reads what encodeDirectory wrote; data is the length of all blocks
// together, with the magic before them.
func decodeDirectory(text []byte, data int64) ([]block, error) {
	in := bytes.NewReader(text)
	count, err := binary.ReadUvarint(in)
	if err != nil || count > uint64(len(text)) {
		return nil, errDirectory
	}
	blocks := make([]block, count)
	offset := int64(len(VolumeMagic))
	for i := range blocks {
		stored, err1 := binary.ReadUvarint(in)
		packed, err2 := in.ReadByte()
		var sum check
		var err3 error
		if packed == 1 {
			_, err3 = io.ReadFull(in, sum[:])
		}
		pieces, err4 := binary.ReadUvarint(in)
		if errors.Join(err1, err2, err3, err4) != nil || packed > 1 || stored > uint64(data-offset) || pieces > uint64(in.Len())/33 {
			return nil, errDirectory
		}
		b := block{offset: offset, stored: uint32(stored), packed: packed == 1, check: sum, pieces: make([]piece, pieces)}
		total := uint64(0)
		for j := range b.pieces {
			_, err1 := io.ReadFull(in, b.pieces[j].id[:])
			size, err2 := binary.ReadUvarint(in)
			if total += size; errors.Join(err1, err2) != nil || size > PieceSize || total > largestBlock {
				return nil, errDirectory
			}
			b.pieces[j].size = uint32(size)
		}
		offset += int64(stored)
		blocks[i] = b
	}
	if offset != data || in.Len() > 0 {
		return nil, errDirectory
	}
	return blocks, nil
}

// readVolume reads a volume's directory. That its blocks are all there is told by the
// file's size; that they are right, when they are read.
func readVolume(ctx context.Context, from Bytes, name string, seal *Sealing) (*volume, error) {
	size, err := from.Size(ctx, name)
	if err != nil {
		return nil, err
	}
	if size < int64(len(VolumeMagic))+footerSize {
		return nil, fmt.Errorf("%s is cut off", path.Base(name))
	}
	footer, err := readRange(ctx, from, name, size-footerSize, footerSize, nil)
	if err != nil {
		return nil, err
	}
	if string(footer[48:]) != VolumeMagic {
		return nil, fmt.Errorf("%s does not end as a volume does", path.Base(name))
	}
	offset, length := binary.BigEndian.Uint64(footer), binary.BigEndian.Uint64(footer[8:])
	if end := uint64(size - footerSize); offset > end || length != end-offset {
		return nil, fmt.Errorf("the footer of %s is damaged", path.Base(name))
	}
	stored, err := readRange(ctx, from, name, int64(offset), int64(length), nil)
	if err != nil {
		return nil, err
	}
	if sum := blake3.Sum256(stored); !bytes.Equal(sum[:], footer[16:48]) {
		return nil, fmt.Errorf("the directory of %s is damaged", path.Base(name))
	}
	packed, err := seal.Open(stored)
	if err != nil {
		return nil, fmt.Errorf("the directory of %s: %w", path.Base(name), err)
	}
	text, err := UnpackList(packed)
	if err != nil {
		return nil, fmt.Errorf("the directory of %s: %w", path.Base(name), err)
	}
	blocks, err := decodeDirectory(text, int64(offset))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path.Base(name), err)
	}
	return &volume{Name: name, Size: size, blocks: blocks}, nil
}

// readRange reads some bytes of a file of the store, into the room where that suffices.
func readRange(ctx context.Context, from Bytes, name string, offset, length int64, room []byte) ([]byte, error) {
	r, err := from.Get(ctx, name, offset, length)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data := slices.Grow(room[:0], int(length))[:length]
	if _, err := io.ReadFull(r, data); err != nil {
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			err = fmt.Errorf("%s is cut off", path.Base(name))
		}
		return nil, err
	}
	return data, nil
}

// readBlock returns the unpacked bytes of a block; its pieces are not proved yet. It uses the
// room of both buffers where that suffices; they may be nil.
func readBlock(ctx context.Context, from Bytes, v *volume, b block, seal *Sealing, stored, unpacked []byte) ([]byte, error) {
	stored, err := readRange(ctx, from, v.Name, b.offset, int64(b.stored), stored)
	if err != nil {
		return nil, err
	}
	data, err := seal.Open(stored)
	if err == nil && b.packed && checkOf(data) != b.check {
		err = errors.New("its bytes are not those that were written")
	}
	if err == nil && b.packed {
		data, err = unpacker.DecodeAll(data, slices.Grow(unpacked[:0], b.size()))
	}
	if err != nil {
		return nil, fmt.Errorf("a block in %s is damaged: %w", path.Base(v.Name), err)
	}
	if len(data) != b.size() {
		return nil, fmt.Errorf("a block in %s is damaged: it has %d bytes, and should have %d", path.Base(v.Name), len(data), b.size())
	}
	return data, nil
}
