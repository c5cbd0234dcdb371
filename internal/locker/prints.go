package locker

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"path/filepath"

	"freshkeel/internal/locker/frame"
	"freshkeel/internal/locker/index"
	"freshkeel/internal/tree"

	"github.com/zeebo/xxh3"
)

// The index has prints of a large piece, made of a 64-bit hash of each stretch of it: the
// sum of those, then the lowest byte of each. The sum tells, ten times as fast as BLAKE3
// does, that a piece stands where it stood. Of one that has changed the bytes tell which
// stretches did; no more than those need be read of what it is to be stored over, and
// their hashes with those of the rest make up the sum, or a byte was the same by chance.
//
// XXH3 is no cryptographic hash: whoever knows the seed can make content that has
// another's prints. So the seed is random, and the locker's own. Prints prove nothing to a
// reader, and what is stored has its BLAKE3 hash as ever.

const (
	printed    = 64 << 10 // bytes of a stretch; the last of a piece is longer by what is left over
	printsFrom = 64 << 10 // pieces smaller than this, in bytes, have none
)

const keyFile = "key"

// printKey is the key of the locker in dir for prints, made when there is none. It is 0 where that
// can't be: there are no prints then, which costs time and nothing else.
func printKey(dir string) uint64 {
	at := filepath.Join(dir, keyFile)
	read := func() uint64 {
		b, _ := tree.ReadOwn(at)
		raw, err := hex.DecodeString(string(bytes.TrimSpace(b)))
		if err != nil || len(raw) != 8 {
			return 0
		}
		return binary.BigEndian.Uint64(raw)
	}
	if key := read(); key != 0 {
		return key
	}
	tree.WriteFile(at, []byte(NewName()+"\n"), 0o600)
	return read() // another process may have made it meanwhile
}

// stretches is how many of them a piece has, and where one of them ends.
func stretches(size int) int { return max(1, size/printed) }

func stretchEnd(i, size int) int {
	if i+1 >= stretches(size) {
		return size
	}
	return (i + 1) * printed
}

// print is the hash of one of a piece's stretches.
func (w *Writer) print(b []byte, i int) uint64 {
	// each with a seed of its own, or two could change places
	return xxh3.HashSeed(b, w.key+uint64(i)*0x9E3779B97F4A7C15)
}

// prints are those of a piece; nil where it has none. They hold until the next, and so
// do the hashes that they are made of.
func (w *Writer) prints(sc *scratch, b []byte) []byte {
	if w.key == 0 || len(b) < printsFrom {
		return nil
	}
	sc.hashes = sc.hashes[:0]
	sc.prints = append(sc.prints[:0], make([]byte, index.PrintSum)...)
	var sum uint64
	for i, from := 0, 0; from < len(b); i++ {
		to := stretchEnd(i, len(b))
		h := w.print(b[from:to], i)
		sum += h
		sc.hashes = append(sc.hashes, h)
		sc.prints = append(sc.prints, byte(h))
		from = to
	}
	binary.BigEndian.PutUint64(sc.prints, sum)
	return sc.prints
}

// stands tells by its prints that content is a stored piece; false where they don't.
func (w *Writer) stands(sc *scratch, b []byte, was tree.Sum) bool {
	prints := w.prints(sc, b)
	return len(prints) > 0 && bytes.Equal(prints, w.trusted(was))
}

// trusted are a stored piece's prints; nil where everything is to be read.
func (w *Writer) trusted(s tree.Sum) []byte {
	if w.doubts {
		return nil
	}
	in, _, _ := w.l.seek(s)
	return in.Prints
}

// common finds what a piece, whose prints these are, has in common with a stored one, and
// how long that is. With alike it is an error that the two end differently: then the
// content may have moved.
func (w *Writer) common(sc *scratch, base tree.Sum, b, prints []byte, alike bool) (common []frame.Match, was int,
	err error) {
	end := b[len(b)-min(len(b), ending):]
	had := w.trusted(base)
	if in, _, ok := w.l.seek(base); ok && int(in.Size) == len(b) && len(prints) > 0 && len(prints) == len(had) {
		if last := len(had) - 1; alike && had[last] != prints[last] {
			was, err := sc.stretch(base, len(b)-len(end), len(end))
			if err != nil {
				return nil, 0, err
			}
			if !halfSame(was, end) {
				return nil, 0, errMoved
			}
		}
		if common, ok, err := w.printedAlike(sc, base, b, had); ok || err != nil {
			return common, len(b), err
		}
	}
	_, _, whole, err := sc.read.unchecked(base) // it is what lies over it that is hashed when it is read
	if err != nil {
		return nil, 0, err
	}
	sc.read.next = sc.read.last // it is not asked for again: less memory is gone through
	if alike && !halfSame(whole[len(whole)-min(len(whole), len(end)):], end) {
		return nil, 0, errMoved
	}
	if bytes.HasPrefix(whole, frame.DictMagic) {
		return nil, 0, errDict
	}
	return frame.InCommon(whole, b), len(whole), nil
}

// printedAlike is common for a piece as long as the other, whose prints are had: of
// stretches that are printed alike nothing is read. False where that would be wrong.
func (w *Writer) printedAlike(sc *scratch, base tree.Sum, b, had []byte) (common []frame.Match, ok bool, err error) {
	add := func(s frame.Match) {
		if n := len(common); n > 0 && common[n-1].Is+common[n-1].N == s.Is {
			common[n-1].N += s.N
		} else {
			common = append(common, s)
		}
	}
	dict := bytes.HasPrefix(b, frame.DictMagic)
	var sum uint64
	for i, from := 0, 0; from < len(b); i++ {
		to := stretchEnd(i, len(b))
		if h := sc.hashes[i]; byte(h) == had[index.PrintSum+i] {
			sum += h
			add(frame.Match{Was: from, Is: from, N: to - from})
		} else {
			part, err := sc.stretch(base, from, to-from)
			if err != nil {
				return nil, false, err
			}
			sum += w.print(part, i)
			if i == 0 {
				dict = bytes.HasPrefix(part, frame.DictMagic)
			}
			for _, s := range frame.InCommon(part, b[from:to]) {
				add(frame.Match{Was: from + s.Was, Is: from + s.Is, N: s.N})
			}
		}
		from = to
	}
	if dict {
		return nil, false, errDict
	}
	return common, sum == binary.BigEndian.Uint64(had), nil
}

// ending is how much of two pieces tells whether they end alike: more than the page in
// which they may differ.
const ending = 64 << 10

// halfSame tells whether half of two stretches is the same, in place.
func halfSame(was, is []byte) bool {
	n := 0
	if len(was) == len(is) {
		for _, s := range frame.InCommon(was, is) {
			n += s.N
		}
	}
	return 2*n >= len(is)
}

var (
	errMoved = errors.New("the content has moved")
	errDict  = errors.New("it would be taken for a dictionary of zstd's own")
)
