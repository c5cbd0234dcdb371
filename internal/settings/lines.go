package settings

import (
	"bytes"
	"regexp"
	"strings"

	"freshkeel/internal/placed"
)

// eachLine hears of each line: where it begins, where its text ends, and where the next begins.
func (d *Doc) eachLine(each func(from, end, next int) error) error {
	for l := range placed.Lines(d.text, d.mark) {
		if err := each(l.From, l.End, l.Next); err != nil {
			return err
		}
	}
	return nil
}

// trim is a span without the blanks at its ends.
func (d *Doc) trim(from, to int) (int, int) {
	s := placed.Trim(d.text, placed.Span{Start: from, End: to})
	return s.Start, s.End
}

// head is the line of a section: its name in brackets, and a comment behind it or none.
var head = regexp.MustCompile(`^\[([^\]]*)\]\s*(?:[#;].*)?$`)

// readLines reads lines of «key = value» or «key: value», in sections or not. A line of another
// kind is nobody's, and stays.
func readLines(d *Doc) error {
	section, open := "", -1 // the value that goes on
	said := d.mark          // behind the last line that says something
	err := d.eachLine(func(from, end, next int) error {
		a, b := d.trim(from, end)
		s := d.plain[a:b]
		if open >= 0 {
			it := &d.Items[open]
			it.end, it.to, it.Value = b, next, d.plain[it.start:b]
			said = next
			if !goesOn(s) {
				open = -1
			}
			return nil
		}
		switch {
		case s == "" || isComment(s):
		case s[0] == '[' && head.MatchString(s):
			if len(d.above) > 0 {
				d.shut(said)
			}
			section, said = head.FindStringSubmatch(s)[1], next
			d.open(section, from)
		default:
			said = next
			at := separator(s)
			if at < 0 {
				d.unknown(a, b)
				return nil
			}
			va, vb := d.trim(a+at+1, b)
			if c := comment(d.text[va:vb]); c >= 0 {
				va, vb = d.trim(va, va+c)
			}
			d.add(section, strings.TrimSpace(s[:at]), va, vb, from, next)
			if goesOn(s) {
				open = len(d.Items) - 1
			}
		}
		return nil
	})
	if len(d.above) > 0 {
		d.shut(said)
	}
	return err
}

// readWords reads lines of a name, blanks and a value; a name alone is one with no value.
func readWords(d *Doc) error {
	return d.eachLine(func(from, end, next int) error {
		a, b := d.trim(from, end)
		s := d.plain[a:b]
		if s == "" || d.isComment(s) {
			return nil
		}
		at := strings.IndexAny(s, " \t")
		if at < 0 {
			at = len(s)
		}
		va, vb := d.trim(a+at, b)
		if c := comment(d.text[va:vb]); c >= 0 {
			va, vb = d.trim(va, va+c)
		}
		d.add("", s[:at], va, vb, from, next)
		return nil
	})
}

// comment is where a comment begins behind a value, -1 where none does: a sign of one that has a
// blank before it and behind it, and that no quotes are around.
func comment(value []byte) int {
	quote := byte(0)
	for i, c := range value {
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && i == 0:
			quote = c
		case (c == '#' || c == ';') && i > 0 && (value[i-1] == ' ' || value[i-1] == '\t') &&
			(i+1 == len(value) || value[i+1] == ' ' || value[i+1] == '\t'):
			return i
		}
	}
	return -1
}

// readList reads a list of lines: members, bans.
func readList(d *Doc) error {
	return d.eachLine(func(from, end, next int) error {
		a, b := d.trim(from, end)
		if s := d.plain[a:b]; s != "" && !isComment(s) {
			d.add("", "line", a, b, from, next).list = true
		}
		return nil
	})
}

// readBlocks reads blocks of «name { key = value; }», one below the other, with arrays in braces.
func readBlocks(d *Doc) error {
	var above []string
	pending := ""                  // a name whose brace is to come
	array, began, from := "", 0, 0 // an array that goes on over lines
	err := d.eachLine(func(at, end, next int) error {
		a, b := d.trim(at, end)
		s := d.plain[a:b]
		if array != "" {
			if strings.HasSuffix(strings.TrimSuffix(s, ";"), "}") {
				d.add(strings.Join(above, "."), array, began, b-len(s)+len(strings.TrimSuffix(s, ";")), from, next)
				array = ""
			}
			return nil
		}
		switch sep := separator(s); {
		case s == "" || isComment(s):
		case strings.HasPrefix(s, "}"):
			if len(above) == 0 {
				return d.wrong(a, "a block ends here that did not begin")
			}
			above = above[:len(above)-1]
			d.shut(next)
		case sep > 0:
			name := strings.TrimSuffix(strings.TrimSpace(s[:sep]), "[]")
			va, vb := d.trim(a+sep+1, b)
			if c := bytes.Index(d.text[va:vb], []byte("//")); c > 0 && d.text[va+c-1] != ':' {
				va, vb = d.trim(va, va+c)
			}
			if vb > va && d.text[va] == '{' && !bytes.Contains(d.text[va:vb], []byte("}")) {
				array, began, from = name, va, at
				return nil
			}
			if vb > va && d.text[vb-1] == ';' {
				va, vb = d.trim(va, vb-1)
			}
			d.add(strings.Join(above, "."), name, va, vb, at, next)
		case strings.HasSuffix(s, "{"):
			if name := strings.TrimSpace(strings.TrimSuffix(s, "{")); name != "" {
				pending, began = name, at
			}
			if above, pending = append(above, pending), ""; len(above) > maxDepth {
				return d.wrong(a, errDeep.Error())
			}
			d.open(strings.Join(above, "."), began)
		case !strings.HasSuffix(s, ";"):
			pending, began = s, at
		default: // a name, blanks and a value
			name, _, pair := strings.Cut(strings.ReplaceAll(s, "\t", " "), " ")
			if !pair {
				d.unknown(a, b)
				return nil
			}
			va, vb := d.trim(a+len(name), b-1)
			d.add(strings.Join(above, "."), name, va, vb, at, next)
		}
		return nil
	})
	if err == nil && (len(above) > 0 || array != "") {
		err = d.wrong(len(d.text), "a block does not end")
	}
	return err
}

// maxDepth is how deep sections may lie in one another.
const maxDepth = 64
