package tree

import (
	"bytes"
	"encoding/hex"
	"io/fs"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Sets and inventories of a large install have hundreds of thousands of lines,
// each of the one shape that is written here. Writing and reading that shape
// directly is some ten times as fast as the JSON package, to which every other
// line is left: a name with a quote in it, keys in another order.

// AppendEntry appends the keys of an entry, as the JSON package would write them,
// and no closing brace. It is for entries whose names are Plain.
func AppendEntry(b []byte, e *Entry) []byte {
	b = append(append(append(b, `{"path":"`...), e.Path...), `","kind":"`...)
	b = append(append(b, e.Kind.String()...), `","mode":`...)
	b = strconv.AppendUint(b, uint64(e.Mode), 10)
	b = strconv.AppendInt(append(b, `,"uid":`...), int64(e.UID.Int()), 10)
	b = strconv.AppendInt(append(b, `,"gid":`...), int64(e.GID.Int()), 10)
	b = AppendNumber(b, `,"size":`, e.Size)
	b = AppendNumber(b, `,"mtime":`, e.Mtime)
	if e.Target != "" {
		b = append(append(append(b, `,"target":"`...), e.Target...), '"')
	}
	if e.Inode != 0 {
		b = strconv.AppendUint(append(b, `,"inode":`...), e.Inode, 10)
	}
	return AppendNumber(b, `,"ctime":`, e.Ctime)
}

// AppendNumber appends a key and a number, and nothing for zero.
func AppendNumber(b []byte, key string, n int64) []byte {
	if n == 0 {
		return b
	}
	return strconv.AppendInt(append(b, key...), n, 10)
}

// AppendSum appends a digest in quotes.
func AppendSum(b []byte, s *Sum) []byte { return append(hex.AppendEncode(append(b, '"'), s[:]), '"') }

// Plain tells whether a string stands in JSON as it is.
func Plain(s string) bool {
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c < 0x20 || c == '"' || c == '\\' || c == 0x7f:
			return false
		case c >= 0x80: // U+2028 and invalid bytes among them
			return utf8.ValidString(s) && !strings.ContainsAny(s, "\u2028\u2029")
		}
	}
	return true
}

// Entry reads what AppendEntry writes; false for any other line.
func (c *Line) Entry(e *Entry) bool {
	if !c.Is(`{"path":"`) {
		return false
	}
	e.Path = c.Text()
	if !c.Is(`,"kind":"`) {
		return false
	}
	switch c.Text() {
	case "file":
		e.Kind = File
	case "dir":
		e.Kind = Dir
	case "link":
		e.Kind = Link
	default:
		return false
	}
	if !c.Is(`,"mode":`) {
		return false
	}
	mode := c.Number()
	e.Mode = fs.FileMode(mode)
	if !c.Is(`,"uid":`) {
		return false
	}
	e.UID = c.ID()
	if !c.Is(`,"gid":`) {
		return false
	}
	e.GID = c.ID()
	if c.Is(`,"size":`) {
		e.Size = c.Signed()
	}
	if c.Is(`,"mtime":`) {
		e.Mtime = c.Signed()
	}
	if c.Is(`,"target":"`) {
		e.Target = c.Text()
	}
	if c.Is(`,"inode":`) {
		e.Inode = c.Number()
	}
	if c.Is(`,"ctime":`) {
		e.Ctime = c.Signed()
	}
	return !c.Bad && mode <= 1<<32-1
}

// End tells whether the line ends here, all of it as expected.
func (c *Line) End() bool { return c.Is("}") && !c.Bad && len(bytes.TrimRight(c.Rest, "\r\n")) == 0 }

// Line reads a line from its front. Bad is set where it is not as expected.
type Line struct {
	Rest []byte
	Bad  bool
}

// Is takes s off the front, if the line goes on with it.
func (c *Line) Is(s string) bool {
	if len(c.Rest) < len(s) || string(c.Rest[:len(s)]) != s {
		return false
	}
	c.Rest = c.Rest[len(s):]
	return true
}

// Text reads to the closing quote; an escape or an odd byte is not its business.
func (c *Line) Text() string {
	i := bytes.IndexByte(c.Rest, '"')
	if i < 0 {
		c.Bad = true
		return ""
	}
	s := string(c.Rest[:i])
	c.Bad = c.Bad || !Plain(s)
	c.Rest = c.Rest[i+1:]
	return s
}

// Number reads digits.
func (c *Line) Number() (n uint64) {
	i := 0
	for ; i < len(c.Rest) && c.Rest[i] >= '0' && c.Rest[i] <= '9'; i++ {
		n = n*10 + uint64(c.Rest[i]-'0')
	}
	if i == 0 || i > 19 || (i > 1 && c.Rest[0] == '0') {
		c.Bad = true
	}
	c.Rest = c.Rest[i:]
	return n
}

// Signed reads digits that may have a minus in front.
func (c *Line) Signed() int64 {
	minus := c.Is("-")
	n := c.Number()
	if n > 1<<63-1 {
		c.Bad = true
	}
	if minus {
		return -int64(n)
	}
	return int64(n)
}

// ID reads the number of a user or a group.
func (c *Line) ID() ID {
	n := c.Signed()
	c.Bad = c.Bad || n < -1 || n >= int64(NoID)
	return ID(uint32(n))
}

// Sum reads a digest and the quote behind it.
func (c *Line) Sum(s *Sum) {
	if len(c.Rest) < 2*len(s)+1 || c.Rest[2*len(s)] != '"' {
		c.Bad = true
		return
	}
	if _, err := hex.Decode(s[:], c.Rest[:2*len(s)]); err != nil {
		c.Bad = true
	}
	c.Rest = c.Rest[2*len(s)+1:]
}
