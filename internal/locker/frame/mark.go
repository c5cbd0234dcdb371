package frame

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// mark begins the skippable frame in front of a block: magic, length of what
// follows, length of the block.
const (
	markMagic = 0x184D2A5B
	markSize  = 16
)

// MaxMarked bounds a block that is believed, in bytes compressed; a line may hold
// the pieces of one very large file.
const MaxMarked = 64 << 20

// WriteMarked writes a frame with a mark in front that says how long it is.
func WriteMarked(w io.Writer, raw []byte) error {
	var head [markSize]byte
	binary.LittleEndian.PutUint32(head[0:], markMagic)
	binary.LittleEndian.PutUint32(head[4:], 8)
	binary.LittleEndian.PutUint64(head[8:], uint64(len(raw)))
	if _, err := w.Write(head[:]); err != nil {
		return err
	}
	_, err := w.Write(raw)
	return err
}

// ReadMarked reads one block's frame; io.EOF where the file ends, errNoMark where
// no mark stands in front.
func ReadMarked(r *bufio.Reader) ([]byte, error) {
	head, err := r.Peek(markSize)
	if len(head) == 0 && errors.Is(err, io.EOF) {
		return nil, io.EOF
	}
	if err != nil || binary.LittleEndian.Uint32(head) != markMagic || binary.LittleEndian.Uint32(head[4:]) != 8 {
		return nil, ErrNoMark
	}
	n := binary.LittleEndian.Uint64(head[8:])
	if n > MaxMarked {
		return nil, fmt.Errorf("a block of %d bytes", n)
	}
	r.Discard(markSize)
	if n > 1<<20 { // as damage would have it: no more memory than there are bytes
		var buf bytes.Buffer
		if got, err := io.CopyN(&buf, r, int64(n)); err != nil {
			return nil, fmt.Errorf("it is cut short: a block of %d bytes has %d", n, got)
		}
		return buf.Bytes(), nil
	}
	raw := make([]byte, n)
	if got, err := io.ReadFull(r, raw); err != nil {
		return nil, fmt.Errorf("it is cut short: a block of %d bytes has %d", n, got)
	}
	return raw, nil
}

var ErrNoMark = errors.New("no mark stands in front of a block")

// Encoders of blocks are kept, like decoders.
var Encoders = sync.Pool{New: func() any {
	e, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
		zstd.WithWindowSize(Max), zstd.WithLowerEncoderMem(true), zstd.WithAllLitEntropyCompression(true))
	return e
}}

// decoders are kept: making one costs as much as reading some blocks.
var decoders = sync.Pool{New: func() any {
	d, _ := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(1<<30))
	return d
}}

// Inflate appends what a frame holds.
func Inflate(raw, out []byte) ([]byte, error) {
	d := decoders.Get().(*zstd.Decoder)
	defer decoders.Put(d)
	return d.DecodeAll(raw, out)
}
