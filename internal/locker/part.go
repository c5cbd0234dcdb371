package locker

import (
	"bytes"
	"errors"

	"freshkeel/internal/tree"
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
	for i := from / layBlock; i*layBlock < to; i++ {
		at, n := i*layBlock, min(layBlock, size-i*layBlock)
		if !read(head+i*each, 3) || !bytes.Equal(r.stored, blockHead(nil, 0, n, at+n == size)) {
			return false
		}
		lo, hi := max(from, at), min(to, at+n)
		if _, err := f.ReadAt(out[lo-from:hi-from], in.off+int64(head+i*each+3+lo-at)); err != nil {
			return false
		}
	}
	return true
}
