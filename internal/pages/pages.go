// Package pages tells which pages of a file's new version are in its old one, wherever they
// stand there, so that only the others need cross the line. The publisher of a file writes a
// list of its pages (Of); whoever has an old version finds out with it what is missing (Find).
//
// A list holds two short sums of each page: one that can be rolled along a file byte by byte,
// as Tridgell and Mackerras have it ("The rsync algorithm", 1996), and the beginning of the
// page's BLAKE3. They find; they prove nothing: what is put together by them is held against
// the digest of the whole.
package pages

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"

	"freshkeel/internal/tree"
)

// Size is the size of a page, in bytes: what file systems and databases change at a time. The
// last of a file may be shorter.
const Size = 4096

// From is the size from which a file gets a list, in bytes: a smaller one is fetched whole.
const From = 4 << 20

const magic = "freshkeel-pages/1\n"

// line is how much of a list each page takes: three bytes of the rolling sum, four of BLAKE3.
const line = 7

// List is the sums of a file's pages.
type List struct {
	size int64
	sums []byte // of each whole page, and of what is left
}

// Count is how many pages there are.
func (l *List) Count() int { return len(l.sums) / line }

// Span is where page i stands in the file.
func (l *List) Span(i int) (from, to int64) {
	return int64(i) * Size, min(int64(i+1)*Size, l.size)
}

// Bytes is the list as it is written: the format's name, the file's size in eight bytes, the
// highest first, and the sums of each page.
func (l *List) Bytes() []byte {
	b := binary.BigEndian.AppendUint64([]byte(magic), uint64(l.size))
	return append(b, l.sums...)
}

// Parse reads what Bytes writes, of a file of a certain size.
func Parse(b []byte, size int64) (*List, error) {
	rest, ok := bytes.CutPrefix(b, []byte(magic))
	if !ok || len(rest) < 8 {
		return nil, errors.New("it is not a list of pages")
	}
	l := &List{size: int64(binary.BigEndian.Uint64(rest)), sums: rest[8:]}
	if l.size != size || int64(len(l.sums)) != line*((size+Size-1)/Size) {
		return nil, fmt.Errorf("it lists pages of a file of %d bytes, and %d are expected", l.size, size)
	}
	return l, nil
}

// Bound is how large a list of a file is at most, in bytes.
func Bound(size int64) int64 { return int64(len(magic)) + 8 + line*((size+Size-1)/Size) }

// Of lists the pages of a file.
func Of(r io.Reader) (*List, error) {
	l := &List{}
	buf := make([]byte, Size)
	for {
		n, err := io.ReadFull(r, buf)
		if n > 0 {
			l.sums = append(l.sums, sums(buf[:n])...)
			l.size += int64(n)
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return l, nil
		}
		if err != nil {
			return nil, err
		}
	}
}

// sums are the two of a page, as a list has them.
func sums(b []byte) []byte {
	w, s := roll(b).sum(), tree.SumBytes(b)
	return []byte{byte(w >> 16), byte(w >> 8), byte(w), s[0], s[1], s[2], s[3]}
}

// Holds tells whether b is page i.
func (l *List) Holds(i int, b []byte) bool { return bytes.Equal(sums(b), l.sums[line*i:line*i+line]) }

// strong tells the same by the second sum alone.
func (l *List) strong(i int, b []byte) bool {
	s := tree.SumBytes(b)
	return bytes.Equal(s[:4], l.sums[line*i+3:line*i+line])
}

func (l *List) weak(i int) uint32 {
	at := l.sums[line*i:]
	return uint32(at[0])<<16 | uint32(at[1])<<8 | uint32(at[2])
}

// rolling is a sum of a window that can be moved by a byte.
type rolling struct {
	a, b uint32
}

func roll(window []byte) rolling {
	var r rolling
	for _, c := range window {
		r.a += uint32(c) + 31 // so that zeros count by their number
		r.b += r.a
	}
	return r
}

// moved is the sum of the window without its first byte and with the one behind it.
func (r rolling) moved(out, in byte) rolling {
	a := r.a + uint32(in) - uint32(out)
	return rolling{a, r.b + a - Size*(uint32(out)+31)}
}

// sum mixes the two halves to 24 bits: of neighbours, each alone differs little.
func (r rolling) sum() uint32 {
	x := (uint64(r.b)<<32 | uint64(r.a)) * 0x9E3779B97F4A7C15
	return uint32(x >> 40)
}

// Missing is where a page is when the old version has it nowhere.
const Missing = -1

// moved is from which share of missing pages on they are looked for elsewhere than where they
// stand in the new version, in per cent: what was changed in place is nowhere else.
const moved = 20

// Find tells where in an old version of a file, of some bytes, each page stands: Missing where
// it does not. Each reader that open gives is for one goroutine.
func (l *List) Find(open func() io.ReaderAt, size int64) ([]int64, error) {
	at := make([]int64, l.Count())
	missing, err := l.inPlace(open, size, at)
	if err != nil {
		return nil, err
	}
	if missing*100 > l.Count()*moved || (size != l.size && missing > 0) {
		err = l.elsewhere(open(), at)
	}
	return at, err
}

// maybeBits is how much of a sum is looked up before the map is.
const maybeBits = 19

// stretch is how much of an old file is read at a time, in bytes.
const stretch = 1 << 20

// inPlace looks at each page where it stands in the new version.
func (l *List) inPlace(open func() io.ReaderAt, size int64, at []int64) (missing int, err error) {
	var mu sync.Mutex
	var wait sync.WaitGroup
	next := 0
	some := func() int { // a stretch that nobody has looked at yet
		mu.Lock()
		defer mu.Unlock()
		i := next
		next += stretch / Size
		return i
	}
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			buf, old := make([]byte, stretch), open()
			for i := some(); i < len(at); i = some() {
				last := min(i+stretch/Size, len(at))
				from, _ := l.Span(i)
				_, to := l.Span(last - 1)
				n, rerr := old.ReadAt(buf[:min(to, max(size, from))-from], from)
				lost := 0
				for k := i; k < last; k++ {
					a, b := l.Span(k)
					if at[k] = a; b-from > int64(n) || !l.strong(k, buf[a-from:b-from]) {
						at[k] = Missing
						lost++
					}
				}
				mu.Lock()
				if missing += lost; rerr != nil && !errors.Is(rerr, io.EOF) {
					err = rerr
				}
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	return missing, err
}

// elsewhere rolls along the old version and finds what is missing at any place.
func (l *List) elsewhere(old io.ReaderAt, at []int64) error {
	want := map[uint32][]int{} // pages by their rolling sum
	for i, where := range at {
		if a, b := l.Span(i); where == Missing && b-a == Size {
			want[l.weak(i)] = append(want[l.weak(i)], i)
		}
	}
	// Most places are the beginning of no page, and a map is slow: a bit for the low part of each
	// sum that is wanted tells most of them, from a table that the processor has at hand.
	var maybe [1 << (maybeBits - 6)]uint64
	for w := range want {
		w &= 1<<maybeBits - 1
		maybe[w>>6] |= 1 << (w & 63)
	}
	buf := make([]byte, 0, stretch+Size)
	var base int64 // of buf in the old file
	for len(want) > 0 {
		n, err := old.ReadAt(buf[len(buf):cap(buf)], base+int64(len(buf)))
		buf = buf[:len(buf)+n]
		if len(buf) < Size {
			return noEnd(err)
		}
		r := roll(buf[:Size])
		out, in := buf[:len(buf)-Size], buf[Size:]
		for i := 0; ; i++ {
			w := r.sum()
			if m := w & (1<<maybeBits - 1); maybe[m>>6]&(1<<(m&63)) != 0 && want[w] != nil {
				l.settle(want, w, buf[i:i+Size], base+int64(i), at)
			}
			if i >= len(out) || i >= len(in) {
				break
			}
			r = r.moved(out[i], in[i])
		}
		done := len(buf) - Size + 1
		base += int64(done)
		buf = buf[:copy(buf[:cap(buf)], buf[done:])]
		if err != nil {
			return noEnd(err)
		}
	}
	return nil
}

func noEnd(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// settle notes a place for the pages that stand there. Pages of the same content all do.
func (l *List) settle(want map[uint32][]int, w uint32, b []byte, where int64, at []int64) {
	left := want[w][:0]
	for _, i := range want[w] {
		if l.strong(i, b) {
			at[i] = where
		} else {
			left = append(left, i)
		}
	}
	if want[w] = left; len(left) == 0 {
		delete(want, w)
	}
}

// Range is a stretch of the new version that is missing: bytes From to To, without To.
type Range struct{ From, To int64 }

// Ranges are the stretches that have to be fetched, neighbours together.
func (l *List) Ranges(at []int64) (out []Range) {
	for i, where := range at {
		if where != Missing {
			continue
		}
		from, to := l.Span(i)
		if n := len(out); n > 0 && out[n-1].To == from {
			out[n-1].To = to
		} else {
			out = append(out, Range{from, to})
		}
	}
	return out
}
