package locker

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"freshkeel/internal/tree"
)

// lineLength is about how long a line of an index is, in bytes.
const lineLength = 86

// index is what stands in one.
type index struct {
	lines []line
	bad   error // of a line: it is left out
	err   error // it can't be read at all
}

func readIndex(path string) *index {
	b, err := os.ReadFile(path)
	if err != nil {
		return &index{err: err}
	}
	return parseIndex(b)
}

func parseIndex(b []byte) *index {
	x := &index{lines: make([]line, 0, len(b)/lineLength+1)}
	for n := 1; len(b) > 0; n++ {
		text, rest, _ := bytes.Cut(b, []byte("\n"))
		s, p, err := readIndexLine(text)
		if err != nil {
			x.bad = fmt.Errorf("line %d: %w", n, err)
		} else {
			x.lines = append(x.lines, line{s, p})
		}
		b = rest
	}
	return x
}

// writeIndexLine is what readIndexLine reads.
func writeIndexLine(w io.Writer, sum tree.Sum, off int64, stored, size, at int) {
	fmt.Fprintf(w, "%s %d %d %d %d\n", sum, off, stored, size, at)
}

// enter makes a pack's pieces known; called with the lock held.
func (l *Locker) enter(name string, x *index) {
	pack := int32(len(l.packs))
	l.packs, l.known[name] = append(l.packs, name), true
	if len(l.spoilt) > 0 {
		x.lines = slices.DeleteFunc(x.lines, func(ln line) bool { return l.spoilt[fmt.Sprintf("%s %s %d", ln.sum, name, ln.off)] })
	}
	for i := range x.lines {
		x.lines[i].pack = pack
	}
	l.index.add(x.lines)
}

// pieces finds places by their hashes: a table of references into the lines of all
// packs, which takes half of what a map does, and nothing to be moved as it grows
// but the references. The zero value is empty. Of two lines with one hash the later
// counts.
type pieces struct {
	lines [][]line // by pack
	table []uint64 // pack<<32 | line+1; 0: free. Its length is a power of two
	n     int      // in use
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

func (x *pieces) at(ref uint64) *line { return &x.lines[ref>>32][uint32(ref)-1] }

func (x *pieces) find(s tree.Sum) (p place, ok bool) {
	if x.n == 0 {
		return p, false
	}
	if ref := x.table[x.slot(s)]; ref != 0 {
		return x.at(ref).place, true
	}
	return p, false
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
func (x *pieces) add(lines []line) {
	x.grow(len(lines))
	x.lines = append(x.lines, lines)
	for i := range lines {
		at := x.slot(lines[i].sum)
		if x.table[at] == 0 {
			x.n++
		}
		x.table[at] = uint64(len(x.lines)-1)<<32 | uint64(i+1)
	}
}

// each goes through all, in no order.
func (x *pieces) each(do func(tree.Sum, place)) {
	for _, ref := range x.table {
		if ref != 0 {
			ln := x.at(ref)
			do(ln.sum, ln.place)
		}
	}
}

var errIndexLine = errors.New("it is not «hash offset stored size at»")

func readIndexLine(line []byte) (s tree.Sum, p place, err error) {
	if len(line) < 2*len(s) {
		return s, p, errIndexLine
	}
	if err := s.UnmarshalText(line[:2*len(s)]); err != nil {
		return s, p, err
	}
	var n [4]int64
	rest := line[2*len(s):]
	for i := range n {
		if len(rest) == 0 && i == 3 { // a line without «at»
			break
		}
		if len(rest) < 2 || rest[0] != ' ' {
			return s, p, errIndexLine
		}
		digits := 1
		for ; digits < len(rest) && rest[digits] != ' '; digits++ {
			d := rest[digits] - '0'
			if d > 9 || digits > 18 {
				return s, p, errIndexLine
			}
			n[i] = n[i]*10 + int64(d)
		}
		if digits == 1 {
			return s, p, errIndexLine
		}
		rest = rest[digits:]
	}
	if len(rest) > 0 {
		return s, p, errIndexLine
	}
	p = place{off: n[0], stored: int32(n[1]), size: int32(n[2]), at: int32(n[3])}
	if n[0] < 0 || n[1] < 1 || n[1] > 2*maxFrame || n[2] < 0 || n[2] > maxFrame || n[3] < 0 || n[3]+n[2] > maxFrame {
		return s, p, fmt.Errorf("%q is out of bounds", line)
	}
	return s, p, nil
}
