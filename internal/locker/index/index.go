// Package index finds pieces in packs: it reads and writes an index, and has the table of
// all of them in memory.
package index

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"

	"freshkeel/internal/locker/frame"
	"freshkeel/internal/tree"

	"github.com/klauspost/compress/zstd"
)

// LineLength is how long a line of an index is compressed at least, in bytes: a hash.
const LineLength = 32

// indexBlock is about how many bytes of lines are compressed together: damage costs
// the lines of the block that it is in, and no others.
const indexBlock = 16 << 10

// Index is what stands in one.
type Index struct {
	Lines  []Held
	over   map[tree.Sum]tree.Sum // of pieces stored over another: which one
	Prints map[tree.Sum][]byte   // of those that have them
	Bad    error                 // of lines: they are left out
	Err    error                 // it can't be read at all
}

// PrintSum is how many bytes of a piece's prints are their sum; one for each stretch follow.
const PrintSum = 8

// Found is a line of an index with all that stands in it.
type Found struct {
	Line
	Base   tree.Sum // what it is stored over; zero: nothing, it is whole
	Prints []byte   // of large pieces
}

// Read reads the index in the file at path.
func Read(path string) *Index {
	b, err := tree.ReadOwn(path)
	if err != nil {
		return &Index{Err: err}
	}
	return Parse(b)
}

// Parse reads an index: of a damaged one what can be had, and why that is not all.
func Parse(b []byte) *Index {
	x := &Index{Lines: make([]Held, 0, len(b)/LineLength+1)}
	r := bufio.NewReader(bytes.NewReader(b))
	var text []byte
	for n := 1; ; n++ {
		raw, err := frame.ReadMarked(r)
		if errors.Is(err, io.EOF) {
			if cap(x.Lines) > len(x.Lines)+len(x.Lines)/8 { // compressed lines differ much in length
				x.Lines = slices.Clone(x.Lines)
			}
			return x
		}
		if err == nil {
			text, err = frame.Inflate(raw, text[:0])
		}
		if err != nil {
			x.Bad = fmt.Errorf("block %d: %w", n, err)
			if raw == nil { // where the next begins is not known
				return x
			}
			continue
		}
		if err := x.block(text); err != nil {
			x.Bad = fmt.Errorf("block %d: %w", n, err)
		}
	}
}

// block takes up a block's lines.
func (x *Index) block(text []byte) (bad error) {
	var last Place // zero, or where the line before says its piece lies
	for n := 1; len(text) > 0; n++ {
		one, rest, _ := bytes.Cut(text, []byte("\n"))
		text = rest
		in, err := readIndexLine(one, last)
		if err != nil {
			last, bad = Place{}, fmt.Errorf("line %d: %w", n, err)
			continue
		}
		last = in.Place
		if !in.Base.IsZero() {
			if x.over == nil {
				x.over = map[tree.Sum]tree.Sum{}
			}
			x.over[in.Sum] = in.Base
		}
		if in.Prints != nil {
			if x.Prints == nil {
				x.Prints = make(map[tree.Sum][]byte, 128)
			}
			x.Prints[in.Sum] = in.Prints
		}
		x.Lines = append(x.Lines, heldOf(in.Line))
	}
	return bad
}

// Held is a line as memory holds it: without its pack, which all lines of an index share.
type Held struct {
	Sum              tree.Sum
	Off              uint32
	Stored, size, at int32
}

func heldOf(ln Line) Held { return Held{ln.Sum, uint32(ln.Off), ln.Stored, ln.Size, ln.At} }

// in is the line with its pack's number.
func (h *Held) in(pack int) Line {
	return Line{h.Sum, Place{Pack: int32(pack), Off: int64(h.Off), Stored: h.Stored, Size: h.size, At: h.at}}
}

// Whole is a line with all that the index says of it; its pack is not known here.
func (x *Index) Whole(i int) Found {
	ln := x.Lines[i].in(0)
	return Found{ln, x.over[ln.Sum], x.Prints[ln.Sum]}
}

// Text is an index being written: its lines, in blocks like those of a set.
type Text struct {
	text []byte
	ends []int // of all blocks but the last
	last Place // where the line before says its piece lies; zero at the beginning of a block
}

// Add appends a line.
func (t *Text) Add(in Found) {
	begun := 0
	if n := len(t.ends); n > 0 {
		begun = t.ends[n-1]
	}
	if len(t.text)-begun >= indexBlock {
		t.ends, t.last = append(t.ends, len(t.text)), Place{}
	}
	t.text = appendIndexLine(t.text, in, t.last)
	t.last = in.Place
}

// Reset empties it, and keeps its memory.
func (t *Text) Reset() { *t = Text{text: t.text[:0], ends: t.ends[:0]} }

// Pack compresses it.
func (t *Text) Pack() ([]byte, error) {
	enc := frame.Encoders.Get().(*zstd.Encoder)
	defer frame.Encoders.Put(enc)
	var out bytes.Buffer
	var comp []byte
	from := 0
	for _, end := range append(t.ends, len(t.text)) {
		comp = enc.EncodeAll(t.text[from:end], comp[:0])
		if err := frame.WriteMarked(&out, comp); err != nil {
			return nil, err
		}
		from = end
	}
	return out.Bytes(), nil
}

// follows tells whether a piece lies behind another in the same frame.
func (p Place) follows(o Place) bool {
	return o.Stored > 0 && p.Off == o.Off && p.Stored == o.Stored && p.At == o.At+o.Size
}

// appendIndexLine appends what readIndexLine reads behind a line of that place.
func appendIndexLine(b []byte, in Found, last Place) []byte {
	b = hex.AppendEncode(b, in.Sum[:])
	if in.Base.IsZero() && in.Prints == nil && in.follows(last) {
		return fmt.Appendf(b, " %d\n", in.Size)
	}
	next := last.Stored > 0 && in.Off == last.Off+int64(last.Stored)
	if !next || in.At > 0 || !in.Base.IsZero() {
		b = fmt.Appendf(b, " %d", in.Off)
	}
	b = fmt.Appendf(b, " %d %d", in.Stored, in.Size)
	if in.At > 0 || !in.Base.IsZero() {
		b = fmt.Appendf(b, " %d", in.At)
	}
	if !in.Base.IsZero() {
		b = fmt.Appendf(b, " %s", in.Base)
	}
	if in.Prints != nil {
		b = hex.AppendEncode(append(b, " ="...), in.Prints)
	}
	return append(b, '\n')
}

// MaxOver is how many pieces may be stored each over the next before one is stored
// whole again: what reading one costs at most.
const MaxOver = 8

// Table finds places by their hashes: a table of references into the lines of all
// packs, which takes half of what a map does, and nothing to be moved as it grows
// but the references. The zero value is empty. Of lines with one hash one that is
// whole counts before one that is stored over another piece.
type Table struct {
	lines  [][]Held                // by pack
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
func (x *Table) slot(s tree.Sum) int {
	mask := uint64(len(x.table) - 1)
	for i := binary.LittleEndian.Uint64(s[:8]) & mask; ; i = (i + 1) & mask {
		if ref := x.table[i]; ref == 0 || x.at(ref).Sum == s {
			return int(i)
		}
	}
}

func (x *Table) at(ref uint64) *Held { return &x.lines[ref>>32][uint32(ref)-1] }

// base is what the line of a reference is stored over.
func (x *Table) base(ref uint64) (base tree.Sum, over bool) {
	m := x.over[ref>>32]
	if m == nil {
		return base, false
	}
	o, over := m[x.at(ref).Sum]
	return o.base, over
}

// Find tells where a piece lies, and what it is stored over: the zero hash where it is
// whole. One of which the base is not there any more is not there either.
func (x *Table) Find(s tree.Sum) (p Place, base tree.Sum, ok bool) {
	if x.n == 0 {
		return p, base, false
	}
	ref := x.table[x.slot(s)]
	if ref == 0 {
		return p, base, false
	}
	base, over := x.base(ref)
	if !over || x.Depth(base, 1) > 0 {
		return x.at(ref).in(int(ref >> 32)).Place, base, true
	}
	for pack, m := range x.over { // another may have stored it over something else
		if o, is := m[s]; is && x.Depth(o.base, 1) > 0 {
			return x.lines[pack][o.line].in(pack).Place, o.base, true
		}
	}
	return p, base, false
}

// PrintsOf are a piece's prints, nil where it has none.
func (x *Table) PrintsOf(s tree.Sum) []byte {
	if x.n == 0 {
		return nil
	}
	if ref := x.table[x.slot(s)]; ref != 0 {
		return x.prints[ref>>32][s]
	}
	return nil
}

// Chain hears of a piece and then of those that it lies over, each over the next, and
// of each whether it is there.
func (x *Table) Chain(s tree.Sum, each func(s tree.Sum, p Place, ok bool)) {
	for range MaxOver + 1 { // damage might make a ring
		p, base, ok := x.Find(s)
		each(s, p, ok)
		if s = base; s.IsZero() {
			return
		}
	}
}

// Depth is how many pieces a piece lies over, and so many more; 0 where one of them is
// not there, or they are too many.
func (x *Table) Depth(s tree.Sum, more int) int {
	for ; x.n > 0 && more <= MaxOver; more++ {
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

// Grow makes room for so many more.
func (x *Table) Grow(n int) {
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
			x.table[x.slot(x.at(ref).Sum)] = ref
		}
	}
}

// Add takes up the lines of the next pack.
func (x *Table) Add(in *Index) {
	lines := in.Lines
	x.Grow(len(lines))
	pack := uint64(len(x.lines))
	x.lines = append(x.lines, lines)
	x.over, x.prints = append(x.over, nil), append(x.prints, in.Prints)
	for i := range lines {
		sum := lines[i].Sum
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

var errIndexLine = errors.New("it is none of «hash offset stored size at base =prints», «hash stored size " +
	"=prints», «hash size»")

// readIndexLine reads a line that stands behind one of a certain place.
func readIndexLine(b []byte, last Place) (in Found, err error) {
	if len(b) < 2*len(in.Sum) {
		return in, errIndexLine
	}
	if err := in.Sum.UnmarshalText(b[:2*len(in.Sum)]); err != nil {
		return in, err
	}
	rest := b[2*len(in.Sum):]
	if before, prints, some := bytes.Cut(rest, []byte(" =")); some {
		in.Prints = make([]byte, hex.DecodedLen(len(prints)))
		if _, err := hex.Decode(in.Prints, prints); err != nil || len(in.Prints) <= PrintSum {
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
		if err := in.Base.UnmarshalText(rest[1:]); err != nil {
			return in, errIndexLine
		}
	}
	switch {
	case fields >= 3:
	case fields == 2 && last.Stored > 0:
		n = [4]int64{last.Off + int64(last.Stored), n[0], n[1], 0}
	case fields == 1 && last.Stored > 0 && in.Prints == nil:
		n = [4]int64{last.Off, int64(last.Stored), n[0], int64(last.At) + int64(last.Size)}
	default:
		return in, errIndexLine
	}
	if n[0] < 0 || n[0] > math.MaxUint32 || n[1] < 1 || n[1] > 2*frame.Max || n[2] < 0 || n[2] > frame.Max ||
		n[3] < 0 || n[3]+n[2] > frame.Max {
		return in, fmt.Errorf("%q is out of bounds", b)
	}
	in.Place = Place{Off: n[0], Stored: int32(n[1]), Size: int32(n[2]), At: int32(n[3])}
	return in, nil
}
