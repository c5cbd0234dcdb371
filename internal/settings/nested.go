package settings

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/goccy/go-yaml/parser"
	"github.com/pelletier/go-toml/v2"
)

// readTOML reads TOML: each key is a value, an array or an inline table one value whole.
func readTOML(d *Doc) error {
	var whole map[string]any
	if err := toml.Unmarshal(d.text[d.mark:], &whole); err != nil {
		var bad *toml.DecodeError
		if errors.As(err, &bad) {
			line, column := bad.Position()
			return &Wrong{line, column, strings.TrimPrefix(bad.Error(), "toml: ")}
		}
		return &Wrong{Why: err.Error()}
	}
	section, times := "", map[string]int{}
	skip := 0 // where a value that goes on over lines ends
	return d.eachLine(func(from, end, next int) error {
		if from < skip {
			return nil
		}
		a, b := d.trim(from, end)
		s := string(d.text[a:b])
		switch {
		case s == "" || strings.HasPrefix(s, "#"):
		case strings.HasPrefix(s, "["):
			section = strings.Trim(s[:strings.LastIndexByte(s, ']')+1], "[] ")
			if strings.HasPrefix(s, "[[") { // each table of a list is one of its own
				times[section]++
				section = fmt.Sprintf("%s[%d]", section, times[section])
			}
		default:
			at := strings.IndexByte(s, '=')
			if strings.HasPrefix(s, `"`) || strings.HasPrefix(s, "'") {
				if q := strings.IndexByte(s[1:], s[0]); q >= 0 {
					if at = strings.IndexByte(s[q+2:], '='); at >= 0 {
						at += q + 2
					}
				}
			}
			if at < 0 {
				return nil
			}
			va, _ := d.trim(a+at+1, b)
			vb := tomlEnd(d.text, va)
			last := vb // to the end of the line on which it ends
			if i := bytes.IndexByte(d.text[vb:], '\n'); i >= 0 {
				last = vb + i + 1
			} else {
				last = len(d.text)
			}
			skip = last
			d.add(section, strings.TrimSpace(s[:at]), va, vb, from, max(last, next))
		}
		return nil
	})
}

// tomlEnd is where a value of a valid TOML text ends that begins at a place.
func tomlEnd(text []byte, at int) int {
	depth := 0
	for at < len(text) {
		switch c := text[at]; c {
		case '"', '\'':
			at = quotedEnd(text, at)
			if depth == 0 {
				return at
			}
			continue
		case '[', '{':
			depth++
		case ']', '}':
			if depth--; depth == 0 {
				return at + 1
			}
		case '#', '\n', '\r':
			if depth == 0 {
				for at > 0 && (text[at-1] == ' ' || text[at-1] == '\t') {
					at--
				}
				return at
			}
			if c == '#' {
				for at < len(text) && text[at] != '\n' {
					at++
				}
				continue
			}
		}
		at++
	}
	return at
}

// quotedEnd is where a string ends that begins at a place, with one quote or with three.
func quotedEnd(text []byte, at int) int {
	q := text[at : at+1]
	if three := bytes.Repeat(q, 3); bytes.HasPrefix(text[at:], three) {
		i := bytes.Index(text[at+3:], three)
		if i < 0 {
			return len(text)
		}
		for end := at + 3 + i + 3; ; end++ { // it may end in one or two quotes of its own
			if end >= len(text) || text[end] != q[0] {
				return end
			}
		}
	}
	for i := at + 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && q[0] == '"':
			i++
		case text[i] == q[0]:
			return i + 1
		case text[i] == '\n':
			return i
		}
	}
	return len(text)
}

// readYAML reads YAML as settings have it: keys and values by lines, one below the other by how far
// they are set in. A value that goes on over lines is one value.
func readYAML(d *Doc) error {
	if _, err := parser.ParseBytes(d.text[d.mark:], 0); err != nil {
		return &Wrong{Why: "it is no YAML: " + strings.SplitN(err.Error(), "\n", 2)[0]}
	}
	type level struct {
		in  int
		key string
	}
	var above []level
	open := -1 // the item that goes on while lines are set in further than it
	openIn := 0
	var empty *emptyKey // a key behind which nothing stands: what comes next tells whether something lies below it
	settle := func(in int, item bool) {
		if e := empty; e != nil {
			empty = nil
			if in > e.in || in == e.in && item {
				key := e.name
				if e.parent != "" {
					key = e.parent + "." + e.name
				}
				above = append(above, level{e.in, key})
				return
			}
			d.add(e.parent, e.name, e.at, e.at, e.from, e.next)
		}
	}
	err := d.eachLine(func(from, end, next int) error {
		a, b := d.trim(from, end)
		s := string(d.text[a:b])
		in := a - from
		if open >= 0 && (s == "" || in > openIn) {
			if it := &d.Items[open]; s != "" {
				it.end, it.to, it.Value = b, next, string(d.text[it.start:b])
			}
			return nil
		}
		open = -1
		if s == "" || strings.HasPrefix(s, "#") || strings.HasPrefix(s, "---") || strings.HasPrefix(s, "...") ||
			strings.HasPrefix(s, "%") {
			return nil
		}
		item := s == "-" || strings.HasPrefix(s, "- ") // which may stand as far in as the key of its list
		settle(in, item)
		for n := len(above) - 1; n >= 0 && (above[n].in > in || above[n].in == in && !item); n-- {
			above = above[:n]
		}
		parent := ""
		if len(above) > 0 {
			parent = above[len(above)-1].key
		}
		if s == "-" || strings.HasPrefix(s, "- ") {
			va, vb := d.trim(a+1, b)
			d.add(parent, "-", va, vb, from, next).list = true
			open, openIn = len(d.Items)-1, in
			return nil
		}
		at := yamlColon(s)
		if at < 0 {
			d.unknown(a, b)
			return nil
		}
		name := strings.Trim(s[:at], `"' `)
		va, vb := d.trim(a+at+1, b)
		if c := comment(d.text[va:vb]); c >= 0 {
			va, vb = d.trim(va, va+c)
		}
		if va == vb || d.text[va] == '#' {
			empty = &emptyKey{in, parent, name, a + at + 1, from, next}
			return nil
		}
		d.add(parent, name, va, vb, from, next)
		if c := d.text[va]; c == '|' || c == '>' || c == '[' || c == '{' || c == '"' || c == '\'' {
			open, openIn = len(d.Items)-1, in
		}
		return nil
	})
	settle(-1, false)
	return err
}

// emptyKey is a key of YAML behind which nothing stands on its line.
type emptyKey struct {
	in             int
	parent, name   string
	at, from, next int
}

// yamlColon is where the colon stands behind a key.
func yamlColon(s string) int {
	i := 0
	if s[0] == '"' || s[0] == '\'' {
		if i = strings.IndexByte(s[1:], s[0]) + 2; i < 2 {
			return -1
		}
	}
	for ; i < len(s); i++ {
		if s[i] == ':' && (i+1 == len(s) || s[i+1] == ' ' || s[i+1] == '\t') {
			return i
		}
	}
	return -1
}

// readJSON reads JSON, with comments and with commas too many. A list is one value whole.
func readJSON(d *Doc) error {
	j := &jsonReader{d: d, at: d.mark}
	if err := j.value("", "", 0, -1); err != nil {
		return err
	}
	if err := j.blank(); err != nil {
		return err
	}
	if j.at < len(d.text) {
		return d.wrong(j.at, "something stands behind the end")
	}
	return nil
}

type jsonReader struct {
	d  *Doc
	at int
}

// blank passes over blanks and comments.
func (j *jsonReader) blank() error {
	t := j.d.text
	for j.at < len(t) {
		switch {
		case t[j.at] == ' ' || t[j.at] == '\t' || t[j.at] == '\n' || t[j.at] == '\r':
			j.at++
		case bytes.HasPrefix(t[j.at:], []byte("//")) || t[j.at] == '#':
			if i := bytes.IndexByte(t[j.at:], '\n'); i >= 0 {
				j.at += i
			} else {
				j.at = len(t)
			}
		case bytes.HasPrefix(t[j.at:], []byte("/*")):
			i := bytes.Index(t[j.at:], []byte("*/"))
			if i < 0 {
				return j.d.wrong(j.at, "a comment does not end")
			}
			j.at += i + 2
		default:
			return nil
		}
	}
	return nil
}

// value reads a value; from is where what belongs to it begins, -1 for the whole.
func (j *jsonReader) value(parent, name string, depth, from int) error {
	d, t := j.d, j.d.text
	if err := j.blank(); err != nil {
		return err
	}
	if j.at == len(t) {
		return d.wrong(j.at, "a value is missing")
	}
	if depth > maxDepth {
		return d.wrong(j.at, errDeep.Error())
	}
	start := j.at
	if t[j.at] == '{' {
		key := name
		if parent != "" {
			key = parent + "." + name
		}
		return j.object(key, depth)
	}
	if err := j.pass(depth); err != nil {
		return err
	}
	if from >= 0 {
		d.add(parent, name, start, j.at, from, j.at)
	}
	return nil
}

// object reads what stands in braces.
func (j *jsonReader) object(key string, depth int) error {
	d, t := j.d, j.d.text
	j.at++
	for {
		if err := j.blank(); err != nil {
			return err
		}
		if j.at == len(t) {
			return d.wrong(j.at, "a brace does not end")
		}
		if t[j.at] == '}' {
			j.at++
			return nil
		}
		from := j.at
		if t[j.at] != '"' {
			return d.wrong(j.at, "a name in quotes is expected")
		}
		end := quotedEnd(t, j.at)
		name := string(t[j.at+1 : max(end-1, j.at+1)])
		j.at = end
		if err := j.blank(); err != nil {
			return err
		}
		if j.at == len(t) || t[j.at] != ':' {
			return d.wrong(j.at, "a colon is expected")
		}
		j.at++
		if err := j.value(key, name, depth+1, from); err != nil {
			return err
		}
		if err := j.blank(); err != nil {
			return err
		}
		if j.at < len(t) && t[j.at] == ',' {
			j.at++
		} else if j.at == len(t) || t[j.at] != '}' {
			return d.wrong(j.at, "a comma or a brace is expected")
		}
	}
}

// pass passes over a value that is taken whole.
func (j *jsonReader) pass(depth int) error {
	d, t := j.d, j.d.text
	switch t[j.at] {
	case '"':
		if j.at = quotedEnd(t, j.at); t[j.at-1] != '"' {
			return d.wrong(j.at, "a text does not end")
		}
	case '[', '{':
		closing := map[byte]byte{'[': ']', '{': '}'}[t[j.at]]
		if depth > maxDepth {
			return d.wrong(j.at, errDeep.Error())
		}
		for j.at++; ; {
			if err := j.blank(); err != nil {
				return err
			}
			switch {
			case j.at == len(t):
				return d.wrong(j.at, "a bracket does not end")
			case t[j.at] == closing:
				j.at++
				return nil
			case t[j.at] == ',' || t[j.at] == ':':
				j.at++
			case t[j.at] == ']' || t[j.at] == '}':
				return d.wrong(j.at, "a bracket ends here that did not begin")
			default:
				if err := j.pass(depth + 1); err != nil {
					return err
				}
			}
		}
	default:
		from := j.at
		for j.at < len(t) && !bytes.ContainsRune([]byte(",]}:{[\"/# \t\r\n"), rune(t[j.at])) {
			j.at++
		}
		if j.at == from {
			return d.wrong(j.at, fmt.Sprintf("%q is no value", t[j.at]))
		}
	}
	return nil
}

// readXML reads XML: texts of elements that hold nothing else, and attributes. An element that has
// one called name, key or id is known by that.
func readXML(d *Doc) error {
	dec := xml.NewDecoder(bytes.NewReader(d.text))
	dec.Strict = true
	dec.CharsetReader = oneByte
	type level struct {
		key   string
		start int  // of the element
		text  int  // where its text begins
		full  bool // it holds elements
	}
	var above []level
	for {
		from := int(dec.InputOffset())
		tok, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			line, column := dec.InputPos()
			return &Wrong{line, column, strings.TrimPrefix(err.Error(), "XML syntax error on ")}
		}
		to := int(dec.InputOffset())
		switch e := tok.(type) {
		case xml.StartElement:
			name, parent, known := e.Name.Local, "", ""
			for _, at := range e.Attr {
				if l := strings.ToLower(at.Name.Local); l == "name" || l == "key" || l == "id" {
					known = at.Name.Local
					name += "[" + at.Value + "]"
					break
				}
			}
			if n := len(above); n > 0 {
				parent = above[n-1].key
				above[n-1].full = true
			}
			if len(above) > maxDepth {
				return d.wrong(from, errDeep.Error())
			}
			key := strings.TrimPrefix(parent+"."+name, ".")
			d.attributes(key, known, from, to)
			above = append(above, level{key, from, to, false})
		case xml.EndElement:
			n := len(above)
			if n == 0 {
				continue
			}
			l := above[n-1]
			above = above[:n-1]
			if a, b := trimmed(d.text, l.text, from); !l.full && b > a && from > l.text {
				parent, name := "", l.key
				if i := strings.LastIndexByte(l.key, '.'); i >= 0 && !strings.HasSuffix(l.key, "]") {
					parent, name = l.key[:i], l.key[i+1:]
				}
				d.add(parent, name, a, b, l.start, to)
			}
		}
	}
}

// oneByte lets XML be read that is in an encoding of one byte a letter: where its values stand is
// all that is asked, so that letters beyond ASCII may be any.
func oneByte(charset string, r io.Reader) (io.Reader, error) {
	lower := strings.ToLower(charset)
	for _, family := range []string{"iso-8859-", "latin", "windows-125", "us-ascii", "ascii", "koi8-"} {
		if strings.HasPrefix(lower, family) {
			return plainBytes{r}, nil
		}
	}
	return nil, fmt.Errorf("its encoding, %s, is not read here", charset)
}

// plainBytes has a question mark for each byte beyond ASCII.
type plainBytes struct{ r io.Reader }

func (p plainBytes) Read(b []byte) (int, error) {
	n, err := p.r.Read(b)
	for i := range b[:n] {
		if b[i] >= 0x80 {
			b[i] = '?'
		}
	}
	return n, err
}

// trimmed is a span without white space at its ends.
func trimmed(text []byte, a, b int) (int, int) {
	for a < b && strings.IndexByte(" \t\r\n", text[a]) >= 0 {
		a++
	}
	for b > a && strings.IndexByte(" \t\r\n", text[b-1]) >= 0 {
		b--
	}
	return a, b
}

// attributes adds those of an element but the one that it is known by.
func (d *Doc) attributes(key, known string, from, to int) {
	t := d.text
	at := from
	for at < to && strings.IndexByte(" \t\r\n/>", t[at]) < 0 {
		at++
	}
	for at < to {
		eq := bytes.IndexByte(t[at:to], '=')
		if eq < 0 {
			return
		}
		a, b := trimmed(t, at, at+eq)
		v := at + eq + 1
		for v < to && strings.IndexByte(" \t\r\n", t[v]) >= 0 {
			v++
		}
		if v >= to || (t[v] != '"' && t[v] != '\'') {
			return
		}
		end := bytes.IndexByte(t[v+1:to], t[v])
		if end < 0 {
			return
		}
		if name := string(t[a:b]); name != known {
			d.add(key, "@"+name, v+1, v+1+end, a, v+1+end+1)
		}
		at = v + 1 + end + 1
	}
}
