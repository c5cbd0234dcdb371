// Package placed is text and the places in it. What is edited by place leaves every other byte as it stands there.
package placed

import (
	"bytes"
	"iter"
	"slices"
)

// Span is a part of a text, in bytes: from Start, up to End.
type Span struct{ Start, End int }

// None tells whether a span has nothing in it.
func (s Span) None() bool { return s.End <= s.Start }

// Of is what stands in the span.
func (s Span) Of(text []byte) string { return string(text[s.Start:s.End]) }

// Edit puts a text in the place of a span; one of no length puts it before what stands there.
type Edit struct {
	Span
	Text string
}

// Apply makes edits, whatever their order. Those at one place follow each other as they were given, what takes nothing away
// first. An edit that begins within what another one took away has nothing left to change, and is left out.
func Apply(text []byte, edits []Edit) []byte {
	edits = slices.Clone(edits)
	slices.SortStableFunc(edits, func(a, b Edit) int {
		if a.Start == b.Start && a.None() != b.None() {
			if a.None() {
				return -1
			}
			return 1
		}
		return a.Start - b.Start
	})
	var out bytes.Buffer
	at := 0
	for _, e := range edits {
		if e.Start < at {
			continue
		}
		out.Write(text[at:e.Start])
		out.WriteString(e.Text)
		at = e.End
	}
	out.Write(text[at:])
	return out.Bytes()
}

// Line is one line of a text: from From, up to End without its line's end; the next one begins at Next.
type Line struct{ From, End, Next int }

// Lines are the lines of a text from an offset on, at which one begins.
func Lines(text []byte, from int) iter.Seq[Line] {
	return func(yield func(Line) bool) {
		for from < len(text) {
			l := Line{From: from, Next: LineEnd(text, from)}
			for l.End = l.Next; l.End > from && (text[l.End-1] == '\n' || text[l.End-1] == '\r'); l.End-- {
			}
			if !yield(l) {
				return
			}
			from = l.Next
		}
	}
}

// LineStart is where the line begins in which an offset lies.
func LineStart(text []byte, at int) int { return bytes.LastIndexByte(text[:at], '\n') + 1 }

// LineEnd is where the next line begins.
func LineEnd(text []byte, at int) int {
	if i := bytes.IndexByte(text[at:], '\n'); i >= 0 {
		return at + i + 1
	}
	return len(text)
}

// LineOf counts lines, from 1.
func LineOf(text []byte, at int) int { return 1 + bytes.Count(text[:at], []byte("\n")) }

// Trim is a span without the blanks and tabs at its ends.
func Trim(text []byte, s Span) Span {
	for s.Start < s.End && (text[s.Start] == ' ' || text[s.Start] == '\t') {
		s.Start++
	}
	for s.End > s.Start && (text[s.End-1] == ' ' || text[s.End-1] == '\t') {
		s.End--
	}
	return s
}
