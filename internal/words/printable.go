// Package words makes text fit for people: here, harmless for their terminals. It
// imports nothing of the project.
//
// It is no protection for HTML or a shell, and it does not
// judge what a text says.
package words

import (
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// MaxLine is how much of one line is shown, in bytes.
const MaxLine = 16 << 10

// sequences are what terminals take for commands (ECMA-48, sections 5.3, 5.4 and
// 8.3.89): control sequences, strings up to their end or the line's, and two-letter
// escapes, each also in its one-byte form.
var sequences = regexp.MustCompile(
	"(?:\x1b\\[|\u009b)[0-?]*[ -/]*[@-~]|(?:\x1b[\\]PX^_]|[\u009d\u0090\u0098\u009e\u009f])[^\x07\x1b\u009c\n]*(?:\x07|\x1b\\\\|\u009c|$)|\x1b[ -/]*[0-~]",
)

// Printable is a text without anything that moves a cursor, sets a title, answers
// for the keyboard or changes the order of reading: sequences for terminals go,
// any other control character and any byte that is not UTF-8 shows as �. Line ends
// and tabs stay. Of a line longer than MaxLine the beginning is shown.
func Printable(s string) string {
	if clean(s) {
		return s
	}
	var b strings.Builder
	for line := range strings.Lines(s) {
		text, ended := strings.CutSuffix(line, "\n")
		text = strings.TrimSuffix(text, "\r")
		text = sequences.ReplaceAllString(text, "")
		if len(text) > MaxLine {
			cut := MaxLine - len(" …")
			for cut > 0 && !utf8.RuneStart(text[cut]) {
				cut--
			}
			text = text[:cut] + " …"
		}
		for _, r := range text { // a byte that is not UTF-8 comes as U+FFFD
			if r != '\t' && hidden(r) {
				r = '\uFFFD'
			}
			b.WriteRune(r)
		}
		if ended {
			b.WriteByte('\n')
		}
	}
	return b.String()
}

// clean tells whether there is nothing to do: most text.
func clean(s string) bool {
	n := 0
	for i := range len(s) {
		if c := s[i]; c >= 0x7f || (c < ' ' && c != '\n' && c != '\t') {
			return false
		}
		if n++; s[i] == '\n' {
			n = 0
		}
		if n > MaxLine {
			return false
		}
	}
	return true
}

// hidden tells of characters that show nothing and do something: controls, and
// those that change the order or the joining of what is read (Unicode Standard
// Annex 9; tags and invisible operators), but for the joiners that scripts need.
func hidden(r rune) bool {
	switch {
	case unicode.IsControl(r), r == '\u2028', r == '\u2029', r == '\ufeff':
		return true
	case r >= '\u202a' && r <= '\u202e', r >= '\u2066' && r <= '\u2069', r == '\u200e', r == '\u200f', r == '\u061c':
		return true
	case r >= '\u2060' && r <= '\u2064', r >= '\U000E0000' && r <= '\U000E007F':
		return true
	}
	return false
}
