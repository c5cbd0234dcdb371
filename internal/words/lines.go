package words

import (
	"bytes"
	"strings"
)

// MaxHeard bounds a line that is heard of a console or a log, in bytes. The rest of a longer one is
// dropped up to its end: it never counts as a line of its own, which its writer could have meant it
// to look like.
const MaxHeard = 1 << 20

// Lines takes text apart into lines as it comes, piece by piece. It holds no more than one line.
type Lines struct {
	part []byte
}

// Add tells each the lines that end in b, without their ends.
func (l *Lines) Add(b []byte, each func(line string)) {
	for len(b) > 0 {
		piece, rest, ended := bytes.Cut(b, []byte("\n"))
		b = rest
		if room := MaxHeard - len(l.part); len(piece) > room {
			piece = piece[:room]
		}
		if !ended {
			l.part = append(l.part, piece...)
			return
		}
		line := piece
		if len(l.part) > 0 {
			line = append(l.part, piece...)
		}
		each(strings.TrimRight(string(line), "\r"))
		l.part = l.part[:0]
	}
}

// Rest is what came since the last line's end.
func (l *Lines) Rest() string { return string(l.part) }

// Drop forgets what came since the last line's end.
func (l *Lines) Drop() { l.part = nil }
