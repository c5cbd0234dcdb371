// Package cut finds where a file is cut into pieces: where its content says so. A file that
// grows in the middle moves no cut but those beside it. What changed within a piece is
// stored over what the piece was (over.go of the locker), so pieces may be large: an index,
// a set and a restore pay for their number. Where cuts lie is no part of the format:
// whatever they are, a file reads back.
//
// The sizes were chosen by measurement (go test -bench Cutting ./internal/locker).
package cut

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"sync"

	"freshkeel/internal/tree"
)

// Sizes of pieces, in bytes.
const (
	Min     = 256 << 10 // no cut before: what is not looked at costs nothing
	Average = 512 << 10 // about where most lie
	Max     = 1 << 20   // cut here in any case: it bounds what one worker holds
)

// Cutter finds cuts. A cut may lie behind each byte of one value, which the processor
// finds many at a time; whether it does the 32 bytes before it decide, by a hash. Where
// a piece would have no such cut, as text has none, every byte is asked: by a rolling
// sum over the last 64, to which each adds the number that stands for it while older
// ones are shifted out at the top. Before the average a cut needs one more bit to be
// zero than the average would ask for, after it one fewer: more would hold the sizes
// closer to it, and find the old cuts again later behind a place where content grew.
type Cutter struct {
	min, avg, max int
	early, late   int // bits that are to be zero
}

// New is a cutter for pieces of so many bytes at least, about, and at most.
func New(min, avg, max int) Cutter {
	n := bits.Len(uint(avg-min)) - 1
	return Cutter{min, avg, max, n + 1, n - 1}
}

// cutMark is the value behind which a cut may lie: none that text in UTF-8 has, nor
// one of the many that numbers begin with. In content without order one byte in 256
// has it, which is as good as eight bits of a sum.
const (
	cutMark     = 0xC1
	cutMarkBits = 8
)

// gear stands a number for each byte: from BLAKE3, so that nobody has to keep a
// table.
var gear = func() (g [256]uint64) {
	for i := range g {
		s := tree.SumBytes([]byte{'c', 'u', 't', byte(i)})
		g[i] = binary.LittleEndian.Uint64(s[:8]) | 1
	}
	return g
}()

// Next is how many bytes the next piece of b has, of which nothing follows where whole
// is true; 0 where it takes more than b to tell.
func (c Cutter) Next(b []byte, whole bool) int {
	if len(b) <= c.min {
		if whole {
			return len(b)
		}
		return 0
	}
	if len(b) >= c.max {
		b, whole = b[:c.max], true
	}
	middle := min(c.avg, len(b))
	if at := c.marked(b, c.min, middle, c.early); at > 0 {
		return at
	}
	if at := c.marked(b, middle, len(b), c.late); at > 0 {
		return at
	}
	if !whole {
		return 0
	}
	return c.rolled(b, middle)
}

// marked is the first cut behind a mark in b[from:to]; 0 where there is none.
func (c Cutter) marked(b []byte, from, to, zero int) int {
	shift := 64 - max(zero-cutMarkBits, 0)
	for from < to {
		n := bytes.IndexByte(b[from:to], cutMark)
		if n < 0 {
			break
		}
		from += n + 1
		if from < 32 {
			continue
		}
		w := b[from-32 : from]
		h := binary.LittleEndian.Uint64(w)*gear[0] + binary.LittleEndian.Uint64(w[8:])*gear[1] + binary.LittleEndian.Uint64(w[16:])*gear[2] + binary.LittleEndian.Uint64(w[24:])*gear[3]
		if (h^h>>32)*gear[4]>>shift == 0 {
			return from
		}
	}
	return 0
}

// rolled is the first cut by the rolling sum, or the end of b.
func (c Cutter) rolled(b []byte, middle int) int {
	// the top bits have seen the most bytes
	early, late := uint64(1<<c.early-1)<<(64-c.early), uint64(1<<c.late-1)<<(64-c.late)
	var h uint64
	for _, v := range b[max(c.min-64, 0):c.min] { // the sum forgets what lies further back
		h = h<<1 + gear[v]
	}
	for i, v := range b[c.min:middle] {
		if h = h<<1 + gear[v]; h&early == 0 {
			return c.min + i + 1
		}
	}
	for i, v := range b[middle:] {
		if h = h<<1 + gear[v]; h&late == 0 {
			return middle + i + 1
		}
	}
	return len(b)
}

// zeroPiece is a stretch of a hole, of which large sparse files have many; what it
// hashes to is found out once. Nothing in it is a cut.
var (
	zeroPiece = make([]byte, Max)
	ZeroSum   = sync.OnceValue(func() tree.Sum { return tree.SumBytes(zeroPiece) })
)

// In is the cutter's next.
func In(b []byte, whole bool) int {
	if len(b) >= Max && bytes.Equal(b[:Max], zeroPiece) {
		return Max
	}
	return cutting.Next(b, whole)
}

// Next is how many bytes the next piece of b has; b holds at least maxPiece bytes, or
// the rest of the file.
func Next(b []byte) int { return In(b, true) }

// Sum is the hash of a piece.
func Sum(b []byte) tree.Sum {
	if len(b) == Max && bytes.Equal(b, zeroPiece) {
		return ZeroSum()
	}
	return tree.SumBytes(b)
}

var cutting = New(Min, Average, Max)
