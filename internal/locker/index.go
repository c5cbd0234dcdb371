package locker

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"

	"freshkeel/internal/tree"

	"github.com/klauspost/compress/zstd"
)

// lineLength is how long a line of an index is compressed at least, in bytes: a hash.
const lineLength = 32

// indexBlock is about how many bytes of lines are compressed together: damage costs
// the lines of the block that it is in, and no others.
const indexBlock = 16 << 10

// index is what stands in one.
type index struct {
	lines  []held
	over   map[tree.Sum]tree.Sum // of pieces stored over another: which one
	prints map[tree.Sum][]byte   // of those that have them
	bad    error                 // of lines: they are left out
	err    error                 // it can't be read at all
}

// found is a line of an index with all that stands in it.
type found struct {
	line
	base   tree.Sum // what it is stored over; zero: nothing, it is whole
	prints []byte   // of large pieces
}

func readIndex(path string) *index {
	b, err := os.ReadFile(path)
	if err != nil {
		return &index{err: err}
	}
	return parseIndex(b)
}

// parseIndex reads an index: of a damaged one what can be had, and why that is not all.
func parseIndex(b []byte) *index {
	x := &index{lines: make([]held, 0, len(b)/lineLength+1)}
	r := bufio.NewReader(bytes.NewReader(b))
	var text []byte
	for n := 1; ; n++ {
		raw, err := readBlock(r)
		if errors.Is(err, io.EOF) {
			if cap(x.lines) > len(x.lines)+len(x.lines)/8 { // compressed lines differ much in length
				x.lines = slices.Clone(x.lines)
			}
			return x
		}
		if err == nil {
			text, err = inflate(raw, text[:0])
		}
		if err != nil {
			x.bad = fmt.Errorf("block %d: %w", n, err)
			if raw == nil { // where the next begins is not known
				return x
			}
			continue
		}
		if err := x.block(text); err != nil {
			x.bad = fmt.Errorf("block %d: %w", n, err)
		}
	}
}

// block takes up a block's lines.
func (x *index) block(text []byte) (bad error) {
	var last place // zero, or where the line before says its piece lies
	for n := 1; len(text) > 0; n++ {
		one, rest, _ := bytes.Cut(text, []byte("\n"))
		text = rest
		in, err := readIndexLine(one, last)
		if err != nil {
			last, bad = place{}, fmt.Errorf("line %d: %w", n, err)
			continue
		}
		last = in.place
		if !in.base.IsZero() {
			if x.over == nil {
				x.over = map[tree.Sum]tree.Sum{}
			}
			x.over[in.sum] = in.base
		}
		if in.prints != nil {
			if x.prints == nil {
				x.prints = make(map[tree.Sum][]byte, PackSize/avgPiece)
			}
			x.prints[in.sum] = in.prints
		}
		x.lines = append(x.lines, heldOf(in.line))
	}
	return bad
}

// held is a line as memory holds it: without its pack, which all lines of an index share.
type held struct {
	sum              tree.Sum
	off              uint32
	stored, size, at int32
}

func heldOf(ln line) held { return held{ln.sum, uint32(ln.off), ln.stored, ln.size, ln.at} }

// in is the line with its pack's number.
func (h *held) in(pack int) line {
	return line{h.sum, place{pack: int32(pack), off: int64(h.off), stored: h.stored, size: h.size, at: h.at}}
}

// whole is a line with all that the index says of it; its pack is not known here.
func (x *index) whole(i int) found {
	ln := x.lines[i].in(0)
	return found{ln, x.over[ln.sum], x.prints[ln.sum]}
}

// indexText is an index being written: its lines, in blocks like those of a set.
type indexText struct {
	text []byte
	ends []int // of all blocks but the last
	last place // where the line before says its piece lies; zero at the beginning of a block
}

// add appends a line.
func (t *indexText) add(in found) {
	begun := 0
	if n := len(t.ends); n > 0 {
		begun = t.ends[n-1]
	}
	if len(t.text)-begun >= indexBlock {
		t.ends, t.last = append(t.ends, len(t.text)), place{}
	}
	t.text = appendIndexLine(t.text, in, t.last)
	t.last = in.place
}

// reset empties it, and keeps its memory.
func (t *indexText) reset() { *t = indexText{text: t.text[:0], ends: t.ends[:0]} }

// pack compresses it.
func (t *indexText) pack() ([]byte, error) {
	enc := encoders.Get().(*zstd.Encoder)
	defer encoders.Put(enc)
	var out bytes.Buffer
	var comp []byte
	from := 0
	for _, end := range append(t.ends, len(t.text)) {
		comp = enc.EncodeAll(t.text[from:end], comp[:0])
		if err := writeBlock(&out, comp); err != nil {
			return nil, err
		}
		from = end
	}
	return out.Bytes(), nil
}

// follows tells whether a piece lies behind another in the same frame.
func (p place) follows(o place) bool {
	return o.stored > 0 && p.off == o.off && p.stored == o.stored && p.at == o.at+o.size
}

// appendIndexLine appends what readIndexLine reads behind a line of that place.
func appendIndexLine(b []byte, in found, last place) []byte {
	b = hex.AppendEncode(b, in.sum[:])
	if in.base.IsZero() && in.prints == nil && in.follows(last) {
		return fmt.Appendf(b, " %d\n", in.size)
	}
	next := last.stored > 0 && in.off == last.off+int64(last.stored)
	if !next || in.at > 0 || !in.base.IsZero() {
		b = fmt.Appendf(b, " %d", in.off)
	}
	b = fmt.Appendf(b, " %d %d", in.stored, in.size)
	if in.at > 0 || !in.base.IsZero() {
		b = fmt.Appendf(b, " %d", in.at)
	}
	if !in.base.IsZero() {
		b = fmt.Appendf(b, " %s", in.base)
	}
	if in.prints != nil {
		b = hex.AppendEncode(append(b, " ="...), in.prints)
	}
	return append(b, '\n')
}

// enter makes a pack's pieces known; called with the lock held.
func (l *Locker) enter(name string, x *index) {
	l.packs, l.known[name] = append(l.packs, filepath.Join(l.dir, "packs", name+".zst")), true
	if len(l.spoilt) > 0 {
		x.lines = slices.DeleteFunc(x.lines, func(ln held) bool { return l.spoilt[fmt.Sprintf("%s %s %d", ln.sum, name, ln.off)] })
	}
	l.index.add(x)
}

// maxOver is how many pieces may be stored each over the next before one is stored
// whole again: what reading one costs at most.
const maxOver = 8

// pieces finds places by their hashes: a table of references into the lines of all
// packs, which takes half of what a map does, and nothing to be moved as it grows
// but the references. The zero value is empty. Of lines with one hash one that is
// whole counts before one that is stored over another piece.
type pieces struct {
	lines  [][]held                // by pack
	over   []map[tree.Sum]overline // by pack; nil where all is whole
	prints []map[tree.Sum][]byte   // by pack; nil where none has any
	table  []uint64                // pack<<32 | line+1; 0: free. Its length is a power of two
	n      int                     // in use
}

// overline is a line of a piece that is stored over another.
type overline struct {
	base tree.Sum
	line int32
}

// slot is where a hash stands in the table, or would.
func (x *pieces) slot(s tree.Sum) int {
	mask := uint64(len(x.table) - 1)
	for i := binary.LittleEndian.Uint64(s[:8]) & mask; ; i = (i + 1) & mask {
		if ref := x.table[i]; ref == 0 || x.at(ref).sum == s {
			return int(i)
		}
	}
}

func (x *pieces) at(ref uint64) *held { return &x.lines[ref>>32][uint32(ref)-1] }

// base is what the line of a reference is stored over.
func (x *pieces) base(ref uint64) (base tree.Sum, over bool) {
	m := x.over[ref>>32]
	if m == nil {
		return base, false
	}
	o, over := m[x.at(ref).sum]
	return o.base, over
}

// find tells where a piece lies, and what it is stored over: the zero hash where it is
// whole. One of which the base is not there any more is not there either.
func (x *pieces) find(s tree.Sum) (p place, base tree.Sum, ok bool) {
	if x.n == 0 {
		return p, base, false
	}
	ref := x.table[x.slot(s)]
	if ref == 0 {
		return p, base, false
	}
	base, over := x.base(ref)
	if !over || x.depth(base, 1) > 0 {
		return x.at(ref).in(int(ref >> 32)).place, base, true
	}
	for pack, m := range x.over { // another may have stored it over something else
		if o, is := m[s]; is && x.depth(o.base, 1) > 0 {
			return x.lines[pack][o.line].in(pack).place, o.base, true
		}
	}
	return p, base, false
}

// printsOf are a piece's prints, nil where it has none.
func (x *pieces) printsOf(s tree.Sum) []byte {
	if x.n == 0 {
		return nil
	}
	if ref := x.table[x.slot(s)]; ref != 0 {
		return x.prints[ref>>32][s]
	}
	return nil
}

// chain hears of a piece and then of those that it lies over, each over the next, and
// of each whether it is there.
func (x *pieces) chain(s tree.Sum, each func(s tree.Sum, p place, ok bool)) {
	for range maxOver + 1 { // damage might make a ring
		p, base, ok := x.find(s)
		each(s, p, ok)
		if s = base; s.IsZero() {
			return
		}
	}
}

// depth is how many pieces a piece lies over, and so many more; 0 where one of them is
// not there, or they are too many.
func (x *pieces) depth(s tree.Sum, more int) int {
	for ; x.n > 0 && more <= maxOver; more++ {
		ref := x.table[x.slot(s)]
		if ref == 0 {
			return 0
		}
		base, over := x.base(ref)
		if !over {
			return more
		}
		s = base
	}
	return 0
}

// grow makes room for so many more.
func (x *pieces) grow(n int) {
	if 4*(x.n+n) < 3*len(x.table) {
		return
	}
	size := 1024
	for 4*(x.n+n) >= 3*size {
		size *= 2
	}
	old := x.table
	x.table = make([]uint64, size)
	for _, ref := range old {
		if ref != 0 {
			x.table[x.slot(x.at(ref).sum)] = ref
		}
	}
}

// add takes up the lines of the next pack.
func (x *pieces) add(in *index) {
	lines := in.lines
	x.grow(len(lines))
	pack := uint64(len(x.lines))
	x.lines = append(x.lines, lines)
	x.over, x.prints = append(x.over, nil), append(x.prints, in.prints)
	for i := range lines {
		sum := lines[i].sum
		base, over := in.over[sum]
		if over {
			if x.over[pack] == nil {
				x.over[pack] = map[tree.Sum]overline{}
			}
			x.over[pack][sum] = overline{base, int32(i)}
		}
		at := x.slot(sum)
		if x.table[at] == 0 {
			x.n++
		} else if over {
			continue
		}
		x.table[at] = pack<<32 | uint64(i+1)
	}
}

var errIndexLine = errors.New("it is none of «hash offset stored size at base =prints», «hash stored size =prints», «hash size»")

// readIndexLine reads a line that stands behind one of a certain place.
func readIndexLine(b []byte, last place) (in found, err error) {
	if len(b) < 2*len(in.sum) {
		return in, errIndexLine
	}
	if err := in.sum.UnmarshalText(b[:2*len(in.sum)]); err != nil {
		return in, err
	}
	rest := b[2*len(in.sum):]
	if before, prints, some := bytes.Cut(rest, []byte(" =")); some {
		in.prints = make([]byte, hex.DecodedLen(len(prints)))
		if _, err := hex.Decode(in.prints, prints); err != nil || len(in.prints) <= printSum {
			return in, errIndexLine
		}
		rest = before
	}
	var n [4]int64
	fields := 0
	for ; len(rest) > 0 && fields < len(n); fields++ {
		if len(rest) < 2 || rest[0] != ' ' {
			return in, errIndexLine
		}
		digits := 1
		for ; digits < len(rest) && rest[digits] != ' '; digits++ {
			d := rest[digits] - '0'
			if d > 9 || digits > 18 {
				return in, errIndexLine
			}
			n[fields] = n[fields]*10 + int64(d)
		}
		if digits == 1 {
			return in, errIndexLine
		}
		rest = rest[digits:]
	}
	if len(rest) > 0 {
		if err := in.base.UnmarshalText(rest[1:]); err != nil {
			return in, errIndexLine
		}
	}
	switch {
	case fields >= 3:
	case fields == 2 && last.stored > 0:
		n = [4]int64{last.off + int64(last.stored), n[0], n[1], 0}
	case fields == 1 && last.stored > 0 && in.prints == nil:
		n = [4]int64{last.off, int64(last.stored), n[0], int64(last.at) + int64(last.size)}
	default:
		return in, errIndexLine
	}
	if n[0] < 0 || n[0] > math.MaxUint32 || n[1] < 1 || n[1] > 2*maxFrame || n[2] < 0 || n[2] > maxFrame || n[3] < 0 || n[3]+n[2] > maxFrame {
		return in, fmt.Errorf("%q is out of bounds", b)
	}
	in.place = place{off: n[0], stored: int32(n[1]), size: int32(n[2]), at: int32(n[3])}
	return in, nil
}
