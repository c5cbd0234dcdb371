package locker

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"slices"

	"freshkeel/internal/tree"

	"github.com/zeebo/xxh3"
)

// Of a large piece the index has prints: a hash of 64 bits for each stretch of it. They
// tell ten times as fast as BLAKE3 does that a piece stands where it stood, and of one
// that has changed which stretches did, so that no more of what it is stored over need
// be read than those. Prints are keyed with a number that is the locker's own: nobody
// who doesn't know it can make content that has another's prints. They prove nothing to
// a reader, and what is stored has its BLAKE3 hash as ever.

const (
	printed    = 256 << 10 // bytes of a stretch; the last of a piece is longer by what is left over
	printsFrom = 64 << 10  // pieces smaller than this, in bytes, have none
)

const keyFile = "key"

// printKey is the locker's key for prints, made when there is none. It is 0 where that
// can't be: there are no prints then, which costs time and nothing else.
func (l *Locker) printKey() uint64 {
	at := filepath.Join(l.dir, keyFile)
	read := func() uint64 {
		b, _ := os.ReadFile(at)
		raw, err := hex.DecodeString(string(bytes.TrimSpace(b)))
		if err != nil || len(raw) != 8 {
			return 0
		}
		return binary.BigEndian.Uint64(raw)
	}
	if key := read(); key != 0 {
		return key
	}
	tree.WriteFile(at, []byte(newName()+"\n"), 0o600)
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

// prints are those of a piece; nil where it has none. They hold until the next.
func (w *Writer) prints(sc *scratch, b []byte) []uint64 {
	if w.key == 0 || len(b) < printsFrom {
		return nil
	}
	sc.prints = sc.prints[:0]
	for i, from := 0, 0; from < len(b); i++ {
		to := stretchEnd(i, len(b))
		sc.prints = append(sc.prints, xxh3.HashSeed(b[from:to], w.key))
		from = to
	}
	return sc.prints
}

// stands tells by its prints that content is a stored piece; false where they don't.
func (w *Writer) stands(sc *scratch, b []byte, was tree.Sum) bool {
	prints := w.prints(sc, b)
	return len(prints) > 0 && slices.Equal(prints, w.trusted(was))
}

// trusted are a stored piece's prints; nil where everything is to be read.
func (w *Writer) trusted(s tree.Sum) []uint64 {
	if w.doubts {
		return nil
	}
	return w.l.printsOf(s)
}

// printsOf are those that the index has of a piece.
func (l *Locker) printsOf(s tree.Sum) []uint64 {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return l.index.printsOf(s)
}

// common finds what a piece has in common with a stored one, and how long that is. Of
// stretches that have the same prints nothing is read. With alike it is an error that
// the two end differently.
func (w *Writer) common(sc *scratch, base tree.Sum, b []byte, prints []uint64, alike bool) (common []same, was int, err error) {
	had := w.trusted(base)
	in, _, ok := w.l.seek(base)
	if !ok || int(in.size) != len(b) || len(prints) == 0 || len(prints) != len(had) {
		_, _, whole, err := w.l.unchecked(&sc.read, base) // it is what lies over it that is hashed when it is read
		if err != nil {
			return nil, 0, err
		}
		sc.read.next = sc.read.last // it is not asked for again: less memory is gone through
		if alike && suffix(whole, b[len(b)-tail:]) < tail {
			return nil, 0, errMoved
		}
		if bytes.HasPrefix(whole, dictMagic) {
			return nil, 0, errDict
		}
		return inCommon(whole, b), len(whole), nil
	}
	if last := len(had) - 1; alike && had[last] != prints[last] {
		end, err := w.l.part(sc, base, len(b)-tail, tail)
		if err != nil {
			return nil, 0, err
		}
		if !bytes.Equal(end, b[len(b)-tail:]) {
			return nil, 0, errMoved
		}
	}
	dict := bytes.HasPrefix(b, dictMagic)
	add := func(s same) {
		if n := len(common); n > 0 && common[n-1].is+common[n-1].n == s.is {
			common[n-1].n += s.n
		} else {
			common = append(common, s)
		}
	}
	for i, from := 0, 0; i < len(had); i++ {
		to := stretchEnd(i, len(b))
		if had[i] == prints[i] {
			add(same{from, from, to - from})
		} else {
			part, err := w.l.part(sc, base, from, to-from)
			if err != nil {
				return nil, 0, err
			}
			if i == 0 {
				dict = bytes.HasPrefix(part, dictMagic)
			}
			for _, s := range inCommon(part, b[from:to]) {
				add(same{from + s.was, from + s.is, s.n})
			}
		}
		from = to
	}
	if dict {
		return nil, 0, errDict
	}
	return common, len(b), nil
}

var (
	errMoved = errors.New("the content has moved")
	errDict  = errors.New("it would be taken for a dictionary of zstd's own")
)

// part is a stretch of a piece; unchecked, like unchecked. It holds until the next.
func (l *Locker) part(sc *scratch, s tree.Sum, from, n int) ([]byte, error) {
	if cap(sc.part) < n {
		sc.part = make([]byte, n, max(n, 2*printed))
	}
	out := sc.part[:n]
	return out, l.readPart(&sc.read, s, from, out)
}

func (l *Locker) readPart(r *reading, s tree.Sum, from int, out []byte) error {
	if in, pack, ok := l.seek(s); ok && l.partOf(r, pack, in, from, out) {
		return nil
	}
	_, _, whole, err := l.unchecked(r, s) // which tells why it can't be read, too
	if err != nil {
		return err
	}
	if copy(out, whole[min(from, len(whole)):]) < len(out) {
		return errors.New("the piece is shorter than its index says")
	}
	return nil
}

// partOf reads a stretch where no more than that need be read: of a piece that is stored
// raw, or over another. False for any other, and where it can't be read.
func (l *Locker) partOf(r *reading, pack string, in found, from int, out []byte) bool {
	f, err := r.open(l, pack)
	if err != nil {
		return false
	}
	read := func(off, n int) bool {
		r.stored = roomy(r.stored, n)[:n]
		_, err := f.ReadAt(r.stored, in.off+int64(off))
		return err == nil
	}
	size, to := int(in.size), from+len(out)
	if to > size {
		return false
	}
	if !in.base.IsZero() {
		base, _, ok := l.seek(in.base)
		if !ok || !read(0, int(in.stored)) {
			return false
		}
		var below []same // in out, and where it is in the other
		n, ok := layings(r.stored, func(at, was, n int, b []byte) bool {
			lo, hi := max(at, from), min(at+n, to)
			switch {
			case lo >= hi:
			case b != nil:
				copy(out[lo-from:], b[lo-at:hi-at])
			default:
				below = append(below, same{was + lo - at, lo - from, hi - lo})
			}
			return true
		}, int(base.size))
		if !ok || n != size {
			return false
		}
		for _, s := range below {
			if l.readPart(r, in.base, s.was, out[s.is:s.is+s.n]) != nil {
				return false
			}
		}
		return true
	}
	// A frame that is as long as raw blocks make it has no others: those of any other
	// kind are shorter than what they hold.
	const head, each = 9, 3 + layBlock
	if in.at > 0 || int(in.stored) != head+size+3*((size+layBlock-1)/layBlock) || !read(0, head) || !bytes.Equal(r.stored, frameHead(nil, size)) {
		return false
	}
	first := from / layBlock
	begin := head + first*each
	last := (to - 1) / layBlock
	if !read(begin, head+last*each+3+to-last*layBlock-begin) {
		return false
	}
	b := r.stored
	for i := first; i <= last; i++ {
		n := min(layBlock, size-i*layBlock)
		if !bytes.Equal(b[:3], blockHead(nil, 0, n, i*layBlock+n == size)) {
			return false
		}
		n = min(n, len(b)-3)
		lo := max(from-i*layBlock, 0)
		copy(out[i*layBlock+lo-from:], b[3+lo:3+n])
		b = b[3+n:]
	}
	return true
}
