package set

import (
	"bytes"
	"encoding/json"
	"fmt"
	"unicode/utf8"

	"freshkeel/internal/tree"
)

// wideLine carries what JSON can't besides: names that are not UTF-8.
type wideLine struct {
	File
	rawNames
}

// brief is a file as its line has it: without what the rest of it tells.
func (f *File) brief() File {
	b := *f
	if len(f.Pieces) == 1 && f.Pieces[0] == f.Sum {
		b.Pieces = nil
	}
	if f.Inode != 0 && f.Ctime == f.Mtime {
		b.Ctime = 0
	}
	return b
}

// complete is what brief left out.
func complete(f *File) {
	if f.Inode != 0 && f.Ctime == 0 {
		f.Ctime = f.Mtime
	}
	if len(f.Pieces) == 1 && f.Pieces[0] == f.Sum {
		f.Pieces = nil
	}
}

// appendLine appends a file's line, and its line end.
func appendLine(b []byte, file *File) ([]byte, error) {
	f := file.brief()
	if !tree.Plain(f.Path) || !tree.Plain(f.Target) || len(f.Xattr) > 0 {
		line := wideLine{File: f}
		if !utf8.ValidString(f.Path) {
			line.rawNames.Path = []byte(f.Path)
		}
		if !utf8.ValidString(f.Target) {
			line.rawNames.Target = []byte(f.Target)
		}
		text := bytes.NewBuffer(b)
		enc := json.NewEncoder(text)
		enc.SetEscapeHTML(false)
		err := enc.Encode(line)
		return text.Bytes(), err
	}
	b = tree.AppendEntry(b, &f.Entry)
	if !f.Sum.IsZero() {
		b = tree.AppendSum(append(b, `,"sum":`...), &f.Sum)
	}
	for i := range f.Pieces {
		if i == 0 {
			b = append(b, `,"pieces":[`...)
		} else {
			b = append(b, ',')
		}
		b = tree.AppendSum(b, &f.Pieces[i])
	}
	if len(f.Pieces) > 0 {
		b = append(b, ']')
	}
	b = tree.AppendNumber(b, `,"read_at":`, f.ReadAt)
	if f.Moving {
		b = append(b, `,"moving":true`...)
	}
	if f.Sparse {
		b = append(b, `,"sparse":true`...)
	}
	return append(b, "}\n"...), nil
}

// lines reads the lines of a set. Hashes of pieces stand in few large blocks.
type lines struct{ block []tree.Sum }

// all reads every line of a text, appending to out.
func (l *lines) all(text []byte, out []File) ([]File, error) {
	if out == nil {
		out = make([]File, 0, bytes.Count(text, []byte("\n")))
	}
	for n := 1; len(text) > 0; n++ {
		line, rest, _ := bytes.Cut(text, []byte("\n"))
		f, err := l.parse(line)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		out = append(out, f)
		text = rest
	}
	return out, nil
}

// parse reads one line.
func (l *lines) parse(line []byte) (f File, err error) {
	c := tree.Line{Rest: line}
	if l.direct(&c, &f) {
		complete(&f)
		return f, nil
	}
	var w wideLine
	if err := json.Unmarshal(line, &w); err != nil {
		return f, err
	}
	if w.rawNames.Path != nil {
		w.File.Path = string(w.rawNames.Path)
	}
	if w.rawNames.Target != nil {
		w.File.Target = string(w.rawNames.Target)
	}
	complete(&w.File)
	return w.File, nil
}

// direct reads a line of the shape that appendLine writes; false for any other.
func (l *lines) direct(c *tree.Line, f *File) bool {
	if !c.Entry(&f.Entry) {
		*f = File{}
		return false
	}
	if c.Is(`,"sum":"`) {
		c.Sum(&f.Sum)
	}
	if c.Is(`,"pieces":[`) {
		l.pieces(c, f)
	}
	if c.Is(`,"read_at":`) {
		f.ReadAt = c.Signed()
	}
	f.Moving = c.Is(`,"moving":true`)
	f.Sparse = c.Is(`,"sparse":true`)
	if !c.End() {
		*f = File{}
		return false
	}
	return true
}

func (l *lines) pieces(c *tree.Line, f *File) {
	from := len(l.block)
	for {
		var s tree.Sum
		if !c.Is(`"`) {
			c.Bad = true
			return
		}
		c.Sum(&s)
		if len(l.block) == cap(l.block) { // a new block; what was begun moves along
			begun := l.block[from:]
			l.block = append(make([]tree.Sum, 0, max(1024, 2*len(begun))), begun...)
			from = 0
		}
		l.block = append(l.block, s)
		if c.Bad || !c.Is(",") {
			break
		}
	}
	c.Bad = c.Bad || !c.Is("]")
	f.Pieces = l.block[from:len(l.block):len(l.block)]
}
