package main

import (
	"io"
	"regexp"
	"strings"

	"freshkeel"
)

// harmless is the one way by which text reaches a terminal: what comes from outside
// (a console's lines, a feed's notes, names of files and servers) may hold anything.
// Only this program's own colours pass, and none goes beyond its line.
type harmless struct {
	w      io.Writer
	colour bool
}

// ownColours are the sequences that paint makes (ECMA-48, section 8.3.117).
var ownColours = regexp.MustCompile("\x1b\\[(?:0|1|2|1;31|32|33|36)m")

const colourOff = "\x1b[0m"

func (h *harmless) Write(b []byte) (int, error) {
	_, err := io.WriteString(h.w, h.safe(freshkeel.Masked(string(b))))
	return len(b), err
}

// maskedJSON is the one way by which JSON is printed: a document at a time, without secrets.
type maskedJSON struct{ w io.Writer }

func (m *maskedJSON) Write(b []byte) (int, error) {
	_, err := m.w.Write(freshkeel.MaskedJSON(b))
	return len(b), err
}

func (h *harmless) safe(s string) string {
	if !h.colour {
		return freshkeel.Printable(s)
	}
	var out strings.Builder
	for line := range strings.Lines(s) {
		text, ended := strings.CutSuffix(line, "\n")
		open := false
		for len(text) > 0 {
			at := ownColours.FindStringIndex(text)
			if at == nil {
				out.WriteString(freshkeel.Printable(text))
				break
			}
			out.WriteString(freshkeel.Printable(text[:at[0]]))
			seq := text[at[0]:at[1]]
			out.WriteString(seq)
			open = seq != colourOff
			text = text[at[1]:]
		}
		if open {
			out.WriteString(colourOff)
		}
		if ended {
			out.WriteByte('\n')
		}
	}
	return out.String()
}
