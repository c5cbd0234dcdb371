package locker

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"slices"

	"freshkeel/internal/tree"

	"github.com/klauspost/compress/zstd"
)

// A piece that differs little from the one that stood in its place before is stored
// over that: as a zstd frame that has the other's content as its dictionary, so that
// «zstd -d -D» reads it. What is the same stands in it as one match each, what is not
// as it is. It is written here and not by the library: that would look for matches
// everywhere, while where they are is known.

const (
	layFrom  = 16 << 10  // pieces smaller than this, in bytes, are stored whole: text compresses as well
	laySame  = 256       // what is the same in place is looked for in steps of so many bytes
	layBlock = 128 << 10 // a block of zstd has at most so much content
)

// dictMagic begins a dictionary of zstd's own format: a piece that begins so would not
// be taken for content.
var dictMagic = []byte{0x37, 0xA4, 0x30, 0xEC}

// same is a stretch that two pieces have in common: where it is in each, and how long.
type same struct{ was, is, n int }

// inCommon finds what is has in common with was: in the same places, where both are
// as long as each other; else at the beginning and the end.
func inCommon(was, is []byte) (out []same) {
	add := func(s same) {
		if s.n < laySame {
			return
		}
		out = append(out, s)
	}
	if len(was) != len(is) {
		n := prefix(was, is)
		add(same{0, 0, n})
		m := suffix(was[n:], is[n:])
		add(same{len(was) - m, len(is) - m, m})
		return out
	}
	equal := func(at, step int) bool {
		return bytes.Equal(was[at:min(at+step, len(is))], is[at:min(at+step, len(is))])
	}
	for at := 0; at < len(is); {
		from := at
		for at < len(is) && equal(at, laySame<<4) { // most is the same, page after page
			at += laySame << 4
		}
		for at < len(is) && equal(at, laySame) {
			at += laySame
		}
		to := min(at, len(is))
		if from > 0 { // into what differed on either side
			from -= suffix(was[from-laySame:from], is[from-laySame:from])
		}
		if to < len(is) {
			to += prefix(was[to:min(to+laySame, len(is))], is[to:min(to+laySame, len(is))])
		}
		add(same{from, from, to - from})
		for at < len(is) && !equal(at, laySame) {
			at += laySame
		}
	}
	return out
}

// prefix is how many bytes two begin with alike, suffix how many they end with.
func prefix(a, b []byte) (n int) {
	for n+laySame <= min(len(a), len(b)) && bytes.Equal(a[n:n+laySame], b[n:n+laySame]) {
		n += laySame
	}
	for n < min(len(a), len(b)) && a[n] == b[n] {
		n++
	}
	return n
}

func suffix(a, b []byte) (n int) {
	for n+laySame <= min(len(a), len(b)) && bytes.Equal(a[len(a)-n-laySame:len(a)-n], b[len(b)-n-laySame:len(b)-n]) {
		n += laySame
	}
	for n < min(len(a), len(b)) && a[len(a)-n-1] == b[len(b)-n-1] {
		n++
	}
	return n
}

// lay appends is as a frame over another piece of so many bytes, with which it has
// something in common. It is nil where that would save less than half.
func lay(out []byte, common []same, was int, is []byte) []byte {
	differs := len(is)
	for _, s := range common {
		differs -= s.n
	}
	if 2*differs > len(is) {
		return nil
	}
	out = frameHead(out, len(is))
	at := 0
	for i, s := range common {
		out = rawBlocks(out, is[at:s.is], false)
		for at = s.is; at < s.is+s.n; {
			n := min(layBlock, s.is+s.n-at)
			if left := s.is + s.n - at - n; left > 0 && left < laySame { // a match has no fewer
				n -= laySame
			}
			last := i == len(common)-1 && at+n == len(is)
			out = matchBlock(out, at+was-(s.was+at-s.is), n, last)
			at += n
		}
	}
	if at < len(is) {
		out = rawBlocks(out, is[at:], true)
	}
	return out
}

// layHead begins a frame of zstd (RFC 8878, section 3.1.1.1): its content is its window,
// how long it is follows in four bytes, and it has no checksum: a piece has a better one.
var layHead = []byte{0x28, 0xB5, 0x2F, 0xFD, 0xA0}

// frameHead begins a frame of so many bytes of content.
func frameHead(out []byte, size int) []byte {
	return binary.LittleEndian.AppendUint32(append(out, layHead...), uint32(size))
}

// blockHead begins a block: 0 is raw, 2 compressed.
func blockHead(out []byte, kind, size int, last bool) []byte {
	h := uint32(kind)<<1 | uint32(size)<<3
	if last {
		h |= 1
	}
	return append(out, byte(h), byte(h>>8), byte(h>>16))
}

// rawBlocks appends content as it is.
func rawBlocks(out, b []byte, last bool) []byte {
	for len(b) > 0 {
		n := min(layBlock, len(b))
		out = append(blockHead(out, 0, n, last && n == len(b)), b[:n]...)
		b = b[n:]
	}
	return out
}

// matchHead begins such a block: no literals, one sequence, whose codes are given as
// they are, the first for its literals.
var matchHead = []byte{0, 1, 0x54, 0}

// matchBlock appends a block of one match of n bytes, so far back (section 3.1.1.3.2):
// no literals, one sequence, each of its three codes alone in its table, so that the
// bits hold nothing but what the codes leave open.
func matchBlock(out []byte, back, n int, last bool) []byte {
	length := uint64(n - 3)
	wide := bits.Len64(length) - 1 // lengths from 131 on: a code for each power of two
	offset := uint64(back + 3)
	far := bits.Len64(offset) - 1
	// Read from its end: a 1, then what is open of the offset, then of the length.
	open := (length - 1<<wide) | (offset-1<<far)<<wide | 1<<(wide+far)
	size := (wide + far + 8) / 8
	out = append(append(blockHead(out, 2, 6+size, last), matchHead...), byte(far), byte(36+wide))
	for range size {
		out = append(out, byte(open))
		open >>= 8
	}
	return out
}

// unlay reads any frame over was.
func unlay(out, frame, was []byte) ([]byte, error) {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(4*maxFrame), zstd.WithDecoderDictRaw(0, was))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.DecodeAll(frame, out)
}

// unlaid is unlay for a frame as lay and rawBlocks make it: the library makes a decoder
// for each dictionary, which takes ten times as long. False for any other frame.
func unlaid(out, frame, was []byte) ([]byte, bool) {
	if len(frame) > 9 { // as much as it says, and no more than can be
		out = slices.Grow(out, int(min(binary.LittleEndian.Uint32(frame[5:]), maxFrame)))
	}
	size, ok := layings(frame, func(at, from, n int, b []byte) bool {
		if b == nil {
			b = was[from : from+n]
		}
		out = append(out, b...)
		return true
	}, len(was))
	return out, ok && size > 0
}

// unlayIn is unlay into the other piece itself, where all that they have in common
// stands in the same places; false, and nothing was done, where it does not.
func unlayIn(was, frame []byte) bool {
	if size, ok := layings(frame, func(at, from, n int, b []byte) bool { return b != nil || at == from }, len(was)); !ok || size != len(was) {
		return false
	}
	layings(frame, func(at, _, _ int, b []byte) bool {
		copy(was[at:], b)
		return true
	}, len(was))
	return true
}

// layings goes through a frame as lay makes it over a piece of so many bytes: each is
// told where it stands, and either where that is in the other and how long, or the
// bytes themselves. It ends where each says no; false then, and for any other frame.
func layings(frame []byte, each func(at, from, n int, b []byte) bool, was int) (size int, ok bool) {
	if len(frame) < 9 || !bytes.Equal(frame[:5], layHead) {
		return 0, false
	}
	size = int(binary.LittleEndian.Uint32(frame[5:]))
	if size > maxFrame {
		return 0, false
	}
	at := 0
	frame = frame[9:]
	for last := false; !last; {
		if len(frame) < 3 {
			return 0, false
		}
		h := int(frame[0]) | int(frame[1])<<8 | int(frame[2])<<16
		last = h&1 != 0
		kind, n := h>>1&3, h>>3
		if frame = frame[3:]; n > len(frame) {
			return 0, false
		}
		block := frame[:n]
		frame = frame[n:]
		from := 0
		switch {
		case kind == 0:
		case kind == 2 && n >= 7 && n <= 14 && bytes.Equal(block[:4], matchHead) && block[4] < 32 && block[5] >= 43 && block[5] <= 52:
			far, wide := int(block[4]), int(block[5])-36
			var open uint64
			for i, v := range block[6:] {
				open |= uint64(v) << (8 * i)
			}
			n = 3 + 1<<wide + int(open&(1<<wide-1))
			back := 1<<far + int(open>>wide&(1<<far-1)) - 3
			if from, block = was-(back-at), nil; open>>(wide+far) != 1 || from < 0 || from+n > was {
				return 0, false
			}
		default:
			return 0, false
		}
		if at+n > size || !each(at, from, n, block) {
			return 0, false
		}
		at += n
	}
	return size, len(frame) == 0 && at == size
}

// dull tells whether content looks as if it would not compress: in samples from all
// over it each byte comes about as often as any other.
func dull(b []byte, samples int) bool {
	const each = 256
	if len(b) < samples*each {
		return false
	}
	var count [256]uint32
	squares := func() (n uint32) {
		for _, c := range count {
			n += c * c
		}
		return n
	}
	for i := range samples {
		at := (len(b) - each) / (samples - 1) * i
		for _, v := range b[at : at+each] {
			count[v]++
		}
		if i == 0 && squares() > 3*each { // most that does compress is told by the first
			return false
		}
	}
	n := uint32(samples * each) // without any order: n²/256 + n
	return squares() < (n*n/256+n)/10*11
}

const (
	dullAll    = 16       // samples of a whole piece
	dullWindow = 4 << 10  // where only a part of one is dull, it is looked for in steps of so many bytes,
	dullSome   = 4        // with so many samples of each,
	dullRun    = 64 << 10 // and left alone from so many bytes on
)

// squeeze appends b as a frame, or as several, of which those are raw that would not
// compress: the library would look for matches in them, and find some that cost more
// than they bring.
func squeeze(enc *zstd.Encoder, out, b []byte) []byte {
	if cap(out) == 0 {
		out = roomy(out, len(b))
	}
	raw := func(b []byte) { out = rawBlocks(frameHead(out, len(b)), b, true) }
	if dull(b, dullAll) {
		raw(b)
		return out
	}
	done, run := 0, 0 // up to where it is stored, and where dull windows began
	for at := 0; at <= len(b); at += dullWindow {
		if at+dullWindow <= len(b) && dull(b[at:at+dullWindow], dullSome) {
			continue
		}
		if at-run >= dullRun {
			if run > done {
				out = enc.EncodeAll(b[done:run], out)
			}
			raw(b[run:at])
			done = at
		}
		run = at + dullWindow
	}
	if done < len(b) {
		out = enc.EncodeAll(b[done:], out)
	}
	return out
}

// over stores a piece over the one that stood in its place; false where it is not
// near enough to that, and was not stored. With alike it is not where the two end
// differently: then the content may have moved.
func (w *Writer) over(sc *scratch, s tree.Sum, b []byte, base tree.Sum, alike bool) (bool, error) {
	if w.broken != nil || len(b) < layFrom {
		return false, nil
	}
	if _, ok := w.l.find(s); ok {
		return true, nil
	}
	prints := w.prints(sc, b)
	over := func(base tree.Sum, alike bool) []byte {
		common, was, err := w.common(sc, base, b, prints, alike)
		if err != nil || was < layFrom { // damage is told by a check; it is stored whole
			return nil
		}
		return lay(sc.comp[:0], common, was, b)
	}
	frame := over(base, alike)
	if frame == nil {
		return false, nil
	}
	sc.comp = frame
	if w.l.depth(base) == 0 { // too deep: over the lowest, while that still saves much
		w.l.chain(base, func(s tree.Sum) { base = s })
		if frame = over(base, false); frame == nil || 4*len(frame) > len(b) {
			return true, w.put(sc, s, b)
		}
		sc.comp = frame
	}
	if 16*len(frame) > len(b) { // it may compress to less
		sc.comp = squeeze(sc.quick, frame, b)
		if len(sc.comp) < 2*len(frame) {
			return true, w.put(sc, s, b)
		}
		frame = sc.comp[:len(frame)]
	}
	if !w.claim(s) {
		return true, nil
	}
	return true, w.append(frame, []found{{line{s, place{size: int32(len(b))}}, base, prints}})
}
