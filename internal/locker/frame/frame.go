// Package frame writes and reads the zstd frames of which packs, indexes and sets consist:
// frames that lie over another piece, frames of content that would not compress, and the
// marks that tell how long a frame is.
package frame

import (
	"encoding/binary"

	"github.com/klauspost/compress/zstd"
)

// Max bounds a frame's content, in bytes, and with it the memory that
// reading one needs.
const Max = 1 << 20

// Roomy is b with room for n bytes: at once for as many as most need, since pieces come
// in all sizes, and what was too small is garbage that was written to.
func Roomy(b []byte, n int) []byte {
	if cap(b) >= n {
		return b[:0]
	}
	return make([]byte, 0, max(n, Max+4096))
}

// layHead begins a frame of zstd (RFC 8878, section 3.1.1.1): its content is its window,
// how long it is follows in four bytes, and it has no checksum: a piece has a better one.
var layHead = []byte{0x28, 0xB5, 0x2F, 0xFD, 0xA0}

// Head begins a frame of so many bytes of content.
func Head(out []byte, size int) []byte {
	return binary.LittleEndian.AppendUint32(append(out, layHead...), uint32(size))
}

// BlockHead begins a block: 0 is raw, 2 compressed.
func BlockHead(out []byte, kind, size int, last bool) []byte {
	h := uint32(kind)<<1 | uint32(size)<<3
	if last {
		h |= 1
	}
	return append(out, byte(h), byte(h>>8), byte(h>>16))
}

const (
	LayFrom  = 16 << 10  // pieces smaller than this, in bytes, are stored whole: text compresses as well
	laySame  = 256       // what is the same in place is looked for in steps of so many bytes
	MaxBlock = 128 << 10 // a block of zstd has at most so much content
)

// RawBlocks appends content as it is.
func RawBlocks(out, b []byte, last bool) []byte {
	for len(b) > 0 {
		n := min(MaxBlock, len(b))
		out = append(BlockHead(out, 0, n, last && n == len(b)), b[:n]...)
		b = b[n:]
	}
	return out
}

// Unlay reads any frame over was.
func Unlay(out, frame, was []byte) ([]byte, error) {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(4*Max),
		zstd.WithDecoderDictRaw(0, was))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.DecodeAll(frame, out)
}
