package frame

import (
	"github.com/klauspost/compress/zstd"
)

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

// Squeeze appends b as a frame, or as several, of which those are raw that would not
// compress: the library would look for matches in them, and find some that cost more
// than they bring.
func Squeeze(enc *zstd.Encoder, out, b []byte) []byte {
	if cap(out) == 0 {
		out = Roomy(out, len(b))
	}
	raw := func(b []byte) { out = RawBlocks(Head(out, len(b)), b, true) }
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
