package frame

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"slices"
)

// DictMagic begins a dictionary of zstd's own format: a piece that begins so would not
// be taken for content.
var DictMagic = []byte{0x37, 0xA4, 0x30, 0xEC}

// Match is a stretch that two pieces have in common: where it is in each, and how long.
type Match struct{ Was, Is, N int }

// InCommon finds what is has in common with was: in the same places, where both are
// as long as each other; else at the beginning and the end.
func InCommon(was, is []byte) (out []Match) {
	add := func(s Match) {
		if s.N < laySame {
			return
		}
		out = append(out, s)
	}
	if len(was) != len(is) {
		n := prefix(was, is)
		add(Match{0, 0, n})
		m := suffix(was[n:], is[n:])
		add(Match{len(was) - m, len(is) - m, m})
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
		add(Match{from, from, to - from})
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

// Lay appends is as a frame over another piece of so many bytes, with which it has
// something in common. It is nil where that would save less than half.
func Lay(out []byte, common []Match, was int, is []byte) []byte {
	differs := len(is)
	for _, s := range common {
		differs -= s.N
	}
	if 2*differs > len(is) {
		return nil
	}
	out = Head(out, len(is))
	at := 0
	for i, s := range common {
		out = RawBlocks(out, is[at:s.Is], false)
		for at = s.Is; at < s.Is+s.N; {
			n := min(MaxBlock, s.Is+s.N-at)
			if left := s.Is + s.N - at - n; left > 0 && left < laySame { // a match has no fewer
				n -= laySame
			}
			last := i == len(common)-1 && at+n == len(is)
			out = matchBlock(out, at+was-(s.Was+at-s.Is), n, last)
			at += n
		}
	}
	if at < len(is) {
		out = RawBlocks(out, is[at:], true)
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
	out = append(append(BlockHead(out, 2, 6+size, last), matchHead...), byte(far), byte(36+wide))
	for range size {
		out = append(out, byte(open))
		open >>= 8
	}
	return out
}

// Unlaid is unlay for a frame as lay and rawBlocks make it: the library makes a decoder
// for each dictionary, which takes ten times as long. False for any other frame.
func Unlaid(out, frame, was []byte) ([]byte, bool) {
	if len(frame) > 9 { // as much as it says, and no more than can be
		out = slices.Grow(out, int(min(binary.LittleEndian.Uint32(frame[5:]), Max)))
	}
	size, ok := Layings(frame, func(at, from, n int, b []byte) bool {
		if b == nil {
			b = was[from : from+n]
		}
		out = append(out, b...)
		return true
	}, len(was))
	return out, ok && size > 0
}

// UnlayIn is unlay into the other piece itself, where all that they have in common
// stands in the same places; false, and nothing was done, where it does not.
func UnlayIn(was, frame []byte) bool {
	if size, ok := Layings(frame, func(at, from, n int, b []byte) bool { return b != nil || at == from },
		len(was)); !ok || size != len(was) {
		return false
	}
	Layings(frame, func(at, _, _ int, b []byte) bool {
		copy(was[at:], b)
		return true
	}, len(was))
	return true
}

// Layings goes through a frame as lay makes it over a piece of so many bytes: each is
// told where it stands, and either where that is in the other and how long, or the
// bytes themselves. It ends where each says no; false then, and for any other frame.
func Layings(frame []byte, each func(at, from, n int, b []byte) bool, was int) (size int, ok bool) {
	if len(frame) < 9 || !bytes.Equal(frame[:5], layHead) {
		return 0, false
	}
	size = int(binary.LittleEndian.Uint32(frame[5:]))
	if size > Max {
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
		case kind == 2 && n >= 7 && n <= 14 && bytes.Equal(block[:4], matchHead) && block[4] < 32 && block[5] >= 43 &&
			block[5] <= 52:
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
