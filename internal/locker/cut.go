package locker

import (
	"bytes"
	"encoding/binary"
	"math/bits"

	"freshkeel/internal/tree"
)

// A file is cut where its content says so: a change in place touches the piece
// it lies in, and one that makes the file longer moves no cut but those beside
// it. Where cuts lie is no part of the format: whatever they are, it reads back.
//
// The sizes were chosen by measurement (go test -bench Cutting ./bench), against
// fixed ones: a database of which one page in two hundred changed stores least
// with small pieces, while each piece costs an index line, a hash and a place in
// every later set.
const (
	minPiece = 24 << 10  // no cut before: what is not looked at costs nothing
	avgPiece = 40 << 10  // about where most lie
	maxPiece = 128 << 10 // cut here in any case: it bounds what one worker holds
)

// cutter finds cuts by a rolling sum over the last 64 bytes: each byte shifts
// the sum and adds the number that stands for it, so that older bytes fall out at
// the top (the gear hash of content-defined chunking). Before the average a
// cut needs two more bits to be zero than the average would ask for, after it two
// fewer, which holds the sizes close to it.
type cutter struct {
	min, avg, max int
	early, late   uint64
}

func newCutter(min, avg, max int) cutter {
	n := bits.Len(uint(avg-min)) - 1
	mask := func(n int) uint64 { return (1<<n - 1) << (64 - n) } // the top bits have seen the most bytes
	return cutter{min, avg, max, mask(n + 2), mask(n - 2)}
}

// gear stands a number for each byte: from BLAKE3, so that nobody has to keep a
// table.
var gear = func() (g [256]uint64) {
	for i := range g {
		s := tree.SumBytes([]byte{'c', 'u', 't', byte(i)})
		g[i] = binary.LittleEndian.Uint64(s[:8])
	}
	return g
}()

// next is how many bytes the next piece of b has; b holds at least max bytes, or
// the rest of the file.
func (c cutter) next(b []byte) int {
	if len(b) <= c.min {
		return len(b)
	}
	if len(b) > c.max {
		b = b[:c.max]
	}
	var h uint64
	for _, v := range b[max(c.min-64, 0):c.min] { // the sum forgets what lies further back
		h = h<<1 + gear[v]
	}
	middle := min(c.avg, len(b))
	for i, v := range b[c.min:middle] {
		if h = h<<1 + gear[v]; h&c.early == 0 {
			return c.min + i + 1
		}
	}
	for i, v := range b[middle:] {
		if h = h<<1 + gear[v]; h&c.late == 0 {
			return middle + i + 1
		}
	}
	return len(b)
}

// zeroPiece is a stretch of a hole, of which large sparse files have many; where
// it is cut and what it hashes to is found out once.
var (
	zeroPiece = make([]byte, maxPiece)
	zeroCut   = cutting.next(zeroPiece)
	zeroSum   = tree.SumBytes(zeroPiece[:zeroCut])
)

func cutNext(b []byte) int {
	if len(b) >= maxPiece && bytes.Equal(b[:maxPiece], zeroPiece) {
		return zeroCut
	}
	return cutting.next(b)
}

func sumPiece(b []byte) tree.Sum {
	if len(b) == zeroCut && bytes.Equal(b, zeroPiece[:zeroCut]) {
		return zeroSum
	}
	return tree.SumBytes(b)
}
