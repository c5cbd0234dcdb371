package proof

import (
	"errors"
	"regexp"
	"strconv"
	"strings"
)

// These readers are of formats that no library has. They are written from what the formats are, and share nothing with
// the reader of the merge.

// header is a section's line: its name in brackets, and a comment behind it or none.
var header = regexp.MustCompile(`^\[([^\]]*)\]\s*(?:[#;].*)?$`)

// keyed is a key, a sign and a value.
var keyed = regexp.MustCompile(`^([^=:]+?)\s*(?:=|:(?:\s|$)|:)\s*(.*)$`)

// readLines reads keys and values by lines, in sections or not. A section that stands twice is two; a line that is nothing
// of this says itself.
func readLines(v Values, text string) {
	section, times := "", map[string]int{}
	lines := strings.Split(text, "\n")
	for i := 0; i < len(lines); i++ {
		s := strings.TrimSpace(lines[i])
		if s == "" || isComment(s) {
			continue
		}
		for odd(s) && i+1 < len(lines) { // it goes on, as in properties
			i++
			s = strings.TrimSuffix(s, "\\") + "\n" + strings.TrimSpace(lines[i])
		}
		if m := header.FindStringSubmatch(s); m != nil {
			section = m[1]
			if times[section]++; times[section] > 1 {
				section += "#" + strconv.Itoa(times[section])
			}
			continue
		}
		m := keyed.FindStringSubmatch(strings.ReplaceAll(s, "\n", "\x00"))
		if m == nil || strings.ContainsAny(m[1], "\"'{}()") {
			v.put(below(section, "bare[]"), s)
			continue
		}
		v.put(below(section, m[1]), value(m[2]))
	}
}

// odd tells whether a line ends in a backslash that no other one takes its meaning from.
func odd(s string) bool { return (len(s)-len(strings.TrimRight(s, `\`)))%2 == 1 }

// behind is a comment behind a value.
var behind = regexp.MustCompile(`\s+[#;](\s.*)?$`)

// value is a value without a comment behind it, and without quotes around all of it.
func value(s string) string {
	if len(s) > 1 && (s[0] == '"' || s[0] == '\'') {
		if end := strings.IndexByte(s[1:], s[0]); end >= 0 {
			if rest := strings.TrimSpace(s[end+2:]); rest == "" || isComment(rest) {
				return s[1 : end+1]
			}
		}
	}
	return strings.TrimSpace(behind.ReplaceAllString(s, ""))
}

// blocks is a text of blocks that is read letter by letter.
type blocks struct {
	text string
	at   int
}

var errBlock = errors.New("a block does not end, or ends that did not begin")

// readBlocks reads «name { key = value; … }», one in the other, with arrays in braces.
func readBlocks(v Values, text string) error {
	b := &blocks{text: text}
	if err := b.inside(v, "", false); err != nil {
		return err
	}
	if b.at < len(b.text) {
		return errBlock
	}
	return nil
}

// blank passes over blanks and comments.
func (b *blocks) blank() {
	for b.at < len(b.text) {
		rest := b.text[b.at:]
		switch {
		case strings.ContainsRune(" \t\n;", rune(rest[0])):
			b.at++
		case strings.HasPrefix(rest, "#"), strings.HasPrefix(rest, "//"):
			b.line()
		default:
			return
		}
	}
}

// line passes over the rest of the line.
func (b *blocks) line() {
	line, _, _ := strings.Cut(b.text[b.at:], "\n")
	b.at += len(line)
}

func (b *blocks) inside(v Values, path string, within bool) error {
	for {
		b.blank()
		switch {
		case b.at == len(b.text):
			if within {
				return errBlock
			}
			return nil
		case b.text[b.at] == '}':
			if !within {
				return errBlock
			}
			b.at++
			return nil
		}
		from := b.at
		for b.at < len(b.text) && !strings.ContainsRune("={}\n;:", rune(b.text[b.at])) {
			b.at++
		}
		name := strings.TrimSuffix(strings.TrimSpace(b.text[from:b.at]), "[]")
		sign := byte(0)
		if b.at < len(b.text) {
			sign = b.text[b.at]
		}
		if sign == '\n' { // the brace may stand on the next line
			was := b.at
			if b.blank(); b.at < len(b.text) && b.text[b.at] == '{' {
				sign = '{'
			} else {
				b.at = was
			}
		}
		switch sign {
		case '{':
			b.at++
			v.put(below(path, name)+" block", "")
			if err := b.inside(v, below(path, name), true); err != nil {
				return err
			}
		case '=', ':':
			b.at++
			if b.opens() { // a block by another sign
				v.put(below(path, name)+" block", "")
				if err := b.inside(v, below(path, name), true); err != nil {
					return err
				}
				continue
			}
			v.put(below(path, name), b.value())
		default:
			v.put(below(path, "bare[]"), name)
		}
	}
}

// opens passes over a brace behind the sign where keys and values stand in it; an array of words is a value.
func (b *blocks) opens() bool {
	rest := strings.TrimLeft(b.text[b.at:], " \t")
	inner, _, closed := strings.Cut(rest, "}")
	if !closed || !strings.HasPrefix(inner, "{") || !strings.ContainsAny(inner, "=:") {
		return false
	}
	b.at = len(b.text) - len(rest) + len("{")
	return true
}

// value is what stands behind the sign: to the end of the line, or to the brace that ends an array.
func (b *blocks) value() string {
	rest := strings.TrimLeft(b.text[b.at:], " \t")
	b.at = len(b.text) - len(rest)
	if inner, _, closed := strings.Cut(rest, "}"); closed && strings.HasPrefix(inner, "{") {
		b.at += len(inner) + len("}")
		return strings.Join(strings.Fields(inner+"}"), " ")
	}
	from, deep := b.at, 0
	quote := byte(0)
	for ; b.at < len(b.text) && b.text[b.at] != '\n'; b.at++ {
		c := b.text[b.at]
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '{': // of a variable in the value
			deep++
		case c == '}' && deep > 0:
			deep--
		case c == ';', c == '}', strings.HasPrefix(b.text[b.at:], "//") && !strings.HasSuffix(b.text[:b.at], ":"):
			s := strings.TrimSpace(b.text[from:b.at])
			if c == '/' {
				b.line()
			}
			return value(s)
		}
	}
	return value(strings.TrimSpace(b.text[from:b.at]))
}
