package settings

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"freshkeel/internal/placed"
)

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
			d.open(key, from).body = placed.Span{Start: from, End: to}
			d.attributes(key, known, from, to)
			above = append(above, level{key, from, to, false})
		case xml.EndElement:
			n := len(above)
			if n == 0 {
				continue
			}
			l := above[n-1]
			above = above[:n-1]
			if !l.full {
				d.said(l.key, l.start, l.text, from, to)
			}
			d.shut(to)
		}
	}
}

// said takes in the text of an element that holds no others; one that says nothing is a value too, which may be filled.
func (d *Doc) said(key string, start, text, from, to int) {
	s := &d.sections[d.above[len(d.above)-1]]
	closed := from == to && d.text[to-2] == '/' // its end was no tag of its own
	a, b := trimmed(d.text, text, from)
	if a >= b && s.first < len(d.Items) { // its attributes are what it says
		return
	}
	if a >= b {
		a, b = text, text
	}
	name := key
	if s.parent != "" {
		name = key[len(s.parent)+1:]
	}
	d.add(s.parent, name, a, b, start, to).closed = closed
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
