package placed

import (
	"bytes"

	"github.com/pelletier/go-toml/v2/unstable"
)

// Entry is one expression of a TOML text: a key with its value, or the head of a table.
type Entry struct {
	Path  []string // the words of its key, without quotes
	Table bool     // the head of a table
	Many  bool     // that of one of several tables: [[name]]
	Value Span     // as it is written, without the comment behind it; none of a table
	Parts []Span   // of an array: its elements
	Lines Span     // the whole lines that it stands on
}

// TOML lists the expressions of a text, in their order. It does not hold them against each other: a key that stands twice is
// listed twice.
func TOML(text []byte) ([]Entry, error) {
	var p unstable.Parser
	p.Reset(text)
	var out []Entry
	for p.NextExpression() {
		e := p.Expression()
		if e.Kind == unstable.Comment {
			continue
		}
		one := Entry{Table: e.Kind != unstable.KeyValue, Many: e.Kind == unstable.ArrayTable}
		first, last := -1, 0 // the words of the key, in the text
		for it := e.Key(); it.Next(); {
			raw := it.Node().Raw
			if first < 0 {
				first = int(raw.Offset)
			}
			last = int(raw.Offset + raw.Length)
			one.Path = append(one.Path, string(it.Node().Data))
		}
		end := last
		if !one.Table {
			end = int(e.Raw.Offset + e.Raw.Length)
			one.Value = Trim(text, Span{last + bytes.IndexByte(text[last:], '=') + 1, end})
			one.Parts = parts(text, e.Value())
		}
		one.Lines = Span{LineStart(text, first), LineEnd(text, end)}
		out = append(out, one)
	}
	return out, p.Error()
}

// parts are the elements of an array; none where one of them is an array itself, of which the parser tells no place.
func parts(text []byte, array *unstable.Node) (out []Span) {
	if array.Kind != unstable.Array {
		return nil
	}
	for it := array.Children(); it.Next(); {
		n := it.Node()
		s := Span{int(n.Raw.Offset), int(n.Raw.Offset + n.Raw.Length)}
		switch n.Kind {
		case unstable.Array:
			return nil
		case unstable.InlineTable:
			for inner := n.Children(); inner.Next(); {
				s.End = int(inner.Node().Raw.Offset + inner.Node().Raw.Length)
			}
			close := bytes.IndexByte(text[s.End:], '}')
			if close < 0 {
				return nil
			}
			s.End += close + 1
		}
		out = append(out, s)
	}
	return out
}
